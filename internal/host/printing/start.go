package printing

import (
	"context"
	"errors"
	"fmt"
	"time"

	"diathermon/internal/core/bounds"
	"diathermon/internal/core/heat"
	"diathermon/internal/core/preflight"
	"diathermon/internal/core/run"
	"diathermon/internal/core/toolpath"
)

// Preflight returns what stands between a file and its start now.
func (p *Printing) Preflight(ctx context.Context, f toolpath.File) ([]preflight.Check, error) {
	var checks []preflight.Check
	err := p.loop.Ask(ctx, func() { checks = p.checks(f) })
	return checks, err
}

// WarmsIn is how long the heaters would take until the first plastic of a file that is
// started now, by the printer's own clock; false where that is not known.
func (p *Printing) WarmsIn(ctx context.Context, f toolpath.File) (time.Duration, bool, error) {
	var took time.Duration
	known := false
	err := p.loop.Ask(ctx, func() {
		took, known = p.heating.WarmsIn(f.Warming)
	})
	return took, known, err
}

func (p *Printing) checks(f toolpath.File) []preflight.Check {
	facts := preflight.Facts{Alarms: p.heating.Alarms(), Sleepy: p.cfg.Sleepy, Printer: p.cfg.Printer, LinkLive: p.talk.Live(), LinkWhy: p.talk.Reason(), File: f.Summary}
	if p.job != nil {
		facts.Busy = p.job.file.Name
	}
	return preflight.Checks(facts)
}

// Start begins a run of the file of that name. It returns a BlockedError, or an
// error that is bounds.ErrBusy or run.ErrLive, if the run cannot begin.
// With a soak the bed is heated to the file's setpoint and held there before the
// file's first line; soak.For says how long.
func (p *Printing) Start(ctx context.Context, name string, soak *heat.Soak) (Now, error) {
	f, err := p.cfg.Files.File(ctx, name)
	if err != nil {
		return Now{}, err
	}
	body, err := p.cfg.Files.Open(ctx, f)
	if err != nil {
		return Now{}, err
	}
	var now Now
	var refused error
	err = p.loop.Ask(ctx, func() {
		switch {
		case p.job != nil:
			refused = fmt.Errorf("%w: %s is %s; %s", bounds.ErrBusy, p.job.file.Name, p.state(), p.job.wayOut())
			return
		case !p.talk.Live():
			refused = fmt.Errorf("%w: %s", run.ErrLive, p.talk.Reason())
			return
		}
		if refused = p.moved(); refused != nil {
			return
		}
		checks := p.checks(f)
		if len(checks) > 0 && checks[0].Level == preflight.Block {
			refused = &BlockedError{checks}
			return
		}
		if soak != nil && f.Setpoints[heat.Bed] == 0 {
			refused = fmt.Errorf("%w: %s gives the bed no setpoint, so that there is nothing to soak", run.ErrState, name)
			return
		}
		if refused = p.begin(f, body, soak); refused == nil {
			now = *p.Now()
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
func (p *Printing) control(ctx context.Context, id string, f func(*job) error) (Now, error) {
	var now Now
	var refused error
	err := p.loop.Ask(ctx, func() {
		if p.job == nil || id != "" && p.job.life.Record().ID != id {
			refused = ErrNoRun
			return
		}
		refused = f(p.job)
		now = *p.Now()
	})
	return now, errors.Join(err, refused)
}

// Hold keeps the run's lines back, lets those that the printer has be carried
// out, and takes the nozzle off the part. Heaters stay.
func (p *Printing) Hold(ctx context.Context, id string) (Now, error) {
	return p.control(ctx, id, func(*job) error {
		return p.step(run.Event{On: run.OnHold, Reason: "held by hand"})
	})
}

// Resume lets a held run go on: it heats up, primes and comes back to where it
// was held.
func (p *Printing) Resume(ctx context.Context, id string) (Now, error) {
	return p.control(ctx, id, func(*job) error {
		if err := p.moved(); err != nil {
			return err
		}
		return p.step(run.Event{On: run.OnResume})
	})
}

// Stop ends the run early with heaters and fan off and the nozzle off the part;
// an interrupted run is given up. It returns at once; the run is ending until the
// printer has done that.
func (p *Printing) Stop(ctx context.Context, id string) (Now, error) {
	return p.control(ctx, id, func(j *job) error {
		reason := "stopped by hand"
		if j.state() == run.Interrupted {
			reason = "given up"
		}
		return p.step(run.Event{On: run.OnStop, Reason: reason})
	})
}

// wayOut says what a person may do about a run that is in the way.
func (j *job) wayOut() string {
	if j.state() == run.Interrupted {
		return "pick it up, or stop it to give it up"
	}
	return "hold it, stop it, or wait until it ends"
}
