package host

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"diathermon/internal/core/bounds"
	"diathermon/internal/core/gcode"
	"diathermon/internal/core/heat"
	"diathermon/internal/core/preflight"
	"diathermon/internal/core/run"
	"diathermon/internal/core/toolpath"
)

// Preflight returns what stands between a file and its start now.
func (h *Host) Preflight(ctx context.Context, f toolpath.File) ([]preflight.Check, error) {
	var checks []preflight.Check
	err := h.ask(ctx, func() { checks = h.checks(f) })
	return checks, err
}

func (h *Host) checks(f toolpath.File) []preflight.Check {
	facts := preflight.Facts{Alarms: alarmTexts(h.alarms), Sleepy: h.cfg.Sleepy, Printer: h.cfg.Printer.Printer, LinkLive: h.link.Live(), LinkWhy: h.link.Reason, File: f.Summary}
	if h.job != nil {
		facts.Busy = h.job.file.Name
	}
	return preflight.Checks(facts)
}

// Start begins a run of the file of that name. It returns a BlockedError, or an
// error that is ErrBusy or ErrNotLive, if the run cannot begin.
// With a soak the bed is heated to the file's setpoint and held there before the
// file's first line; soak.For says how long.
func (h *Host) Start(ctx context.Context, name string, soak *heat.Soak) (RunNow, error) {
	f, err := h.cfg.Files.File(ctx, name)
	if err != nil {
		return RunNow{}, err
	}
	body, err := h.cfg.Files.Open(ctx, f)
	if err != nil {
		return RunNow{}, err
	}
	var now RunNow
	var refused error
	err = h.ask(ctx, func() {
		switch {
		case h.job != nil:
			refused = fmt.Errorf("%w: %s is %s; %s", ErrBusy, h.job.file.Name, h.state(), h.job.wayOut())
			return
		case !h.link.Live():
			refused = fmt.Errorf("%w: %s", ErrNotLive, h.link.Reason)
			return
		}
		checks := h.checks(f)
		if len(checks) > 0 && checks[0].Level == preflight.Block {
			refused = &BlockedError{checks}
			return
		}
		if soak != nil && f.Setpoints[heat.Bed] == 0 {
			refused = fmt.Errorf("%w: %s gives the bed no setpoint, so that there is nothing to soak", ErrState, name)
			return
		}
		if refused = h.begin(f, body, soak); refused == nil {
			now = *h.runNow()
		}
	})
	if err == nil {
		err = refused
	}
	if err != nil {
		body.Close()
	}
	return now, err
}

// control lets f act on the run of that id, or on the one that goes on if it is
// empty, and returns how the run stands then.
func (h *Host) control(ctx context.Context, id string, f func(*job) error) (RunNow, error) {
	var now RunNow
	var refused error
	err := h.ask(ctx, func() {
		if h.job == nil || id != "" && h.job.life.Record().ID != id {
			refused = ErrNoRun
			return
		}
		refused = f(h.job)
		now = *h.runNow()
	})
	return now, errors.Join(err, refused)
}

// Hold keeps the run's lines back, lets those that the printer has be carried
// out, and takes the nozzle off the part. Heaters stay.
func (h *Host) Hold(ctx context.Context, id string) (RunNow, error) {
	return h.control(ctx, id, func(*job) error {
		return h.step(run.Event{On: run.OnHold, Reason: "held by hand"})
	})
}

// Resume lets a held run go on: it heats up, primes and comes back to where it
// was held.
func (h *Host) Resume(ctx context.Context, id string) (RunNow, error) {
	return h.control(ctx, id, func(*job) error { return h.step(run.Event{On: run.OnResume}) })
}

// Stop ends the run early with heaters and fan off and the nozzle off the part;
// an interrupted run is given up. It returns at once; the run is ending until the
// printer has done that.
func (h *Host) Stop(ctx context.Context, id string) (RunNow, error) {
	return h.control(ctx, id, func(j *job) error {
		reason := "stopped by hand"
		if j.state() == run.Interrupted {
			reason = "given up"
		}
		return h.step(run.Event{On: run.OnStop, Reason: reason})
	})
}

// Halt says the emergency stop ahead of everything.
func (h *Host) Halt(ctx context.Context) error {
	answer := make(chan error, 1)
	select {
	case h.halts <- answer:
		return <-answer
	case <-h.closed:
		return ErrClosed
	case <-ctx.Done():
		return ctx.Err()
	}
}

// Reconnect closes the port and opens it anew, which restarts most boards.
func (h *Host) Reconnect(ctx context.Context) error {
	var refused error
	err := h.ask(ctx, func() {
		if h.job != nil && h.state() != run.Interrupted {
			refused = fmt.Errorf("%w: opening the port anew would end it", ErrBusy)
			return
		}
		h.reopen = true
	})
	return errors.Join(err, refused)
}

// A Said is a line and what the printer answered.
type Said struct {
	Line  string
	Reply []string
	Taken bool // the printer has acknowledged it
}

// Say says a line as a person typed it and waits for its answer until ctx ends;
// then Taken is false and the answer will be seen in the traffic. A line that could
// be meant as the emergency stop is one, however it is written.
func (h *Host) Say(ctx context.Context, line string) (Said, error) {
	if isHalt(line) {
		return Said{Line: "M112", Taken: true}, h.Halt(ctx)
	}
	command := string(gcode.Command([]byte(line)))
	if err := sayable(line, command); err != nil {
		return Said{}, err
	}
	said := Said{Line: command}
	return said, h.say(ctx, &said, func() error { return h.situation().Typed(command) })
}

// isHalt reports whether any line of what a person typed could be meant as the
// emergency stop.
func isHalt(typed string) bool {
	return slices.ContainsFunc(strings.FieldsFunc(typed, func(r rune) bool { return r < ' ' }), func(line string) bool { return gcode.IsHalt([]byte(line)) })
}

// say sends said.Line if allowed agrees and waits for its answer.
func (h *Host) say(ctx context.Context, said *Said, allowed func() error) error {
	type answer struct {
		lines []string
		err   error
	}
	answered := make(chan answer, 1)
	var refused error
	err := h.ask(ctx, func() {
		if !h.link.Live() {
			refused = fmt.Errorf("%w: %s", ErrNotLive, h.link.Reason)
			return
		}
		if refused = allowed(); refused == nil {
			h.send(said.Line, func(lines []string, err error) { answered <- answer{lines, err} })
		}
	})
	if err = errors.Join(err, refused); err != nil {
		return err
	}
	select {
	case a := <-answered:
		said.Reply, said.Taken = a.lines, a.err == nil
		return a.err
	case <-ctx.Done():
		return nil
	}
}

// sayable checks that a typed line is one line and not too long.
func sayable(line, command string) error {
	trimmed := strings.TrimRight(line, "\r\n")
	switch {
	case strings.ContainsAny(trimmed, "\r\n"):
		return fmt.Errorf("%w: it has a line end in it; say one line at a time", ErrLine)
	case command == "":
		return fmt.Errorf("%w: there is nothing in it to say", ErrLine)
	case len(command) > gcode.MaxLine:
		return fmt.Errorf("%w: it has %d characters and printers take at most %d", ErrLine, len(command), gcode.MaxLine)
	}
	for _, b := range []byte(command) {
		if b < ' ' || b == 0x7f {
			return fmt.Errorf("%w: it has the control character %#02x in it", ErrLine, b)
		}
	}
	return nil
}

// situation is what a typed line would be said in.
func (h *Host) situation() bounds.Situation {
	s := bounds.Situation{Machine: h.cfg.Printer.machine(), At: h.point.State}
	if j := h.job; j != nil {
		s.Run, s.State, s.WayOut = j.file.Name, string(j.state()), j.wayOut()
		s.Parked = j.life.Stage() == run.Parked
	}
	return s
}

// wayOut says what a person may do about a run that is in the way.
func (j *job) wayOut() string {
	if j.state() == run.Interrupted {
		return "pick it up, or stop it to give it up"
	}
	return "hold it, stop it, or wait until it ends"
}

// setpointWait is how long SetHeat waits for the printer to take a setpoint.
const setpointWait = 5 * time.Second

// SetHeat gives a heater its setpoint in °C; 0 turns it off. It reports whether
// the printer has taken it; a printer that waits for heat takes it later.
func (h *Host) SetHeat(ctx context.Context, heater heat.Heater, setpoint float64) (taken bool, err error) {
	ctx, cancel := context.WithTimeout(ctx, setpointWait)
	defer cancel()
	said := Said{Line: heat.SetCommand(heater, setpoint)}
	err = h.say(ctx, &said, func() error {
		known := false
		for _, now := range h.heatersNow() {
			known = known || now.Heater == heater
		}
		if !known {
			return fmt.Errorf("%w: this printer has no %s", ErrHeater, heater)
		}
		if err := h.cfg.Printer.Limits.Check(heater, setpoint); err != nil {
			return fmt.Errorf("%w: %v", ErrSetpoint, err)
		}
		if setpoint > 0 && h.alarmed(heater) {
			return fmt.Errorf("%w: look at the %s first", ErrAlarm, heater)
		}
		if setpoint > 0 {
			h.off = nil
		}
		h.endWarmUp("a setpoint was given")
		h.used()
		return nil
	})
	return said.Taken, err
}
