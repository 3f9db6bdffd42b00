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
	before float64 // at the last reading
	at     time.Duration
	rate   float64 // mm³/s
	watch  heat.FlowWatch
	state  heat.FlowState
}

// push notes what a line that the printer has taken pushes out.
func (f *flowing) push(mm, diameter, percent float64) {
	if percent == 0 {
		percent = 100
	}
	f.pushed += mm * math.Pi / 4 * diameter * diameter * percent / 100
}

// watchFlow looks whether filament flows as the file asks.
func (h *Heating) watchFlow(at time.Time, now time.Duration, r heat.Reading, m heat.Model, c heat.Conditions) {
	f := &h.flow
	if dt := (now - f.at).Seconds(); dt > 0 {
		fresh := max((f.pushed-f.before)/dt, 0)
		f.rate += (fresh - f.rate) * min(dt/3, 1) // the printer's planner is a second or two behind
		f.before, f.at = f.pushed, now
	}
	if h.cfg.Unguarded || !h.draws() || h.cfg.FlowWatch == heat.FlowOff {
		f.watch.Reset()
		f.state = heat.FlowState{Asked: f.rate, Seen: math.NaN()}
		return
	}
	before := f.state.Stopped
	f.state = f.watch.Note(now, r, m, c)
	if !f.state.Stopped || before {
		return
	}
	action := heat.Tell
	if h.cfg.FlowWatch == heat.FlowHold {
		action = heat.HoldRun
	}
	h.raise(heat.Alarm{
		At: at, Heater: r.Heater, Guard: heat.NoFlow, Action: action,
		Text: fmt.Sprintf("the file asks for %.1f mm³/s and the duty of the %s says that no filament takes heat away: is it used up, torn, ground off or jammed?", f.state.Asked, r.Heater),
	})
}

// draws reports whether a run draws.
func (h *Heating) draws() bool {
	_, state := h.run.Brief()
	return state == run.Running
}
