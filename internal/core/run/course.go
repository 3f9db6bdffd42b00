package run

import (
	"slices"
	"time"
)

// mostCourse is how many points a Course has at the most.
const mostCourse = 8192

// A Course is how long a file's moves have taken after every so many of its commands.
type Course struct {
	Every   int       // commands between two points; 0: there is none yet
	Seconds []float32 // of the moves of the first Every commands, of the first 2·Every, and so on
	Steady  []float32 `json:",omitempty"` // what of it they would take at their feed rates throughout
	End     float32   `json:",omitempty"` // what of all they would
}

// Pass notes that the moves of all commands before this one, counted from 1, have taken
// so many seconds, and would have taken so many at their feed rates throughout. Commands
// come in order.
func (c *Course) Pass(command int, seconds, steady float64) {
	if c.Every == 0 {
		c.Every = 1
	}
	for command-1 >= c.Every*(len(c.Seconds)+1) {
		c.Steady = append(c.Steady, float32(steady))
		if c.Seconds = append(c.Seconds, float32(seconds)); len(c.Seconds) > mostCourse {
			c.thin()
		}
	}
}

// thin leaves every second point.
func (c *Course) thin() {
	n := len(c.Seconds) / 2
	for i := range n {
		c.Seconds[i], c.Steady[i] = c.Seconds[2*i+1], c.Steady[2*i+1]
	}
	c.Every, c.Seconds, c.Steady = 2*c.Every, c.Seconds[:n], c.Steady[:n]
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

// As is the course, and the total, on a printer that makes moves by such factors.
func (c Course) As(f Factors, total time.Duration) (Course, time.Duration) {
	if !c.Kinds() || f.Steady <= 0 || f.Added <= 0 {
		return c, total
	}
	takes := func(seconds, steady float64) float64 { return f.Steady*steady + f.Added*max(seconds-steady, 0) }
	as := Course{Every: c.Every, Seconds: make([]float32, len(c.Seconds)), Steady: c.Steady, End: c.End}
	for i := range as.Seconds {
		as.Seconds[i] = float32(takes(float64(c.Seconds[i]), float64(c.Steady[i])))
	}
	return as, time.Duration(takes(total.Seconds(), float64(c.End)) * float64(time.Second))
}

// Kinds reports whether the course tells steady time; one that was computed long ago does not.
func (c Course) Kinds() bool { return len(c.Steady) == len(c.Seconds) && c.End > 0 }

// Steadily is what of a time from the beginning its moves would take at their feed rates
// throughout; all of them take total. Where the course does not tell, it is all of it.
func (c Course) Steadily(at, total time.Duration) time.Duration {
	if !c.Kinds() {
		return at
	}
	s := at.Seconds()
	i, _ := slices.BinarySearch(c.Seconds, float32(s))
	var from, to, low, high float64
	if i > 0 {
		from, low = float64(c.Seconds[i-1]), float64(c.Steady[i-1])
	}
	if to, high = total.Seconds(), float64(c.End); i < len(c.Seconds) {
		to, high = float64(c.Seconds[i]), float64(c.Steady[i])
	}
	if to > from {
		low += (high - low) * min(max((s-from)/(to-from), 0), 1)
	}
	return time.Duration(low * float64(time.Second))
}
