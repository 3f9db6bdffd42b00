package heating

import (
	"fmt"
	"math"
	"time"

	"diathermon/internal/core/heat"
	"diathermon/internal/core/run"
)

// flowing follows how much filament the file asks for.
type flowing struct {
	pushed float64 // mm³ by the lines taken so far
	back   float64 // mm of filament that were drawn back and have not come again
	before float64 // at the last reading
	at     time.Duration
	rate   float64 // mm³/s
	state  heat.FlowState
	drawn  bool      // at the last reading
	looked time.Time // when
}

// push notes what a line that the printer has taken pushes out.
func (f *flowing) push(mm, diameter, percent float64) {
	if percent == 0 {
		percent = 100
	}
	out := max(mm-f.back, 0)
	f.back = min(max(f.back-mm, 0), mostBack)
	f.pushed += out * math.Pi / 4 * diameter * diameter * percent / 100
}

// mostBack is the filament that is drawn back and comes again molten, mm; more is
// another one.
const mostBack = 10.0

// note takes how much was pushed since the last reading, by a clock that may run faster.
func (f *flowing) note(now time.Duration) {
	if dt := (now - f.at).Seconds(); dt > 0 {
		fresh := max((f.pushed-f.before)/dt, 0)
		f.rate += (fresh - f.rate) * min(dt/3, 1) // the printer's planner is a second or two behind
		f.before, f.at = f.pushed, now
	}
}

// watchNeed follows what duty a heater needs, and tells its guard.
func (h *Heating) watchNeed(t *thermal, now time.Duration, r heat.Reading, c heat.Conditions) {
	if !h.draws() && c.Flow > 0 { // by hand: who knows what comes out
		c.Flow = math.NaN()
	}
	t.needs.Note(now, r, c)
	t.guard.Growth = t.needs.Growth().Beside(r.Heater, now, h.needs)
}

// watchFlow looks whether filament flows as the file asks.
func (h *Heating) watchFlow(at time.Time, t *thermal, heater heat.Heater) {
	f := &h.flow
	before := f.state.Stopped
	if drawn := h.draws(); h.cfg.Unguarded || !drawn || h.cfg.FlowWatch == heat.FlowOff {
		if f.drawn {
			t.needs.Forget()
		}
		f.drawn, f.state = drawn, heat.FlowState{Asked: f.rate, Seen: math.NaN()}
		return
	}
	f.drawn, f.state = true, t.needs.Flow()
	s := t.guard.Standing(heat.NoFlow)
	s.Note(at, min(max(at.Sub(f.looked).Seconds(), 0), 60), f.state.Sure, f.state.Enough)
	f.looked = at
	if !f.state.Stopped || before {
		return
	}
	h.raise(heat.Alarm{
		At: at, Heater: heater, Guard: heat.NoFlow, Action: h.flowMay(s),
		Text: fmt.Sprintf("the file asks for %.1f mm³/s and the duty of the %s says that no filament takes heat away: is it used up, torn, ground off or jammed?", f.state.Asked, heater),
	})
}

// flowMay is what is done when nothing flows: what was set, and after a person has said that
// it was nothing no more than is earned anew.
func (h *Heating) flowMay(s *heat.Standing) heat.Action {
	if h.cfg.FlowWatch != heat.FlowHold || s.Sound > 0 && s.May(heat.NoFlow) == heat.Tell {
		return heat.Tell
	}
	return heat.HoldRun
}

// draws reports whether a run draws.
func (h *Heating) draws() bool {
	_, state := h.run.Brief()
	return state == run.Running
}
