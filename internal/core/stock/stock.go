// Package stock turns lengths of filament into mass.
//
// Spools, slots and cost will live here too.
package stock

import "math"

// Mass returns the grams of a length of filament in millimetres, of a diameter
// in millimetres and a density in g/cm³.
func Mass(length, diameter, density float64) float64 {
	volume := math.Pi / 4 * diameter * diameter * length // mm³
	return volume / 1000 * density
}
