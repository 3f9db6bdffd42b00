package heat

import (
	"math"
	"slices"
)

// Ways are what ordinary life has shown of one heater: how far it has gone in what a
// guard looks at. They are learned a while after the fact, and not from what a guard
// has raised an alarm about.
type Ways struct {
	Most      float64   // the most duty it was given
	Overshoot float64   // K beyond a setpoint that it had come to from below
	Carry     float64   // K by which it went on rising without duty
	Fall      float64   // K by which it fell within a guard's short window
	Drop      float64   // and while its duty did not let up
	Stand     float64   // s for which it read the same to the last digit while it was on
	Moved     float64   // and while its duty moved
	Step      float64   // K by which its readings go while it holds; 0: not known
	Grew      float64   // K that it would have been hotter by than it read, by what duty it needed
	Slowest   []float64 // K/s at full duty, the slowest time through each riseBand; 0: never seen
}

// What is believed of a heater at the most, in K and s: more is a fault that nobody
// noticed.
const (
	mostOvershoot = 30.0
	mostCarry     = 40.0
	mostFall      = 60.0
	mostStand     = 300.0
	mostGrew      = 25.0
	riseBand      = 8.0 // K of a band of Rises
)

// with is what two Ways show together.
func (w Ways) with(o Ways) Ways {
	w.Most = max(w.Most, o.Most)
	w.Overshoot = min(max(w.Overshoot, o.Overshoot), mostOvershoot)
	w.Carry = min(max(w.Carry, o.Carry), mostCarry)
	w.Fall, w.Drop = min(max(w.Fall, o.Fall), mostFall), min(max(w.Drop, o.Drop), mostFall)
	w.Grew = min(max(w.Grew, o.Grew), mostGrew)
	w.Stand, w.Moved = min(max(w.Stand, o.Stand), mostStand), min(max(w.Moved, o.Moved), mostStand)
	if o.Step > 0 {
		w.Step = o.Step
	}
	w.Slowest = slices.Clone(w.Slowest)
	for band, speed := range o.Slowest {
		w.note(band, speed)
	}
	return w
}

// note takes one passage through a band, K/s.
func (w *Ways) note(band int, speed float64) {
	for len(w.Slowest) <= band {
		w.Slowest = append(w.Slowest, 0)
	}
	if was := w.Slowest[band]; speed > 0 && (was == 0 || speed < was) {
		w.Slowest[band] = speed
	}
}

// bandOf is the band of a temperature.
func bandOf(t float64) int { return max(int(math.Floor(t/riseBand)), 0) }

// slowest is how fast the heater has risen at the least at a temperature, K/s; where
// it has not been seen there, as it has been a little above, where a heater rises
// more slowly; false if neither is known.
func (w Ways) slowest(t float64) (float64, bool) {
	for band := bandOf(t); band < min(bandOf(t)+4, len(w.Slowest)); band++ {
		if speed := w.Slowest[band]; speed > 0 {
			return speed, true
		}
	}
	return 0, false
}
