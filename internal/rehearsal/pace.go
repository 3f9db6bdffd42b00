package rehearsal

import (
	"fmt"
	"time"

	"diathermon/internal/core/bounds"
	"diathermon/internal/core/run"
	"diathermon/internal/core/toolpath"
)

const (
	leastLost = time.Second            // that a layer takes longer
	lostShare = 30                     // of the layer, as one in so many
	framing   = len("N1234567 *123\n") // of a line on the cable
	window    = 4                      // lines that are on their way
)

// pacing is how far the file's moves have come against what they would take if no line
// ever came too late.
type pacing struct {
	marks []run.Mark    // where layers begin; those still to come
	made  time.Duration // in moves and waits so far
	late  time.Duration // that lines came behind when the printer could have taken them
	at    pace          // as the layer began
}

// pace is where a pacing stood.
type pace struct {
	line       int
	made, late time.Duration
	ideal      float64 // s
}

// keepUp looks, where a layer begins, whether the one before it took longer because its
// lines came too late.
func (p *player) keepUp(commands int) {
	for len(p.marks) > 0 && commands >= p.marks[0].Command {
		p.layerOver(p.marks[0].Seconds)
		p.marks = p.marks[1:]
	}
}

// layerOver looks at a layer that would have ended so many seconds from the first move.
func (p *player) layerOver(ideal float64) {
	took := p.made - p.at.made
	lost := took - time.Duration((ideal-p.at.ideal)*float64(time.Second))
	if lost > max(leastLost, took/lostShare) && p.late-p.at.late > lost/2 {
		p.report.Starved += lost
		p.report.Problems = toolpath.Found(p.report.Problems, bounds.Finding{
			Level: bounds.Warn, Title: fmt.Sprintf("a layer's lines come faster than the cable carries them at %d baud, so that its moves become slower", p.printer.Baud),
			Do: "use a faster rate, or slice it with fewer, longer moves",
		}, p.at.line)
	}
	p.at = pace{p.line, p.made, p.late, ideal}
}

// A cable carries lines at its rate, some of them ahead of the printer.
type cable struct {
	perByte time.Duration
	free    time.Duration         // when it has carried all that it was given
	acks    [window]time.Duration // of the last lines, the oldest first
}

// perByte is how long a byte takes, with its start and stop bits.
func perByte(baud int) time.Duration {
	if baud <= 0 {
		return 0
	}
	return 10 * time.Second / time.Duration(baud)
}

// carry is when a line of that size, in bytes, has arrived: it follows the one before,
// and leaves when the host knows of a place for it.
func (c *cable) carry(size int, now time.Duration) time.Duration {
	if c.perByte == 0 {
		return now
	}
	c.free = max(c.free, c.acks[0]) + time.Duration(size)*c.perByte
	return c.free
}

func (c *cable) acknowledged(at time.Duration) {
	copy(c.acks[:], c.acks[1:])
	c.acks[window-1] = at
}
