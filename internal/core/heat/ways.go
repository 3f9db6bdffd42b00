package heat

import "math"

// Ways are what ordinary life has shown of one heater: how far it has gone in what a
// guard looks at. They are learned a while after the fact, and not from what a guard
// has raised an alarm about.
type Ways struct {
	Most      float64 // the most duty it was given
	Overshoot float64 // K beyond a setpoint that it had come to from below
	Carry     float64 // K by which it went on rising without duty
	Fall      float64 // K by which it fell within a guard's short window
	Drop      float64 // and while its duty did not let up
	Stand     float64 // s for which it read the same to the last digit while it was on
	Moved     float64 // and while its duty moved
	Rises     []Rise  // at full duty, by temperature; as many as have been seen
}

// Rise is how fast a heater has risen at full duty through one band of temperature.
type Rise struct {
	Low  float64 // K/s, the slowest time; 0: never seen
	Mean float64 // K/s
	N    float64 // times, as far as they still count
}

// What is believed of a heater at the most, in K and s: more is a fault that nobody
// noticed.
const (
	mostOvershoot = 30.0
	mostCarry     = 40.0
	mostFall      = 60.0
	mostStand     = 300.0
	riseBand      = 8.0 // K of a band of Rises
	riseFade      = 12  // times, of which the mean is the mean
)

// with is what two Ways show together.
func (w Ways) with(o Ways) Ways {
	w.Most = max(w.Most, o.Most)
	w.Overshoot = min(max(w.Overshoot, o.Overshoot), mostOvershoot)
	w.Carry = min(max(w.Carry, o.Carry), mostCarry)
	w.Fall, w.Drop = min(max(w.Fall, o.Fall), mostFall), min(max(w.Drop, o.Drop), mostFall)
	w.Stand, w.Moved = min(max(w.Stand, o.Stand), mostStand), min(max(w.Moved, o.Moved), mostStand)
	rises := make([]Rise, max(len(w.Rises), len(o.Rises)))
	copy(rises, w.Rises)
	for i, r := range o.Rises {
		rises[i] = rises[i].with(r)
	}
	w.Rises = rises
	return w
}

func (r Rise) with(o Rise) Rise {
	switch {
	case o.N == 0:
		return r
	case r.N == 0:
		return o
	}
	n := min(r.N, riseFade)
	return Rise{Low: min(r.Low, o.Low), Mean: (r.Mean*n + o.Mean*o.N) / (n + o.N), N: n + o.N}
}

// note takes one passage through a band.
func (w *Ways) note(band int, speed float64) {
	for len(w.Rises) <= band {
		w.Rises = append(w.Rises, Rise{})
	}
	w.Rises[band] = w.Rises[band].with(Rise{Low: speed, Mean: speed, N: 1})
}

// bandOf is the band of a temperature.
func bandOf(t float64) int { return max(int(math.Floor(t/riseBand)), 0) }

// slowest is how fast the heater has risen at the least at a temperature, K/s; where
// it has not been seen there, as it has been a little above, where a heater rises
// more slowly; false if neither is known.
func (w Ways) slowest(t float64) (float64, bool) {
	for band := bandOf(t); band < min(bandOf(t)+4, len(w.Rises)); band++ {
		if r := w.Rises[band]; r.N > 0 {
			return r.Low, true
		}
	}
	return 0, false
}
