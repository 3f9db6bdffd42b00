package run

import (
	"math"
	"time"

	"diathermon/internal/core/motion"
)

// Shown is what a printer has shown of how long moves take, read in two ways: that it makes
// them by the limits as files set them, and that it passes over what files say of its
// limits, as some firmwares do without a word. The zero Shown has shown nothing.
type Shown struct{ Set, Own Kinds }

// Note takes how long moves took that were computed to take so long in either way.
func (s *Shown) Note(took time.Duration, set, own motion.Time) {
	s.Set.note(took.Seconds(), set)
	s.Own.note(took.Seconds(), own)
}

// And is what both have shown.
func (s Shown) And(other Shown) Shown { return Shown{s.Set.and(other.Set), s.Own.and(other.Own)} }

// times is what was shown as if it had been shown so many times.
func (s Shown) times(n float64) Shown { return Shown{s.Set.times(n), s.Own.times(n)} }

// Making is how the printer makes moves, as far as it was shown.
func (s Shown) Making() Making { return s.making(s.passes()) }

func (s Shown) making(own bool) Making {
	if own {
		return s.Own.making(own)
	}
	return s.Set.making(own)
}

// Until a printer's own limits explain the times so much better than those that files set,
// it is believed to do what it is told: by the logarithm of how much more likely they are,
// were errors normal and of unknown size, of no more samples than a third of an hour has.
// What explains them to a hundredth is not told from what explains them better.
const (
	passesFrom  = 3
	passesMost  = 60
	passesError = 0.01 // of a sample, s
)

// passes reports whether the printer passes over what files say of its limits.
func (s Shown) passes() bool {
	n := min(s.Set.Seconds/sampleSeconds, passesMost)
	return n*math.Log(s.Set.unexplained()/s.Own.unexplained()) > 2*passesFrom
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
	Taken   float64    // of what was taken itself

	took float64 // s since the last sample
	made motion.Time
}

// Parts of an estimate that nothing has been shown against yet, s: how fast a printer speeds
// up is believed less than that it keeps to a feed rate.
const (
	steadyBelief = 60
	addedBelief  = 10
)

// One sample is of so many seconds, so that what a planner holds plays no part; what many
// runs have shown counts as the last few hours.
const (
	sampleSeconds = 20
	mostShown     = 4 * 3600
)

// note takes how long moves took, s, and how long they were computed to take.
func (k *Kinds) note(took float64, made motion.Time) {
	k.took += took
	k.made.Add(made)
	steady, added, all := k.made.Steady, max(k.made.All-k.made.Steady, 0), max(k.made.All, k.made.Steady)
	if k.took < sampleSeconds || all <= 0 {
		return
	}
	k.Seconds += k.took // off by as much as it is long
	k.Squares[0] += steady * steady / all
	k.Squares[1] += steady * added / all
	k.Squares[2] += added * added / all
	k.Sums[0] += steady * k.took / all
	k.Sums[1] += added * k.took / all
	k.Taken += k.took * k.took / all
	k.took, k.made = 0, motion.Time{}
}

// and is what both have shown.
func (k Kinds) and(other Kinds) Kinds {
	k.took, k.made = 0, motion.Time{}
	k.Seconds += other.Seconds
	for i := range k.Squares {
		k.Squares[i] += other.Squares[i]
	}
	for i := range k.Sums {
		k.Sums[i] += other.Sums[i]
	}
	k.Taken += other.Taken
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
	k.Seconds, k.Taken = n*k.Seconds, n*k.Taken
	return k
}

// making is by how much longer than computed the two kinds of time really are: the least
// squares of all samples and of what is believed before any, which is 1 for both.
func (k Kinds) making(own bool) Making {
	a, b, d := k.Squares[0]+steadyBelief, k.Squares[1], k.Squares[2]+addedBelief
	u, v := k.Sums[0]+steadyBelief, k.Sums[1]+addedBelief
	m := Making{Own: own}
	m.Steady = min(max((u*d-v*b)/(a*d-b*b), leastFactor), mostFactor)
	m.Added = min(max((v-b*m.Steady)/d, leastFactor), mostFactor)
	return m
}

// unexplained is the sum of those least squares, s, with what no sample is believed to.
func (k Kinds) unexplained() float64 {
	m := k.making(false)
	samples := k.Taken - 2*(m.Steady*k.Sums[0]+m.Added*k.Sums[1]) +
		m.Steady*m.Steady*k.Squares[0] + 2*m.Steady*m.Added*k.Squares[1] + m.Added*m.Added*k.Squares[2]
	belief := steadyBelief*(m.Steady-1)*(m.Steady-1) + addedBelief*(m.Added-1)*(m.Added-1)
	return max(samples, 0) + belief + passesError*max(k.Seconds/sampleSeconds, 1)
}

// What a factor may be: what is beyond was measured wrongly.
const (
	leastFactor = 0.1
	mostFactor  = 10
)
