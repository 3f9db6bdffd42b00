// Package machine is what the keeper has said of a printer: its name, its size, its
// tools, its heaters and what they may be set to.
//
// It leaves to bounds, preflight and heat what follows from that.
package machine

import (
	"diathermon/internal/core/bounds"
	"diathermon/internal/core/heat"
)

// Unnamed is the name of a printer to which nobody has given one.
const Unnamed = "Printer"

// Ordinary is a plain machine, which holds where nothing else is said. A keeper raises its
// limits.
var Ordinary = Printer{
	Name: Unnamed, Width: 220, Depth: 220, Height: 250, Tools: 1,
	Nozzle: 0.4, Filament: 1.75, Density: 1.24, Limits: heat.Limits{Nozzle: 260, Bed: 100},
}

// A Printer is one machine, as it stands below [printer] in the configuration file. What
// there is to say of its fields is in Aspects.
type Printer struct {
	Name     string      `toml:"name"`
	Colour   string      `toml:"colour"`
	Width    float64     `toml:"width"`
	Depth    float64     `toml:"depth"`
	Height   float64     `toml:"height"`
	Tools    int         `toml:"tools"`
	Slots    int         `toml:"slots"`
	Limits   heat.Limits `toml:"limits"`
	Nozzle   float64     `toml:"nozzle_diameter"`
	Filament float64     `toml:"filament_diameter"`
	Density  float64     `toml:"filament_density"`
	Price    float64     `toml:"filament_price"`
	Currency string      `toml:"currency"`
	Outputs  []Output    `toml:"outputs"`
}

// Size is how far the axes go, in mm.
func (p Printer) Size() [3]float64 { return [3]float64{p.Width, p.Depth, p.Height} }

// Places is how many places filament is loaded in.
func (p Printer) Places() int { return max(p.Tools, p.Slots) }

// Bounds is what lines are judged by.
func (p Printer) Bounds() bounds.Machine { return bounds.Machine{Size: p.Size(), Limits: p.Limits} }

// Heaters lists the heaters that the machine has, nozzles first.
func (p Printer) Heaters() []heat.Heater {
	names := make([]heat.Heater, 0, p.Tools+2)
	for tool := range p.Tools {
		names = append(names, heat.NozzleOf(tool))
	}
	if p.Limits.Bed > 0 {
		names = append(names, heat.Bed)
	}
	if p.Limits.Chamber > 0 {
		names = append(names, heat.Chamber)
	}
	return names
}

// Has reports whether the machine has a heater.
func (p Printer) Has(h heat.Heater) bool {
	if tool, ok := h.Tool(); ok && tool >= p.Tools {
		return false
	}
	return p.Limits.Of(h) > 0
}
