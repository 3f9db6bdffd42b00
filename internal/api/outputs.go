package api

import "time"

// Outputs are the fans, lights and pins that can be set.
type Outputs struct {
	Outputs []Output `json:"outputs"`
}

// Output is one of them.
type Output struct {
	Name   string     `json:"name"`
	Kind   string     `json:"kind" enum:"fan,light,pin"`
	Levels bool       `json:"levels" doc:"It has levels between off and full"`
	Level  *float64   `json:"level,omitempty" doc:"%, as it was last set; left out: it was not since the printer began"`
	By     string     `json:"by,omitempty" doc:"Who set it: a person or program, a file, a routine, a line that was typed"`
	At     *time.Time `json:"at,omitempty"`
}

// OutputLevel is what an output is set to.
type OutputLevel struct {
	Level float64 `json:"level" minimum:"0" maximum:"100" doc:"%; of what has no levels anything above 0 is on"`
}
