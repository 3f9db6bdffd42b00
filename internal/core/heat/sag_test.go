package heat_test

import (
	"math"
	"math/rand/v2"
	"slices"
	"testing"

	"diathermon/internal/core/heat"
)

// sagPart is where a Need keeps the share of its power that is missing while the others draw.
const sagPart = 7

func TestTheSagOfASupplyIsNotMistakenForRoomOrSoak(t *testing.T) {
	off := map[heat.Heater][]float64{}
	each(10, func(seed uint64) func() {
		c := rough()(seed + 700)
		w, rng := newWatched(c), rand.New(rand.NewPCG(seed, 12))
		for range 2 {
			w.live(rng)
		}
		return func() {
			if !tellsDuty(c) {
				return
			}
			for h, share := range map[heat.Heater]float64{heat.Nozzle: 1, heat.Bed: 0.3} {
				if n := w.needs[h].Kept(); n.Seen > 0 {
					off[h] = append(off[h], math.Abs(n.Mean[sagPart]-share*c.House.Sag))
				}
			}
		}
	})
	for h, all := range off {
		slices.Sort(all)
		if median, most := all[len(all)/2], all[len(all)-1]; len(all) < 6 || median > 0.06 || most > 0.3 {
			t.Errorf("%s: on %d printers the sag that was learned is off by %.2f in the median and %.2f at the most", h, len(all), median, most)
		} else {
			t.Logf("%s: %d printers, median %.3f, most %.3f", h, len(all), median, most)
		}
	}
}
