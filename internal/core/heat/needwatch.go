package heat

import (
	"math"
	"time"
)

// A NeedWatch follows what duty a heater needs to hold its temperature, and says what
// that speaks of: filament that does not flow, and a heater that needs more and more.
//
// Molten filament carries heat away, by a share that the nozzle's Need knows. Stretch
// by stretch the watch carries on three claims, "what the file asks for flows", "since
// then nothing flows" and "all flows, and what the heater loses went back to what it was
// before it grew", each with all that it makes of room, fan and supply, and compares
// how likely they made what came: Page's cumulative sum test (E. S. Page, Continuous
// Inspection Schemes, Biometrika 41, 1954) of Kalman filters. Where room or fan
// explain what came as well, neither wins.
type NeedWatch struct {
	Need Need // as of the claim that all flows

	gathers stretcher
	growth  growth
	levels  []level // of the last hours, the oldest first
	none    Need    // of the claim that nothing flows
	back    Need    // of the claim that all flows, and that the heater's loss went back to what it was
	against float64 // what speaks for none against that, as a logarithm
	before  Need    // Need, before anything spoke against the flow
	sum     float64 // the test's cumulative sum
	counts  float64 // share of the stretches that count
	missing float64 // heat that the file's flow should have taken of late and did not, as a share of it
	asked   float64 // mm³/s of late
	enough  bool
	alarm   bool
}

// Note takes a reading and the conditions that the file asks for; a flow that nobody
// knows is NaN.
func (w *NeedWatch) Note(at time.Duration, r Reading, c Conditions) {
	if w.asked = c.Flow; math.IsNaN(c.Flow) {
		w.asked = 0
	}
	begins, holds, over := w.gathers.note(at, r, c)
	switch {
	case !holds:
		w.Forget()
		w.growth = growth{}
	case begins:
		w.Forget()
		w.growth = growth{}
		if w.Need.Seen == 0 {
			w.Need = newNeed(w.gathers.kind)
		}
		w.Need.begin()
		w.none, w.before = w.Need, w.Need
	case over:
		s := w.gathers.take()
		w.Need.passes()
		w.none.passes()
		w.back.passes()
		if w.counts *= 0.9; s.settled {
			w.counts += 0.1
			w.growth.note(w.gathers.kind, &w.Need, s)
			w.keepLevel(s.at)
			w.weigh(s)
		}
	}
	if n := len(w.gathers.past); n > 1 {
		w.asked = meanFlow(w.gathers.past, w.gathers.past[n-1].at-nozzleNeed.stretch, w.gathers.past[n-1].at)
	}
}

// keepLevel keeps what the heater needs at a time, s.
func (w *NeedWatch) keepLevel(at float64) {
	for len(w.levels) > 0 && (at-w.levels[0].at > levelsKept || at < w.levels[0].at) {
		w.levels = w.levels[1:]
	}
	if late, _ := w.growth.level(); late > 0 {
		w.levels = append(w.levels, level{at, w.Need.Mean[needLoss], late})
	}
}

// Kept is what has been learned, without what may be a fault.
func (w *NeedWatch) Kept() Need {
	if w.sum > flowDoubt {
		return w.before
	}
	return w.Need
}

// Growth is by what share more duty the heater needs than it did in this run, for what
// is no fan, filament or supply.
func (w *NeedWatch) Growth() Growth {
	if w.gathers.kind == nil {
		return Growth{}
	}
	return w.growth.of(w.gathers.kind)
}
