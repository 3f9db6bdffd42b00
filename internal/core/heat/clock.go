package heat

import "time"

// A Clock stamps readings so that they keep their order and the time between
// them is right, also when the computer's clock is set: a small computer has no
// clock while it is off, and learns the time from the network some while after
// its start.
type Clock struct {
	set  bool
	base time.Time     // the stamp at mono
	mono time.Duration // on a clock that never jumps
	last time.Time
}

// The clock is believed again when it has moved by more than step; a step back by
// more than longBack is taken for a correction by hand and not resisted.
const (
	clockStep = 2 * time.Second
	longBack  = 24 * time.Hour
)

// After lets every stamp be later than t, which is the last one of before.
func (c *Clock) After(t time.Time) { c.last = t }

// Stamp returns when a reading was made, from what the computer's clock says and
// from a clock that never jumps, and by how much the former was moved since the
// stamp before.
func (c *Clock) Stamp(wall time.Time, mono time.Duration) (at time.Time, moved time.Duration) {
	wall = wall.Round(0)
	if !c.set {
		c.set, c.base, c.mono = true, wall, mono
		if back := c.last.Sub(wall); back >= 0 && back < longBack {
			c.base = c.last.Add(time.Second)
			moved = -back
		}
	}
	at = c.base.Add(mono - c.mono)
	if off := wall.Sub(at); off > clockStep || off < -longBack {
		c.base, c.mono = wall, mono
		at, moved = wall, off
	}
	at = at.Truncate(Resolution)
	if !at.After(c.last) && c.last.Sub(at) < longBack {
		at = c.last.Add(Resolution)
	}
	c.last = at
	return at, moved
}
