package run

import (
	"math"
	"time"

	"diathermon/internal/core/motion"
)

// Shown is what a printer has shown of how long moves take, read in two ways: that it makes
// them by the limits as files set them, and that it passes over what files say of its
// limits, as some firmwares do without a word. The zero Shown has shown nothing.
type Shown struct {
	Set, Own Kinds
	Passes   float64 // by how much the second has foretold better: the logarithm of the odds

	took     float64 // s since the last sample
	set, own motion.Time
}

// One sample is of so many seconds, so that what a planner holds plays no part.
const sampleSeconds = 20

// Note takes how long moves took that were computed to take so long in either way. Before is
// what was shown before all that this one has shown.
func (s *Shown) Note(before Shown, took time.Duration, set, own motion.Time) {
	s.took += took.Seconds()
	s.set.Add(set)
	s.own.Add(own)
	if s.took < sampleSeconds || s.set.All <= 0 || s.own.All <= 0 {
		return
	}
	known := before.And(*s)
	better := misjudged(s.took, known.Set.making().takes(s.set)) - misjudged(s.took, known.Own.making().takes(s.own))
	s.Passes = within(s.Passes+within(better, passesStep), passesMost)
	s.Set.add(s.took, s.set)
	s.Own.add(s.took, s.own)
	s.took, s.set, s.own = 0, motion.Time{}, motion.Time{}
}

// And is what both have shown.
func (s Shown) And(other Shown) Shown {
	return Shown{Set: s.Set.and(other.Set), Own: s.Own.and(other.Own), Passes: within(s.Passes+other.Passes, passesMost)}
}

// times is what was shown as if it had been shown so many times.
func (s Shown) times(n float64) Shown {
	return Shown{Set: s.Set.times(n), Own: s.Own.times(n), Passes: s.Passes}
}

// Making is how the printer makes moves, as far as it was shown.
func (s Shown) Making() Making { return s.making(s.passes()) }

func (s Shown) making(own bool) Making {
	m := s.Set.making()
	if own {
		m = s.Own.making()
	}
	m.Own = own
	return m
}

// A printer is believed to do what it is told until its own limits have foretold it so much
// better. The two are compared by what they foretold of each sample before it was seen (A. P.
// Dawid's prequential evidence, 1984), with errors as Cauchy has them, and no sample tells
// more than a step: one that went wrong for another reason tells nothing.
const (
	passesFrom  = 3
	passesStep  = 1
	passesMost  = 12   // so that a firmware that is another now is found out, too
	passesScale = 0.02 // of an error, as a share of what was taken
)

// passes reports whether the printer passes over what files say of its limits.
func (s Shown) passes() bool { return s.Passes > passesFrom }

// within is v, and at the most so far from nought.
func within(v, most float64) float64 { return min(max(v, -most), most) }

// misjudged is how much what was foretold speaks against what foretold it.
func misjudged(took, foretold float64) float64 {
	off := (foretold/took - 1) / passesScale
	return math.Log1p(off * off)
}

// Making is how a printer makes moves: by how much longer than computed the two kinds of
// their time are, by the limits as files set them or by its Own.
type Making struct {
	Steady, Added float64
	Own           bool
}

// takes is how long moves take that are made so, s.
func (m Making) takes(t motion.Time) float64 {
	return m.Steady*t.Steady + m.Added*max(t.All-t.Steady, 0)
}

// Takes is how long moves take that are made so and were computed to take so long by the
// limits as the file sets them, or by the printer's own.
func (m Making) Takes(set, own motion.Time) time.Duration {
	t := set
	if m.Own {
		t = own
	}
	return time.Duration(m.takes(t) * float64(time.Second))
}

// Kinds compares how long moves really take with how long they were computed to take, apart
// for the two kinds of time that they are made of: what they would take at their own feed
// rate throughout, and what speeding up, slowing down and corners add. A printer makes feed
// rates as it is told; of what it may add it has its own opinion, and a file with many short
// moves tells more of it than one with few.
type Kinds struct {
	Seconds float64    // of the printer's time that they rest on
	Squares [3]float64 // of steady time, of both, of what is added, each by the whole
	Sums    [2]float64 // of what was taken, for steady time and for what is added
}

// Parts of an estimate that nothing has been shown against yet, s: how fast a printer speeds
// up is believed less than that it keeps to a feed rate.
const (
	steadyBelief = 60
	addedBelief  = 10
)

// mostShown is what many runs have shown at the most: the last few hours count, s.
const mostShown = 4 * 3600

// add takes a sample: how long moves took, s, and how long they were computed to take.
func (k *Kinds) add(took float64, made motion.Time) {
	added := max(made.All-made.Steady, 0)
	k.Seconds += took // off by as much as it is long
	k.Squares[0] += made.Steady * made.Steady / made.All
	k.Squares[1] += made.Steady * added / made.All
	k.Squares[2] += added * added / made.All
	k.Sums[0] += made.Steady * took / made.All
	k.Sums[1] += added * took / made.All
}

// and is what both have shown.
func (k Kinds) and(other Kinds) Kinds {
	k.Seconds += other.Seconds
	for i := range k.Squares {
		k.Squares[i] += other.Squares[i]
	}
	for i := range k.Sums {
		k.Sums[i] += other.Sums[i]
	}
	return k.times(min(mostShown/max(k.Seconds, 1), 1))
}

// times is what was shown as if it had been shown so many times.
func (k Kinds) times(n float64) Kinds {
	for i := range k.Squares {
		k.Squares[i] *= n
	}
	for i := range k.Sums {
		k.Sums[i] *= n
	}
	k.Seconds *= n
	return k
}

// making is by how much longer than computed the two kinds of time really are: the least
// squares of all samples and of what is believed before any, which is 1 for both.
func (k Kinds) making() (m Making) {
	a, b, d := k.Squares[0]+steadyBelief, k.Squares[1], k.Squares[2]+addedBelief
	u, v := k.Sums[0]+steadyBelief, k.Sums[1]+addedBelief
	m.Steady = min(max((u*d-v*b)/(a*d-b*b), leastFactor), mostFactor)
	m.Added = min(max((v-b*m.Steady)/d, leastFactor), mostFactor)
	return m
}

// What a factor may be: what is beyond was measured wrongly.
const (
	leastFactor = 0.1
	mostFactor  = 10
)
