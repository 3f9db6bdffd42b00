package run

import "time"

// Kinds compares how long moves really take with how long they were computed to take, apart
// for the two kinds of time that they are made of: what they would take at their own feed
// rate throughout, and what speeding up, slowing down and corners add. A printer makes feed
// rates as it is told; of what it may add it has its own opinion, and a file with many short
// moves tells more of it than one with few. The zero Kinds have shown nothing.
type Kinds struct {
	Seconds float64    // of the printer's time that they rest on
	Squares [3]float64 // of steady time, of both, of what is added, each by the whole
	Sums    [2]float64 // of what was taken, for steady time and for what is added

	took, steady, added float64 // s since the last sample
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

// Note takes how long moves took, of which so much was computed as steady time and as added.
func (k *Kinds) Note(took, steady, added time.Duration) {
	k.took, k.steady, k.added = k.took+took.Seconds(), k.steady+steady.Seconds(), k.added+added.Seconds()
	if all := k.steady + k.added; k.took >= sampleSeconds && all > 0 { // off by as much as it is long
		k.Seconds += k.took
		k.Squares[0] += k.steady * k.steady / all
		k.Squares[1] += k.steady * k.added / all
		k.Squares[2] += k.added * k.added / all
		k.Sums[0] += k.steady * k.took / all
		k.Sums[1] += k.added * k.took / all
		k.took, k.steady, k.added = 0, 0, 0
	}
}

// And is what both have shown.
func (k Kinds) And(other Kinds) Kinds {
	k.took, k.steady, k.added = 0, 0, 0
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

// Factors are by how much longer than computed the two kinds of time really are: the least
// squares of all samples and of what is believed before any, which is 1 for both.
func (k Kinds) Factors() (f Factors) {
	a, b, d := k.Squares[0]+steadyBelief, k.Squares[1], k.Squares[2]+addedBelief
	u, v := k.Sums[0]+steadyBelief, k.Sums[1]+addedBelief
	f.Steady = min(max((u*d-v*b)/(a*d-b*b), leastFactor), mostFactor)
	f.Added = min(max((v-b*f.Steady)/d, leastFactor), mostFactor)
	return f
}

// Factors turn what was computed into what a printer takes.
type Factors struct{ Steady, Added float64 }

// What a factor may be: what is beyond was measured wrongly.
const (
	leastFactor = 0.1
	mostFactor  = 10
)
