package api

// Description is what a person says of a printer. What is left out stays as it is.
type Description struct {
	Device           *string  `json:"device,omitempty" maxLength:"200" doc:"Path of its port; empty: the only one there"`
	Name             *string  `json:"name,omitempty" minLength:"1" maxLength:"40" example:"Vesper"`
	Colour           *string  `json:"colour,omitempty" doc:"By which it is told from its neighbours, #rrggbb; empty: none" example:"#3f6f9c"`
	Width            *float64 `json:"width,omitempty" doc:"mm that X goes"`
	Depth            *float64 `json:"depth,omitempty" doc:"mm that Y goes"`
	Height           *float64 `json:"height,omitempty" doc:"mm that Z goes"`
	Tools            *int     `json:"tools,omitempty" minimum:"1" maximum:"16"`
	Slots            *int     `json:"slots,omitempty" minimum:"0" maximum:"16" doc:"Where filament is loaded; 0: as many as tools"`
	NozzleDiameter   *float64 `json:"nozzle_diameter,omitempty" doc:"mm"`
	FilamentDiameter *float64 `json:"filament_diameter,omitempty" doc:"mm"`
	FilamentDensity  *float64 `json:"filament_density,omitempty" doc:"g/cm³"`
	FilamentPrice    *float64 `json:"filament_price,omitempty" doc:"Of a kilogram; 0: not said"`
	Currency         *string  `json:"currency,omitempty" maxLength:"8"`
	LimitNozzle      *float64 `json:"limit_nozzle,omitempty" doc:"Highest setpoint, °C"`
	LimitBed         *float64 `json:"limit_bed,omitempty" doc:"°C; 0: it is not heated"`
	LimitChamber     *float64 `json:"limit_chamber,omitempty" doc:"°C; 0: it is not heated"`
}

// DescribePrinter says more of it.
type DescribePrinter struct {
	Description
	Guide *Guide `json:"guide,omitempty"`
}

// Guide is how far a person has been led through describing the printer.
type Guide struct {
	State string `json:"state" enum:"open,later,done" doc:"Nobody has been led through it; it was put off; it is done"`
	Step  int    `json:"step,omitempty" minimum:"0" maximum:"20" doc:"The step that was left last, from 1"`
}

// Described is how the printer is described, and by whom.
type Described struct {
	Printer Description       `json:"printer" doc:"All of it, as it holds after the next start"`
	By      map[string]string `json:"by" doc:"Who decides each: file (diathermon.toml or the command line) goes before setup, that before what is ordinary"`
	Told    Description       `json:"told" doc:"What the printer tells of itself"`
	Waits   bool              `json:"waits" doc:"Something of it holds only once it is taken up"`
	Guide   Guide             `json:"guide"`
}
