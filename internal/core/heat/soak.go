package heat

import (
	"math"
	"time"
)

// A Soak waits, once a heater is at its setpoint, until the heat has spread: for a
// time, or, where its warm-up has shown how what lies on the heater lags behind it,
// until that has come within sheetEven of where it will be; otherwise until the duty
// that holds it has stopped falling. While a plate still
// takes up heat, holding its sensor at the setpoint costs more than it will; what
// more it costs dies away as the plate comes to be even (the duty is the model's
// Holding duty in the end).
type Soak struct {
	For      time.Duration // after the setpoint is reached; 0: until the plate has settled
	Setpoint float64       // °C

	reached time.Duration
	there   bool
	past    []moment
	checked time.Duration
	settled bool
}

// SoakState is how far a soak has come.
type SoakState struct {
	There   bool          // the setpoint has been reached
	Done    bool          // and the heat has spread
	Left    time.Duration // until then, as far as can be told; negative: it cannot
	Excess  float64       // duty more than it will cost to hold, 0 to 1; NaN while it is not known
	Elapsed time.Duration // since the setpoint was reached
}

// What counts as settled: the duty, averaged over a minute, changes by no more
// than settledSlope in a minute, over settledOver; and it is no less than
// soakLeast since the setpoint was reached, nor more than soakMost.
const (
	soakWindow   = 4 * time.Minute
	settledSlope = 0.006
	soakLeast    = 3 * time.Minute
	soakMost     = 30 * time.Minute
	soakEvery    = 5 * time.Second
	sheetEven    = 1.0 // K
)

// A Sheet is what lies on a heater and lags behind it.
type Sheet struct {
	Behind float64       // K, now; 0: it is not known
	Tau    time.Duration // in which that becomes a third
}

// Sheet returns how far what lies on the heater is behind now, by the warm-up that has
// brought it to this setpoint.
func (l *Learner) Sheet(setpoint float64) Sheet {
	c := &l.climb
	if !l.Shape.Known || c.on || c.Took == 0 || !SameSetpoint(c.Setpoint, setpoint) {
		return Sheet{}
	}
	t := setpoint - Ready
	since := c.last.at - c.at - c.Took
	return Sheet{Behind: max((t-l.Shape.behind(&c.Climb, t))*math.Exp(-since/l.Shape.Tau), 1e-3), Tau: inSeconds(l.Shape.Tau)}
}

// Note takes a reading of the heater at a time on a clock that never jumps. One
// that tells another setpoint, be it of a moment before the heater was given the
// soak's, lets the soak begin anew.
func (s *Soak) Note(at time.Duration, r Reading, sheet Sheet) SoakState {
	if !SameSetpoint(r.Setpoint, s.Setpoint) {
		*s = Soak{For: s.For, Setpoint: s.Setpoint}
		return SoakState{Left: -1, Excess: math.NaN()}
	}
	near := math.Abs(r.Actual-s.Setpoint) <= holdBand
	if near && !s.there {
		s.there, s.reached, s.checked = true, at, at
	}
	if !s.there {
		return SoakState{Left: -1, Excess: math.NaN()}
	}
	state := SoakState{There: true, Elapsed: at - s.reached, Excess: math.NaN(), Left: -1}
	if s.For > 0 {
		state.Left = max(s.For-state.Elapsed, 0)
		state.Done = state.Left == 0
		return state
	}
	if sheet.Behind > 0 {
		lasts := inSeconds(sheet.Tau.Seconds() * math.Log(max(sheet.Behind/sheetEven, 1)))
		state.Left = max(min(max(lasts, soakLeast-state.Elapsed), soakMost-state.Elapsed), 0)
		s.settled = s.settled || state.Left == 0
		if state.Done = s.settled; s.settled {
			state.Left = 0
		}
		return state
	}
	if r.HasDuty {
		s.past = append(s.past, moment{at: at.Seconds(), duty: r.Duty})
		for len(s.past) > 0 && s.past[0].at < at.Seconds()-soakWindow.Seconds() {
			s.past = s.past[1:]
		}
	}
	slope, excess, ok := s.trend()
	if ok {
		state.Excess = excess
	}
	switch {
	case s.settled || state.Elapsed >= soakMost:
		s.settled = true
	case state.Elapsed >= soakLeast && at-s.checked >= soakEvery:
		s.checked = at
		s.settled = ok && math.Abs(slope) <= settledSlope/60 || len(s.past) == 0 // a firmware that tells no duty
	}
	state.Done = s.settled
	switch {
	case s.settled:
		state.Left = 0
	case ok && slope < 0 && excess > 0: // the excess dies away with this time constant
		constant := excess / -slope
		state.Left = inSeconds(constant * math.Log(max(-slope*60/settledSlope, 1)))
		state.Left = min(max(state.Left, soakLeast-state.Elapsed, soakEvery), soakMost-state.Elapsed)
	default:
		state.Left = max(soakLeast-state.Elapsed, soakEvery)
	}
	return state
}

// trend is how fast the duty changes, per second, and how much of it will go,
// from the two halves of what was seen last.
func (s *Soak) trend() (slope, excess float64, ok bool) {
	if len(s.past) < 20 {
		return 0, 0, false
	}
	first, last := s.past[0].at, s.past[len(s.past)-1].at
	if last-first < 90 {
		return 0, 0, false
	}
	var mean [3]float64
	var n [3]int
	for _, m := range s.past {
		third := min(int(3*(m.at-first)/(last-first)), 2)
		mean[third] += m.duty
		n[third]++
	}
	for i := range mean {
		if n[i] == 0 {
			return 0, 0, false
		}
		mean[i] /= float64(n[i])
	}
	step := (last - first) / 3
	slope = (mean[2] - mean[1]) / step
	before, now := mean[0]-mean[1], mean[1]-mean[2]
	excess = math.NaN()
	if before > now && now > 0 { // each third of the way the excess is multiplied by the same ratio
		excess = now * now / (before - now)
	}
	if math.IsNaN(excess) {
		excess = max(-slope, 0) * 60
	}
	return slope, excess, true
}
