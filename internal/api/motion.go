package api

// Motion is where the head is going, and whether it can be moved by hand.
type Motion struct {
	Going bool    `json:"going" doc:"It is being moved by hand, or something of that waits"`
	X     float64 `json:"x" doc:"mm, where it ends; where nothing goes on, where it was sent last; 0 while it is not free"`
	Y     float64 `json:"y" doc:"mm"`
	Z     float64 `json:"z" doc:"mm"`
	Homed string  `json:"homed" doc:"The axes of which it is known where they are, of XYZ" example:"XYZ"`
	Free  bool    `json:"free" doc:"It can be moved by hand now"`
	Why   string  `json:"why,omitempty" doc:"Not"`
}

// Press moves the head or the filament. Presses that come while the printer is at one add
// up.
type Press struct {
	By    *Axes    `json:"by,omitempty" doc:"How far, mm"`
	To    *Axes    `json:"to,omitempty" doc:"Where to, mm; of E there is none"`
	Speed *float64 `json:"speed,omitempty" doc:"mm/s; slower axes go as fast as they may" exclusiveMinimum:"0"`
}

// Axes are lengths along axes, mm; what is left out stays.
type Axes struct {
	X *float64 `json:"x,omitempty"`
	Y *float64 `json:"y,omitempty"`
	Z *float64 `json:"z,omitempty"`
	E *float64 `json:"e,omitempty" doc:"Filament; forward above 0"`
}

// Home names axes.
type Home struct {
	Axes string `json:"axes,omitempty" pattern:"^[XYZ]*$" maxLength:"3" doc:"Of XYZ; without any, all" example:"XY"`
}

// Endstops are what the printer's switches say.
type Endstops struct {
	Endstops []Endstop `json:"endstops"`
}

// Endstop is a switch.
type Endstop struct {
	Name      string `json:"name" doc:"As the firmware has it" example:"x_min"`
	Triggered bool   `json:"triggered"`
	Says      string `json:"says" doc:"As the firmware has it"`
}
