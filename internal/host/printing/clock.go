package printing

import (
	"time"

	"diathermon/internal/core/run"
)

// mostDrift is how far the computer's clock and the one that never jumps may part
// before the run's times are mended.
const mostDrift = 2 * time.Second

// mindClock lets the run's times move with the computer's clock, so that how long
// it went on stays right when that clock is set in the middle of it.
func (p *Printing) mindClock() {
	ahead := p.loop.Jumped()
	moved := ahead - p.ahead
	if moved.Abs() < mostDrift {
		return
	}
	p.ahead = ahead
	p.step(run.Event{On: run.OnClock, By: moved})
}
