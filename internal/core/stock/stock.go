// Package stock turns lengths of filament into mass, and says what can be loaded in a
// slot.
//
// Spools and cost will live here too.
package stock

import "math"

// Volume returns the mm³ of a length of filament, of a diameter, both in millimetres.
func Volume(length, diameter float64) float64 { return math.Pi / 4 * diameter * diameter * length }

// Mass returns the grams of a length of filament in millimetres, of a diameter
// in millimetres and a density in g/cm³.
func Mass(length, diameter, density float64) float64 {
	return Volume(length, diameter) / 1000 * density
}
