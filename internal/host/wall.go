package host

import (
	"time"

	"diathermon/internal/core/run"
)

// wall is what the computer's clock says, without the reading of the clock that
// never jumps.
func (h *Host) wall() time.Time { return h.cfg.Wall().UTC().Truncate(time.Microsecond) }

// mostDrift is how far the computer's clock and the one that never jumps may part
// before the run's times are mended.
const mostDrift = 2 * time.Second

// mindClock lets the run's times move with the computer's clock, so that how long
// it went on stays right when that clock is set in the middle of it.
func (h *Host) mindClock() {
	ahead := h.wall().Sub(h.epoch.Round(0)) - h.now()
	moved := ahead - h.ahead
	if moved.Abs() < mostDrift {
		return
	}
	h.ahead = ahead
	h.step(run.Event{On: run.OnClock, By: moved})
}
