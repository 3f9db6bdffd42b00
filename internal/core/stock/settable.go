package stock

import (
	"diathermon/internal/core/heat"
	"diathermon/internal/core/settable"
)

// What can be said of what is in a slot.
var (
	Material = settable.Field{Name: "material", Word: "Material", About: "as its maker calls it, such as PLA", Longest: 40}
	Colour   = settable.Field{Name: "colour", Word: "Colour", About: "as #rrggbb", Longest: 7}
	Diameter = settable.Field{
		Name: "diameter_mm", Word: "Diameter", Unit: "mm", About: "diameter of the filament",
		Least: 0.5, Most: 10, Zero: unsaid,
	}
	Coldest = settable.Field{
		Name: "coldest", Word: "Nozzle from", Unit: "°C", About: "the coldest that its nozzle may be",
		Least: 1, Most: heat.MostNozzle, Zero: unsaid,
	}
	Hottest = settable.Field{
		Name: "hottest", Word: "Nozzle to", Unit: "°C", About: "the hottest that its nozzle may be",
		Least: 1, Most: heat.MostNozzle, Zero: unsaid,
	}
)

const unsaid = "not said"

// Settable are all of them.
func Settable() []settable.Field {
	return []settable.Field{Material, Colour, Diameter, Coldest, Hottest}
}
