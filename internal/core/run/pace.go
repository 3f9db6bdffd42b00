package run

import "time"

// Habits are what a printer has shown of the time that runs take on it. The zero Habits
// are those of a printer that has shown nothing.
type Habits struct {
	Ratio   float64 // of the time that moves take to what was computed
	Weight  float64 // s of computed time that this rests on
	Settles float64 // s from a temperature's being reached to the printer's going on
	Waits   int     // that this rests on
}

// How much what was shown before weighs in a run, s of its own computed time: of a printer
// that has shown nothing, of one that has told its limits, and of one of which much is known.
const (
	firstBelief = 120
	toldBelief  = 300
	mostBelief  = 900
)

// An ordinary printer waits so long, s, for a temperature to stay.
const ordinarySettle = 10

// ratio is what is believed of a run's moves before it shows any; told says that the printer
// has told the limits that they were computed with.
func (h Habits) ratio(told bool) (ratio, weight float64) {
	if weight = firstBelief; told {
		weight = toldBelief
	}
	if h.Weight <= 0 || h.Ratio <= 0 {
		return 1, weight
	}
	return h.Ratio, min(weight+h.Weight, mostBelief)
}

// Settle is how long the printer waits for a temperature to stay.
func (h Habits) Settle() time.Duration {
	s := (ordinarySettle + h.Settles*float64(h.Waits)) / float64(1+h.Waits)
	return time.Duration(s * float64(time.Second))
}

// Settled learns from one such wait.
func (h Habits) Settled(took time.Duration) Habits {
	s := min(max(took.Seconds(), 0), 120)
	h.Waits = min(h.Waits+1, 20)
	h.Settles += (s - h.Settles) / float64(h.Waits)
	return h
}

// A Pace compares how long a run's moves really take with how long they were computed to
// take, on this printer and as a person has changed them.
//
// What a printer has taken it has not made yet: its planner holds some moves, and does not
// say how many. So what is made is only known to lie between two bounds, and a printer is
// faster or slower than was computed only as far as these do not explain it.
type Pace struct {
	Told   bool          // the printer's limits are, with which the moves were computed
	last   time.Duration // when a line was last taken; 0: nothing is known to go on
	active time.Duration // in all, without the pauses
	done   time.Duration // computed time of the moves that were made in it
	made   time.Duration // and of all that are made, those before included
	most   time.Duration // that may be
	held   time.Duration // of what was taken before the first line noted and is not made
}

// pauseGap is the longest gap between two lines that is a move, and no pause.
const pauseGap = 2 * time.Minute

// Note takes the time at which a line was taken while the run draws, and the computed time
// of the moves that have been made by then: the least and the most that it can be. All that
// came before a pause, or before the first line noted, is made, unless the Pace is made Anew.
func (p *Pace) Note(h Habits, now, least, most time.Duration) {
	if gap := now - p.last; p.last > 0 && gap >= 0 && gap < pauseGap {
		made := min(max(p.made+p.expected(h, gap), least), most)
		p.active += gap
		p.done += made - p.made
		p.made = made
	} else {
		p.made = max(most-p.held, least)
	}
	p.last, p.most, p.held = now, most, 0
}

// Pause lets the time until the next line be no move.
func (p *Pace) Pause() { p.last = 0 }

// Anew is the pace from now on, of moves that a person has changed.
func (p *Pace) Anew() Pace { return Pace{Told: p.Told, held: p.held + p.most - p.made} }

// Begun reports whether a line was noted.
func (p *Pace) Begun() bool { return p.last > 0 || p.most > 0 }

// Made is the computed time of the moves that are made now.
func (p *Pace) Made(h Habits, now time.Duration) time.Duration {
	if p.last == 0 {
		return p.made
	}
	return min(p.made+p.expected(h, min(max(now-p.last, 0), pauseGap)), p.most)
}

// expected is the computed time of the moves that take so long.
func (p *Pace) expected(h Habits, gap time.Duration) time.Duration {
	return time.Duration(float64(gap) / p.ratio(h))
}

func (p *Pace) ratio(h Habits) float64 {
	ratio, weight := h.ratio(p.Told)
	ratio = (p.active.Seconds() + ratio*weight) / max(p.done.Seconds()+weight, 1)
	return min(max(ratio, 0.01), 20)
}

// Left turns a computed time into the time that it will take.
func (p *Pace) Left(h Habits, computed time.Duration) time.Duration {
	return time.Duration(float64(computed) * p.ratio(h))
}

// Learn adds to habits what the run has shown.
func (p *Pace) Learn(h Habits) Habits {
	if p.done < time.Minute {
		return h
	}
	ratio, _ := h.ratio(false)
	weight := max(h.Weight, 0)
	h.Ratio = min(max((p.active.Seconds()+ratio*weight)/(p.done.Seconds()+weight), 0.2), 5)
	h.Weight = min(weight+p.done.Seconds(), 4*3600)
	return h
}
