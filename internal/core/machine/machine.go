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

// A Printer is one machine.
type Printer struct {
	Name                 string
	Colour               string  // #rrggbb by which it is told from its neighbours; empty: none
	Width, Depth, Height float64 // mm that X, Y and Z go, from 0
	Tools                int
	Slots                int // where filament is loaded; 0: as many as tools
	Limits               heat.Limits
	Nozzle, Filament     float64 // diameters, mm
	Density              float64 // of the filament, g/cm³
	Price                float64 // of a kilogram of it; 0: not said
	Currency             string  // of Price
	Outputs              []Output
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
