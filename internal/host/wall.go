package host

import "time"

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
	if h.job == nil {
		return
	}
	r := &h.job.record
	for _, t := range []*time.Time{&r.Created, &r.Started, &r.Laying} {
		if !t.IsZero() {
			*t = t.Add(moved)
		}
	}
	h.cfg.Recorder.Run(*r)
	h.publishRun()
}
