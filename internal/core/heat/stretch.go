package heat

import (
	"math"
	"time"
)

// stretch is some seconds in which a heater held a temperature.
type stretch struct {
	duty    float64 // mean
	actual  float64 // °C
	rises   float64 // K/s
	grows   float64 // the duty, 1/s
	since   float64 // s since the heater came to its temperature
	fan     [needMelt - needFan]float64
	flow    float64 // mm³/s
	beside  float64 // what the others drew meanwhile, times duty
	at      float64 // s of its end
	took    float64 // s
	off     float64 // by which duty may be, where the control is a switch
	settled bool    // nothing was changed shortly before
}

// A stretcher gathers readings into stretches.
type stretcher struct {
	kind  *needKind
	past  []moment
	begun float64 // s at which the heater came to its temperature
	from  float64 // s at which the stretch begins
	stood float64 // s since which nothing was changed
	set   float64 // the setpoint, °C
}

const (
	holds           = 3 * holdBand // K about its setpoint within which a heater holds it
	flowLags        = 2.0          // s by which the flow of what the printer has taken is late
	dutyTold        = 4.0          // s that a duty holds without being told anew
	stretchReadings = 6            // that a stretch has at the least, however long that takes
	switchSwing     = 0.5          // of the most duty, that lies between the two of a switch
	switchEnds      = 0.1          // of that and of the readings, that may lie between them
	nearbyFor       = 1            // readings about one that make it less noisy
)

// note takes a reading. It tells whether the heater begins to hold, whether it holds at
// all, and whether a stretch is over.
func (g *stretcher) note(at time.Duration, r Reading, c Conditions) (begins, holding, over bool) {
	unknown := math.IsNaN(c.Flow)
	if unknown {
		c.Flow = 0
	}
	now := moment{at.Seconds(), r.Actual, r.Duty, c}
	n := len(g.past)
	switch {
	case n > 0 && now.at == g.past[n-1].at: // told twice
		return false, true, false
	case n > 0 && (now.at < g.past[n-1].at || now.at-g.past[n-1].at > fullRate.Seconds()):
		g.past, n = g.past[:0], 0
	}
	if !r.HasDuty { // between others, or told never
		if n > 0 && now.at-g.past[n-1].at > dutyTold {
			g.past, n = g.past[:0], 0
		}
		return false, n > 0, false
	}
	if r.Setpoint <= 0 || math.Abs(r.Actual-r.Setpoint) > holds {
		g.past = g.past[:0]
		return false, false, false
	}
	if g.kind == nil {
		g.kind = needOf(r.Heater)
	}
	if n == 0 || r.Setpoint != g.set || math.Abs(c.Fan-g.past[n-1].conditions.Fan) > g.kind.gusts || unknown {
		g.stood, g.set = now.at, r.Setpoint
	}
	if n == history {
		g.past = append(g.past[:0], g.past[1:]...)
	}
	if g.past = append(g.past, now); n == 0 {
		g.begun, g.from = now.at, now.at+g.kind.stands
		return true, true, false
	}
	return false, true, now.at-g.from >= g.kind.stretch && n >= stretchReadings && g.past[n-stretchReadings].at >= g.from
}

// take draws up the stretch that is over, and begins the next.
func (g *stretcher) take() stretch {
	first, last := 0, len(g.past)-1
	for first < last && g.past[first].at < g.from {
		first++
	}
	from, to := g.past[first].at, g.past[last].at
	took := to - from
	s := stretch{settled: g.from-g.stood >= g.kind.stands && took > 0.7*g.kind.stretch, since: (from+to)/2 - g.begun, at: to, took: took}
	g.from = to
	if !s.settled {
		return s
	}
	s.duty, s.flow = integral(g.past, from, to)/took, meanFlow(g.past, from-flowLags, to-flowLags)
	a, b := nearby(g.past, first), nearby(g.past, last)
	if duty, off, ok := turns(g.past[first : last+1]); ok {
		s.duty, s.off = duty, off
	}
	s.rises, s.grows = (b.actual-a.actual)/took, (b.duty-a.duty)/took
	for i := first; i < last; i++ {
		a, b := g.past[i], g.past[i+1]
		share := (b.at - a.at) / took
		s.actual += share * (a.actual + b.actual) / 2
		s.beside += share * a.duty * a.conditions.Beside
		s.along(a.conditions.Fan, share)
	}
	return s
}

// along adds a share of the fan to a stretch, for a share of its time.
func (s *stretch) along(fan, share float64) {
	below, at := -1, 0.0
	for i, knot := range fanKnots {
		if fan <= knot {
			left := (knot - fan) / (knot - at)
			s.fan[i] += (1 - left) * share
			if below >= 0 {
				s.fan[below] += left * share
			}
			return
		}
		below, at = i, knot
	}
	s.fan[below] += share
}

// meanFlow is the mean of the flow that was asked for.
func meanFlow(past []moment, from, to float64) float64 {
	sum, took := 0.0, 0.0
	for i := 1; i < len(past); i++ {
		a, b := max(past[i-1].at, from), min(past[i].at, to)
		if b > a {
			sum, took = sum+(b-a)*past[i-1].conditions.Flow, took+b-a
		}
	}
	return sum / max(took, 1)
}

// nearby is what was about a reading, without the noise of one.
func nearby(past []moment, i int) moment {
	var m moment
	n := 0.0
	for j := max(i-nearbyFor, 0); j <= min(i+nearbyFor, len(past)-1); j++ {
		m.actual, m.duty, n = m.actual+past[j].actual, m.duty+past[j].duty, n+1
	}
	m.actual, m.duty = m.actual/n, m.duty/n
	return m
}

// turns is the mean duty of readings whose control is a switch, over its whole turns, which do
// not fill a stretch evenly, and by how much that may be off; false where it is none.
func turns(past []moment) (duty, off float64, ok bool) {
	low, high := past[0].duty, past[0].duty
	for _, m := range past {
		low, high = min(low, m.duty), max(high, m.duty)
	}
	swing := high - low
	if swing < switchSwing*high {
		return 0, 0, false
	}
	between, first, last := 0, -1, -1
	for i, m := range past {
		if share := (m.duty - low) / swing; share > switchEnds && share < 1-switchEnds {
			between++
		}
		if i > 0 && m.duty > low+swing/2 && past[i-1].duty <= low+swing/2 { // it is switched on
			if last = i; first < 0 {
				first = i
			}
		}
	}
	if float64(between) > switchEnds*float64(len(past)) {
		return 0, 0, false
	}
	from, to := past[0].at, past[len(past)-1].at
	if first == last {
		mean := integral(past, from, to) / (to - from)
		return mean, min(mean-low, high-mean) / 2, true
	}
	report := (to - from) / float64(len(past)-1) // a turn is known to begin within one
	from, to = past[first].at, past[last].at
	return integral(past, from, to) / (to - from), swing / 2 * min(report/(to-from), 0.5), true
}
