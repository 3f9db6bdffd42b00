package printing

import (
	"fmt"
	"strings"

	"diathermon/internal/core/gcode"
	"diathermon/internal/core/run"
	"diathermon/internal/core/wire"
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

// refused holds the run where the printer does not do what a line of the file wants and the
// part would be another without it: it does not know a command that asks for a person, or it
// has refused a line and goes on.
func (p *Printing) refused(r wire.Reply) {
	j := p.job
	if j == nil || j.state() != run.Running && j.state() != run.Warming {
		return
	}
	switch {
	case j.asking > 0 && wire.IsUnknown(r.Text) && (j.asking == j.life.Taken()+1 || strings.Contains(r.Text, digits(j.asked))):
		p.step(run.Event{On: run.OnHold, Reason: fmt.Sprintf("the file asks for a person with %s, which the printer does not know: it says %q. See to it by hand, then resume", j.asked, r.Text)})
	case r.Kind == wire.Error && strings.HasPrefix(strings.TrimSpace(r.Text), "!!") && !wire.IsUnknown(r.Text):
		p.step(run.Event{On: run.OnHold, Reason: fmt.Sprintf("the printer has refused a line of the file: %q", r.Text)})
	}
}

// digits are a command's number, as a firmware may repeat it: M600 as "600".
func digits(command string) string {
	return strings.TrimLeft(gcode.CodeOf([]byte(command)).String(), "GMT")
}

// outOfFilament tells the spellings of that action.
func outOfFilament(action string) bool {
	return strings.HasPrefix(action, "out_of_filament") || strings.HasPrefix(action, "filament_runout")
}
