package printing

import (
	"context"
	"errors"
	"fmt"
	"io"
	"time"

	"diathermon/internal/core/bed"
	"diathermon/internal/core/bounds"
	"diathermon/internal/core/heat"
	"diathermon/internal/core/preflight"
	"diathermon/internal/core/run"
	"diathermon/internal/core/stock"
	"diathermon/internal/core/toolpath"
	"diathermon/internal/core/trim"
)

// An Order is what somebody wants to be run.
type Order struct {
	File   string        // its name on the shelf
	Digest string        // of the bytes that they mean; empty: whatever is there
	Soak   *heat.Soak    // the bed is heated to the file's setpoint and held there before the first line; nil: it is not. Its For says how long
	By     string        // who wants it
	Entry  string        // of the queue; empty: it is none
	Trim   trim.Trim     // how its lines are to be
	Slots  stock.Mapping // from which each of the file's tools is printed

	Before, After *[]run.Performs // routines that are performed before its first line, and once it is finished; nil: those of every run

	first string // the line that chooses the file's first tool for it; empty: there is no need

	Overrule map[preflight.Kind]string // blocks that do not matter, and why
	Seen     []preflight.Kind          // of the checks that they have read; nil: it is not known
}

// Preflight returns what stands between a file and its start now, and what does not.
// Its tools are printed from those slots.
func (p *Printing) Preflight(ctx context.Context, f toolpath.File, slots stock.Mapping) (preflight.Report, error) {
	reports, err := p.Preflights(ctx, []toolpath.File{p.Mapped(f, slots)})
	if err != nil {
		return preflight.Report{}, err
	}
	return reports[0], nil
}

// Preflights does so for several files at one moment.
func (p *Printing) Preflights(ctx context.Context, files []toolpath.File) ([]preflight.Report, error) {
	var facts preflight.Facts
	if err := p.loop.Ask(ctx, func() { facts = p.facts() }); err != nil {
		return nil, err
	}
	out := make([]preflight.Report, len(files))
	for i, f := range files {
		facts.File = f.Summary
		out[i] = preflight.Look(facts)
	}
	return out, nil
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

// Passes reports whether what was in the way of a start may be gone later, without the
// file being another.
func Passes(err error) bool {
	var blocked *BlockedError
	if errors.As(err, &blocked) {
		_, passing := blocked.Blocks()
		return passing
	}
	return errors.Is(err, bounds.ErrBusy) || errors.Is(err, run.ErrLive) || errors.Is(err, ErrMoved)
}

// facts are what the checks look at, but for the file.
func (p *Printing) facts() preflight.Facts {
	facts := preflight.Facts{
		Printer: p.cfg.Printer, LinkLive: p.talk.Live(), LinkWhy: p.talk.Reason(), Sleepy: p.cfg.Sleepy, Alarms: p.heating.Alarms(),
		Bed: bed.Bed(p.bed.Now()), Unread: p.heating.Unread(), Around: preflight.Around{Free: -1},
		At: p.where.Point().State,
	}
	if p.cfg.Slots != nil {
		facts.Slots = p.cfg.Slots()
	}
	if p.cfg.Around != nil {
		facts.Around = p.cfg.Around()
	}
	if p.job != nil {
		facts.Busy = p.job.file.Name
	}
	return facts
}

// Start begins a run. It returns a BlockedError, or an error that is bounds.ErrBusy,
// run.ErrLive, ErrMoved or ErrReplaced, if the run cannot begin.
func (p *Printing) Start(ctx context.Context, o Order) (Now, error) {
	f, err := p.cfg.Files.File(ctx, o.File)
	if err != nil {
		return Now{}, err
	}
	if o.Digest != "" && o.Digest != f.Digest {
		return Now{}, fmt.Errorf("%w: look at %s as it is now, then start it again", ErrReplaced, o.File)
	}
	if err := o.Slots.Check(f.Tools, p.cfg.Printer.Places()); err != nil {
		return Now{}, err
	}
	if o.first, err = p.first(ctx, f, o.Slots); err != nil {
		return Now{}, err
	}
	f = p.Mapped(f, o.Slots)
	around, err := p.around(o)
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
		if refused = p.start(o, around, f, body); refused == nil {
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

// start begins a run of f, whose bytes come from body, if nothing is in the way.
func (p *Printing) start(o Order, around run.Around, f toolpath.File, body io.ReadCloser) error {
	switch {
	case p.job != nil:
		return fmt.Errorf("%w: %s is %s; %s", bounds.ErrBusy, p.job.file.Name, p.state(), p.job.wayOut())
	case !p.talk.Live():
		return fmt.Errorf("%w: %s", run.ErrLive, p.talk.Reason())
	}
	if err := p.moved(); err != nil {
		return err
	}
	facts := p.facts()
	facts.File = f.Summary
	report := preflight.Look(facts)
	if o.Seen != nil && report.Unseen(o.Seen) {
		return &BlockedError{Report: report, Changed: true}
	}
	left, overruled, err := report.Overrule(o.Overrule, o.By)
	if err != nil {
		return err
	}
	if blocks, _ := left.Blocks(); len(blocks) > 0 {
		return &BlockedError{Report: report}
	}
	file := p.trimmed(f, o.Slots)
	o.Trim = o.Trim.Keyed(file)
	if err := o.Trim.Check(file, p.cfg.Printer.Limits); err != nil {
		return err
	}
	if o.Soak != nil && f.Setpoints[heat.Bed] == 0 {
		return fmt.Errorf("%w: %s gives the bed no setpoint, so that there is nothing to soak", run.ErrState, o.File)
	}
	return p.begin(o, around, f, body, overruled)
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
		return p.step(run.Event{On: run.OnHold, Reason: run.HeldByHand})
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
		reason := run.StoppedByHand
		if j.state() == run.Interrupted {
			reason = run.GivenUp
		}
		return p.step(run.Event{On: run.OnStop, Reason: reason})
	})
}

// wayOut says what a person may do about a run that is in the way.
func (j *job) wayOut() string {
	if j.state() == run.Interrupted {
		return "pick it up, or stop it to give it up"
	}
	switch j.life.Stage() {
	case run.Settling, run.Leaving:
		return "its nozzle is on its way off the part; try again in a moment"
	case run.Returning:
		return "it is on its way back to the part; hold it again, or wait until it ends"
	case run.CutShort, run.Paused:
		return "resume it, or stop it"
	}
	return "hold it, stop it, or wait until it ends"
}
