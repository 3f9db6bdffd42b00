package api

// Description is what a person says of a printer. What is left out stays as it is.
type Description struct {
	Device         *string  `json:"device,omitempty"`
	Name           *string  `json:"name,omitempty" minLength:"1" example:"Vesper"`
	Colour         *string  `json:"colour,omitempty" example:"#3f6f9c"`
	Width          *float64 `json:"width,omitempty"`
	Depth          *float64 `json:"depth,omitempty"`
	Height         *float64 `json:"height,omitempty"`
	HottestNozzle  *float64 `json:"limit_nozzle,omitempty"`
	HottestBed     *float64 `json:"limit_bed,omitempty"`
	HottestChamber *float64 `json:"limit_chamber,omitempty"`
	Nozzle         *float64 `json:"nozzle_diameter,omitempty"`
	Tools          *int     `json:"tools,omitempty"`
	Slots          *int     `json:"slots,omitempty"`
	Filament       *float64 `json:"filament_diameter,omitempty"`
	Density        *float64 `json:"filament_density,omitempty"`
	Price          *float64 `json:"filament_price,omitempty"`
	Currency       *string  `json:"currency,omitempty"`
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
