package run

import "time"

// mostCourse is how many points a Course has at the most.
const mostCourse = 8192

// A Course is how long a file's moves have taken after every so many of its commands.
type Course struct {
	Every   int       // commands between two points; 0: there is none yet
	Seconds []float32 // of the moves of the first Every commands, of the first 2·Every, and so on
}

// Pass notes that the moves of all commands before this one, counted from 1, have taken
// so many seconds. Commands come in order.
func (c *Course) Pass(command int, seconds float64) {
	if c.Every == 0 {
		c.Every = 1
	}
	for command-1 >= c.Every*(len(c.Seconds)+1) {
		if c.Seconds = append(c.Seconds, float32(seconds)); len(c.Seconds) > mostCourse {
			c.thin()
		}
	}
}

// thin leaves every second point.
func (c *Course) thin() {
	n := len(c.Seconds) / 2
	for i := range n {
		c.Seconds[i] = c.Seconds[2*i+1]
	}
	c.Every, c.Seconds = 2*c.Every, c.Seconds[:n]
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
