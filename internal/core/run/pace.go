package run

import "time"

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
	took   time.Duration // what was noted last took so long
	from   time.Duration // and began with made being this
}

// pauseGap is the longest gap between two lines that is a move, and no pause.
const pauseGap = 2 * time.Minute

// Note takes the time at which a line was taken while the run draws, and the computed time
// of the moves that have been made by then: the least and the most that it can be. All that
// came before a pause, or before the first line noted, is made, unless the Pace is made Anew.
// Busy says that the printer had lines to go on with: otherwise it may have waited for them,
// which says nothing of it.
func (p *Pace) Note(h Habits, now, least, most time.Duration, busy bool) {
	p.took = 0
	if gap := now - p.last; p.last > 0 && gap >= 0 && gap < pauseGap {
		made := min(max(p.made+p.expected(h, gap), least), most)
		if busy {
			p.active += gap
			p.done += made - p.made
			p.took, p.from = gap, p.made
		}
		p.made = made
	} else {
		p.made = max(most-p.held, least)
	}
	p.last, p.most, p.held = now, most, 0
}

// Skip lets the time until now be no move's, and all moves so far be made: a command that
// waits by itself is over.
func (p *Pace) Skip(now, made time.Duration) {
	p.last, p.made, p.most, p.held = now, max(made, p.made), max(made, p.most), 0
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
	weight := h.belief(p.Told)
	ratio := (p.active.Seconds() + weight) / (p.done.Seconds() + weight)
	return min(max(ratio, 0.01), 20)
}

// Left turns a computed time into the time that it will take.
func (p *Pace) Left(h Habits, computed time.Duration) time.Duration {
	return time.Duration(float64(computed) * p.ratio(h))
}

// Noted is how long what was noted last took, and the computed times of moves made between
// which it did; nought where nothing is known of it.
func (p *Pace) Noted() (took, from, to time.Duration) { return p.took, p.from, p.made }
