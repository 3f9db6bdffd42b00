package run

import (
	"slices"
	"time"

	"diathermon/internal/core/motion"
)

// mostCourse is how many points a Course has at the most.
const mostCourse = 8192

// A Course is how long a file's moves have taken after every so many of its commands.
type Course struct {
	Every int // commands between two points; 0: there is none yet
	Times
	Own *Times `json:",omitempty"` // on a printer that passes over what the file says of its limits; nil: the same
}

// Times are those of a course's points, in s.
type Times struct {
	Seconds []float32 // of the moves of the first Every commands, of the first 2·Every, and so on
	Steady  []float32 `json:",omitempty"` // what of it they would take at their feed rates throughout
	All     float32   `json:",omitempty"` // of all moves
	End     float32   `json:",omitempty"` // what of that they would take at their feed rates throughout
}

// add adds a point.
func (t *Times) add(at motion.Time) {
	t.Seconds, t.Steady = append(t.Seconds, float32(at.All)), append(t.Steady, float32(at.Steady))
}

// thin leaves every second point.
func (t *Times) thin() {
	n := len(t.Seconds) / 2
	for i := range n {
		t.Seconds[i], t.Steady[i] = t.Seconds[2*i+1], t.Steady[2*i+1]
	}
	t.Seconds, t.Steady = t.Seconds[:n], t.Steady[:n]
}

// Pass notes what the moves of all commands before this one, counted from 1, have taken by
// the limits as the file sets them, and by the printer's own. Commands come in order.
func (c *Course) Pass(command int, set, own motion.Time) {
	if c.Every == 0 {
		c.Every = 1
	}
	c.part(set, own)
	for command-1 >= c.Every*(len(c.Seconds)+1) {
		if c.add(set); c.Own != nil {
			c.Own.add(own)
		}
		if len(c.Seconds) <= mostCourse {
			continue
		}
		if c.thin(); c.Own != nil {
			c.Own.thin()
		}
		c.Every *= 2
	}
}

// part lets the printer's own times begin where they differ.
func (c *Course) part(set, own motion.Time) {
	if c.Own == nil && set != own {
		c.Own = &Times{Seconds: slices.Clone(c.Seconds), Steady: slices.Clone(c.Steady)}
	}
}

// Ends notes what all moves take.
func (c *Course) Ends(set, own motion.Time) {
	c.part(set, own)
	if c.End, c.All = float32(set.Steady), float32(set.All); c.Own != nil {
		c.Own.End, c.Own.All = float32(own.Steady), float32(own.All)
	}
}

// After is how long the moves of the first so many of a file's commands take, all of
// which take total: between two points as if all commands took as long as each other.
func (c Course) After(taken, commands int, total time.Duration) time.Duration {
	if taken >= commands {
		return total
	}
	point := func(i int) (float64, float64) { // of the first so many times Every commands
		switch {
		case i <= 0:
			return 0, 0
		case i <= len(c.Seconds):
			return float64(i * c.Every), float64(c.Seconds[i-1])
		}
		return float64(commands), total.Seconds()
	}
	i := 0
	if c.Every > 0 {
		i = min(taken/c.Every, len(c.Seconds))
	}
	before, low := point(i)
	after, high := point(i + 1)
	seconds := low
	if after > before {
		seconds += (high - low) * (float64(taken) - before) / (after - before)
	}
	return min(max(time.Duration(seconds*float64(time.Second)), 0), total)
}

// As is the course, and the total, on a printer that makes moves so.
func (c Course) As(m Making, total time.Duration) (Course, time.Duration) {
	if !c.Kinds() || m.Steady <= 0 || m.Added <= 0 {
		return c, total
	}
	by := &c.Times
	if m.Own && c.Own != nil {
		by = c.Own
	}
	takes := func(all, steady float32) float32 {
		return float32(m.takes(motion.Time{All: float64(all), Steady: float64(steady)}))
	}
	as := Course{Every: c.Every, Times: Times{Seconds: make([]float32, len(by.Seconds))}}
	for i := range as.Seconds {
		as.Seconds[i] = takes(by.Seconds[i], by.Steady[i])
	}
	as.All = takes(by.All, by.End)
	return as, time.Duration(float64(as.All) * float64(time.Second))
}

// Kinds reports whether the course tells steady time; one that was computed long ago does not.
func (c Course) Kinds() bool { return len(c.Steady) == len(c.Seconds) && c.End > 0 && c.All > 0 }

// Between is what the moves made between two times of a course that this one has become take
// by this one: by the limits as the file sets them, and by the printer's own.
func (c Course) Between(as Course, from, to time.Duration) (set, own motion.Time) {
	i, share := as.place(from)
	n, part := as.place(to)
	set = c.until(n, part).Less(c.until(i, share))
	if c.Own == nil {
		return set, set
	}
	return set, c.Own.until(n, part).Less(c.Own.until(i, share))
}

// place is between which points a time lies: the one after it, and the share of the way there.
func (t *Times) place(at time.Duration) (i int, share float64) {
	s := at.Seconds()
	i, _ = slices.BinarySearch(t.Seconds, float32(s))
	from, to := 0.0, float64(t.All)
	if i > 0 {
		from = float64(t.Seconds[i-1])
	}
	if i < len(t.Seconds) {
		to = float64(t.Seconds[i])
	}
	if to > from {
		share = min(max((s-from)/(to-from), 0), 1)
	}
	return i, share
}

// until is what is taken from the beginning until a share of the way to the point i.
func (t *Times) until(i int, share float64) motion.Time {
	var low motion.Time
	if i > 0 {
		low = motion.Time{All: float64(t.Seconds[i-1]), Steady: float64(t.Steady[i-1])}
	}
	high := motion.Time{All: float64(t.All), Steady: float64(t.End)}
	if i < len(t.Seconds) {
		high = motion.Time{All: float64(t.Seconds[i]), Steady: float64(t.Steady[i])}
	}
	return motion.Time{All: low.All + share*(high.All-low.All), Steady: low.Steady + share*(high.Steady-low.Steady)}
}
