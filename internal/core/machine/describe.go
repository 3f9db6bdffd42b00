package machine

import "errors"

// A Description is what a person has said of a printer. What is nil nobody has said.
type Description struct {
	Device         *string  `json:",omitempty"`
	Name           *string  `json:",omitempty"`
	Colour         *string  `json:",omitempty"`
	Width          *float64 `json:",omitempty"`
	Depth          *float64 `json:",omitempty"`
	Height         *float64 `json:",omitempty"`
	HottestNozzle  *float64 `json:",omitempty"`
	HottestBed     *float64 `json:",omitempty"`
	HottestChamber *float64 `json:",omitempty"`
	Nozzle         *float64 `json:",omitempty"`
	Tools          *int     `json:",omitempty"`
	Slots          *int     `json:",omitempty"`
	Filament       *float64 `json:",omitempty"`
	Density        *float64 `json:",omitempty"`
	Price          *float64 `json:",omitempty"`
	Currency       *string  `json:",omitempty"`
}

// Over returns what has been said before with what is said now in its place.
func (d Description) Over(before Description) Description {
	for _, a := range Aspects {
		a.over(&d, &before)
	}
	return d
}

// Described is how a printer is described, and by whom.
type Described struct {
	Now   Description        // all of it, as it is after the next start
	By    map[string]Decider // by the names of aspects
	Waits bool               // it differs from what the service runs with
	Told  Description        // what the printer tells of itself; what it does not tell is nil
	Guide Guide
}

// A Decider is who decides something of a printer.
type Decider string

// The deciders, the first that says something before the others.
const (
	ByFile   Decider = "file"     // diathermon.toml or the command line
	BySetup  Decider = "setup"    // a person, in Setup
	ByNobody Decider = "ordinary" // nobody: it is as printers are
)

// Guide is how far a person has been led through describing the printer.
type Guide struct {
	State GuideState
	Step  int // that was left last, from 1; 0: none yet
}

// GuideState is whether a guide is offered.
type GuideState string

// The states.
const (
	GuideOpen  GuideState = "open"  // nobody has been led through it
	GuideLater GuideState = "later" // somebody has put it off
	GuideDone  GuideState = "done"
)

// Errors that callers tell apart.
var (
	ErrDescription = errors.New("a printer cannot be so")
	ErrDecided     = errors.New("this is decided elsewhere")
)
