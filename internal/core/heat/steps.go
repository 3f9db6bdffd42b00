package heat

import "math"

// A burst is readings that were held up somewhere and come together. They are one
// reading, the last of them, with the gap before it: when the others were made nobody
// knows.
type burst struct {
	last  float64 // s of the last reading
	usual float64 // s between two readings
	on    bool
	began float64 // s
}

const (
	burstAfter = 2.0  // times as long as usual without a reading, that what comes may have been held up for
	burstShare = 0.5  // of what is usual, below which two readings come together
	burstUsual = 1.0  // s between two readings before it is known
	burstMost  = 5.0  // and at the most
	burstPace  = 0.05 // by which what is usual is learned from each reading
)

// goesOn takes the time of a reading, s, and reports whether it belongs to a burst that
// the reading before it belonged to.
func (b *burst) goesOn(at float64) bool {
	gap, first := at-b.last, b.last == 0
	if b.last = at; first || gap < 0 {
		b.usual, b.on = burstUsual, false
		return false
	}
	switch {
	case gap > burstAfter*b.usual:
		b.on, b.began = true, at
	case b.on && gap < burstShare*b.usual:
		return true
	default:
		b.on = false
		b.usual += burstPace * (min(gap, burstMost) - b.usual)
	}
	return false
}

// steps finds by what steps a heater's readings go while it holds a temperature: those
// of its converter, or of what the firmware rounds them to.
type steps struct {
	last  float64 // °C
	seen  int     // changes
	small float64 // K, the smallest of them
}

const (
	stepsSeen   = 16    // changes that tell the step
	stepsMost   = 1.6   // K that a step may be
	stepsOther  = 2.5   // times as large, that is another step
	coarseSteps = 0.45  // K of a step, from which on a reading may stand still in ordinary life for as long as it likes
	wholeWithin = 0.005 // K from a whole degree, at which a reading with two places is one
)

// note takes a reading and returns the step when it is known; otherwise 0.
func (s *steps) note(actual float64) float64 {
	change := math.Abs(actual - s.last)
	if s.last = actual; change < 1e-6 || change > stepsMost {
		return 0
	}
	if s.seen == 0 {
		s.small = change
	}
	s.small = min(s.small, change)
	if s.seen++; s.seen < stepsSeen {
		return 0
	}
	s.seen = 0
	return s.small
}

// otherStep reports whether a step differs from an earlier one.
func otherStep(is, was float64) bool {
	return was > 0 && (is > stepsOther*was || was > stepsOther*is)
}

// whole reports whether a reading is a whole degree, as it may be by a firmware that
// tells no others.
func whole(actual float64) bool { return math.Abs(actual-math.Round(actual)) < wholeWithin }
