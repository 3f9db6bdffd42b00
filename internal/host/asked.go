package host

import (
	"strings"

	"diathermon/internal/core/run"
)

// asked follows a host-action comment: something at the printer wants the run
// held, resumed or stopped.
func (h *Host) asked(action string) {
	state := h.state()
	going := state == run.Running || state == run.Warming
	switch {
	case state == "" || state == run.Interrupted:
	case action == "pause" && going:
		h.step(run.Event{On: run.OnHold, Reason: "the printer asks for it"})
	case outOfFilament(action) && going:
		h.step(run.Event{On: run.OnHold, Reason: "the printer is out of filament"})
	case action == "paused" && going:
		h.step(run.Event{On: run.OnPause})
	case (action == "resume" || action == "resumed") && state == run.Held:
		h.step(run.Event{On: run.OnResume})
	case action == "cancel":
		h.step(run.Event{On: run.OnStop, Reason: "the printer asks for it"})
	}
}

// outOfFilament tells the spellings of that action.
func outOfFilament(action string) bool {
	return strings.HasPrefix(action, "out_of_filament") || strings.HasPrefix(action, "filament_runout")
}
