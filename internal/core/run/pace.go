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

// How much what was shown before weighs in a run, s of its own computed time: at first a
// computed time is believed, and a printer of which much is known never more than so.
const (
	firstBelief = 120
	mostBelief  = 900
)

// An ordinary printer waits so long, s, for a temperature to stay.
const ordinarySettle = 10

func (h Habits) ratio() (ratio, weight float64) {
	if h.Weight <= 0 || h.Ratio <= 0 {
		return 1, firstBelief
	}
	return h.Ratio, min(firstBelief+h.Weight, mostBelief)
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
type Pace struct {
	last   time.Duration // when a line was last taken
	active time.Duration // in all, without the pauses
	begun  bool
	before time.Duration // computed time of the moves before the first noted
	done   time.Duration // of those that have been made since
}

// pauseGap is the longest gap between two lines that is a move, and no pause.
const pauseGap = 2 * time.Minute

// Note takes the time at which a line was taken while the run draws, and the computed
// time of the moves that have been made by then.
func (p *Pace) Note(now, made time.Duration) {
	if !p.begun {
		p.begun, p.before = true, made
	} else if gap := now - p.last; gap < pauseGap && p.last > 0 {
		p.active += gap
	}
	p.last, p.done = now, made-p.before
}

// Pause lets the time until the next line be no move.
func (p *Pace) Pause() { p.last = 0 }

// Left turns a computed time into the time that it will take.
func (p *Pace) Left(h Habits, computed time.Duration) time.Duration {
	ratio, weight := h.ratio()
	ratio = (p.active.Seconds() + ratio*weight) / (p.done.Seconds() + weight)
	return time.Duration(float64(computed) * min(max(ratio, 0.01), 20))
}

// Learn adds to habits what the run has shown.
func (p *Pace) Learn(h Habits) Habits {
	if p.done < time.Minute {
		return h
	}
	ratio, _ := h.ratio()
	weight := max(h.Weight, 0)
	h.Ratio = min(max((p.active.Seconds()+ratio*weight)/(p.done.Seconds()+weight), 0.2), 5)
	h.Weight = min(weight+p.done.Seconds(), 4*3600)
	return h
}
