package printing

import (
	"errors"
	"fmt"

	"diathermon/internal/core/preflight"
	"diathermon/internal/core/run"
	"diathermon/internal/core/wire"
)

// ErrAround means that a routine which was to be performed before a run or after it cannot.
var ErrAround = errors.New("a routine around the run cannot be performed")

// A Performer performs routines for runs.
type Performer interface {
	// Sound says what is wrong with a routine and the values of its parameters on this
	// printer, or nil. It may be called from anywhere but the loop.
	Sound(run.Performs) error
	// PerformFor begins a routine for somebody and calls over on the loop once it has ended,
	// with an error if it was not done.
	PerformFor(who string, r run.Performs, over func(error))
	// BreakOff stops what PerformFor has begun, into its safe state.
	BreakOff(why string)
}

// Through says who performs routines.
func (p *Printing) Through(performer Performer) { p.performer = performer }

// around are the routines around a run that is ordered so: those that every run has, unless
// the order has its own.
func (p *Printing) around(o Order) (run.Around, error) {
	var out run.Around
	if p.cfg.Usually != nil {
		out = p.cfg.Usually()
	}
	if o.Before != nil {
		out.Before = *o.Before
	}
	if o.After != nil {
		out.After = *o.After
	}
	if len(out.Before)+len(out.After) > 0 && p.performer == nil {
		return out, fmt.Errorf("%w: nobody performs routines here", ErrAround)
	}
	if len(out.Before) > mostAround || len(out.After) > mostAround {
		return out, fmt.Errorf("%w: up to %d go before and as many after", ErrAround, mostAround)
	}
	for when, all := range map[string][]run.Performs{"before": out.Before, "after": out.After} {
		for _, r := range all {
			if err := p.performer.Sound(r); err != nil {
				return out, fmt.Errorf("%w: %s, %s it: %w", ErrAround, r.Routine, when, err)
			}
		}
	}
	return out, nil
}

// mostAround is how many routines go before a run, and after it.
const mostAround = 8

// prepare performs a routine that comes before the run's first line.
func (p *Printing) prepare(j *job, r run.Performs) {
	last := j.performed == len(j.life.Record().Before)-1
	p.performer.PerformFor("the run of "+j.file.Name, r, func(err error) {
		if p.job != j {
			return
		}
		j.performed++
		if err == nil {
			err = p.changed(j)
		}
		if err != nil {
			p.stepOf(j, run.Event{On: run.OnPerformed, Reason: err.Error()})
			return
		}
		if last {
			p.lead(j)
		}
		p.stepOf(j, run.Event{On: run.OnPerformed})
	})
}

// changed says what has come in the way of a run while it was prepared, or nil.
func (p *Printing) changed(j *job) error {
	facts := p.facts()
	facts.File, facts.Busy = j.file.Summary, ""
	report := preflight.Look(facts)
	for _, c := range report.Checks {
		overruled := false
		for _, o := range j.life.Record().Overruled {
			overruled = overruled || o.Kind == string(c.Kind)
		}
		if c.Level == preflight.Block && !overruled {
			return errors.New(c.Title)
		}
	}
	return nil
}

// lead notes where the printer is as the file's first line comes, and lets the lines differ
// as they are to.
func (p *Printing) lead(j *job) {
	j.leads = p.where.Point().State
	if p.cfg.Back != nil {
		for _, line := range p.cfg.Back() { // what the file before has set is not this one's
			p.talk.Say(line, nil)
		}
	}
	if j.wanted.None() {
		return
	}
	c := j.trim.Next(j.wanted, j.leads)
	besides := j.trim.Take(c, nil)
	p.stepOf(j, run.Event{On: run.OnTrim, Trim: &c})
	for _, line := range besides {
		p.talk.Say(line, nil)
	}
}

// tidy performs what comes after a run that is finished, one after another; what cannot be
// done ends it, and is told.
func (p *Printing) tidy(r run.Record, rest []run.Performs) {
	if len(rest) == 0 || p.performer == nil {
		return
	}
	p.performer.PerformFor("the run of "+r.File, rest[0], func(err error) {
		if err != nil {
			p.loop.Message(wire.Wrong, fmt.Sprintf("%s, which comes after %s, was not done: %v", rest[0].Routine, r.File, err))
			return
		}
		p.tidy(r, rest[1:])
	})
}
