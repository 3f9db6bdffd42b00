package printing

import (
	"strings"

	"diathermon/internal/core/run"
)

// asked follows a host-action comment: something at the printer wants the run
// held, resumed or stopped.
func (p *Printing) asked(action string) {
	state := p.state()
	going := state == run.Running || state == run.Warming
	switch {
	case state == "" || state == run.Interrupted:
	case action == "pause" && going:
		p.step(run.Event{On: run.OnHold, Reason: "the printer asks for it"})
	case outOfFilament(action) && going:
		p.step(run.Event{On: run.OnHold, Reason: "the printer is out of filament"})
	case action == "paused" && going:
		p.step(run.Event{On: run.OnPause})
	case (action == "resume" || action == "resumed") && state == run.Held && p.moved() == nil:
		p.step(run.Event{On: run.OnResume})
	case action == "cancel":
		p.step(run.Event{On: run.OnStop, Reason: "the printer asks for it"})
	}
}

// outOfFilament tells the spellings of that action.
func outOfFilament(action string) bool {
	return strings.HasPrefix(action, "out_of_filament") || strings.HasPrefix(action, "filament_runout")
}
