package talk

import (
	"time"

	"diathermon/internal/core/gcode"
	"diathermon/internal/core/motion"
)

// slowest is the least speed, in percent, that firmwares take from M220.
const slowest = 10

// longestLine bounds how long one line may be waited for: a day.
const longestLine = 24 * time.Hour

// takes is how long the printer is at work on a command, at most, as far as its moves
// tell on a slow machine; state is where the lines before it lead and goes on with it. Speed is M220's,
// in percent; 0 is as after a start.
func takes(state *gcode.State, command string, speed float64) time.Duration {
	var l gcode.Line
	if l.Parse([]byte(command)) != nil {
		return 0
	}
	seconds := 0.0
	if l.Is('G', 4) {
		seconds = l.Dwell()
	}
	if m, moves := state.Apply(&l); moves {
		if m.Feed == 0 {
			m.Feed = slowest
		}
		if seconds = motion.Slowest.Alone(m); speed > 0 {
			seconds *= 100 / max(speed, slowest)
		}
	}
	return time.Duration(min(max(seconds, 0), longestLine.Seconds()) * float64(time.Second))
}
