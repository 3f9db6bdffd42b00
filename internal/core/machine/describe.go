package machine

import "errors"

// A Description is what a person has said of a printer. What is nil nobody has said.
type Description struct {
	Device   *string `json:",omitempty"` // path of its port; empty: the only one there
	Name     *string `json:",omitempty"`
	Colour   *string `json:",omitempty"` // #rrggbb by which it is told from its neighbours; empty: none
	Currency *string `json:",omitempty"`

	Width    *float64 `json:",omitempty"` // mm
	Depth    *float64 `json:",omitempty"`
	Height   *float64 `json:",omitempty"`
	Nozzle   *float64 `json:",omitempty"` // diameters, mm
	Filament *float64 `json:",omitempty"`
	Density  *float64 `json:",omitempty"` // g/cm³
	Price    *float64 `json:",omitempty"` // of a kilogram

	HottestNozzle  *float64 `json:",omitempty"` // limits, °C; 0: there is no such heater
	HottestBed     *float64 `json:",omitempty"`
	HottestChamber *float64 `json:",omitempty"`

	Tools *int `json:",omitempty"`
	Slots *int `json:",omitempty"`
}

// Over returns what has been said before with what is said now in its place.
func (d Description) Over(before Description) Description {
	over(&d.Device, before.Device)
	over(&d.Name, before.Name)
	over(&d.Colour, before.Colour)
	over(&d.Currency, before.Currency)
	over(&d.Width, before.Width)
	over(&d.Depth, before.Depth)
	over(&d.Height, before.Height)
	over(&d.Nozzle, before.Nozzle)
	over(&d.Filament, before.Filament)
	over(&d.Density, before.Density)
	over(&d.Price, before.Price)
	over(&d.HottestNozzle, before.HottestNozzle)
	over(&d.HottestBed, before.HottestBed)
	over(&d.HottestChamber, before.HottestChamber)
	over(&d.Tools, before.Tools)
	over(&d.Slots, before.Slots)
	return d
}

func over[T any](now **T, before *T) {
	if *now == nil {
		*now = before
	}
}

// Told is what a printer tells of itself that a person would describe. What it does not
// tell is nil.
type Told struct {
	Name                 *string
	Width, Depth, Height *float64 // mm: the highest that its axes go to
	Filament             *float64 // mm
	Tools                *int
}

// Described is how a printer is described, and by whom.
type Described struct {
	Now   Description        // all of it, as it is after the next start
	By    map[string]Decider // by the key of the configuration file, without "printer."
	Waits bool               // it differs from what the service runs with
	Told  Told
	Guide Guide
}

// A Decider is who decides something of a printer.
type Decider string

// The deciders, the first that says something before the others.
const (
	ByFile   Decider = "file"     // diathermon.toml or the command line
	BySetup  Decider = "setup"    // a person, in Setup
	Ordinary Decider = "ordinary" // nobody: it is as printers are
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
