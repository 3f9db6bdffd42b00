package printing

import "time"

// pace compares how long the moves really take with how long they were computed
// to take, on this printer and at the speed a person has set.
type pace struct {
	last   time.Duration // when a line was last taken
	active time.Duration // in all, without the pauses
	begun  bool
	before time.Duration // computed time of the moves before the first noted
}

// A gap longer than pauseGap between two lines is a pause, not a move; a pace is
// believed after paceAfter.
const (
	pauseGap  = 2 * time.Minute
	paceAfter = 30 * time.Second
)

// note takes the time at which a line was taken while the run draws.
func (p *pace) note(now time.Duration) {
	if gap := now - p.last; p.last > 0 && gap < pauseGap {
		p.active += gap
	}
	p.last = now
}

// left turns the computed time left into the time that it will take.
func (p *pace) left(total, computed time.Duration) time.Duration {
	done := total - computed
	if !p.begun {
		if p.active > 0 {
			p.begun, p.before = true, done
		}
		return computed
	}
	if done -= p.before; done < paceAfter || p.active <= 0 {
		return computed
	}
	ratio := min(max(p.active.Seconds()/done.Seconds(), 0.01), 20)
	return time.Duration(float64(computed) * ratio)
}
