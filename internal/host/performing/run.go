package performing

import (
	"context"
	"errors"
	"fmt"

	"github.com/google/uuid"

	"diathermon/internal/core/routine"
	"diathermon/internal/core/run"
)

// Sound says what is wrong with a routine that is to be performed around a run, and with
// the values of its parameters, or nil. It may be called from anywhere but the loop.
func (p *Performing) Sound(r run.Performs) error {
	read, err := p.cfg.Library(r.Routine)
	if err != nil {
		return err
	}
	if !read.Idle {
		return fmt.Errorf("%w: it is for a held run", ErrNow)
	}
	m, err := p.Machine(context.Background())
	if err != nil {
		return err
	}
	_, _, err = routine.Begin(read, m, p.cfg.Library, r.Values, routine.World{})
	return err
}

// PerformFor begins a routine for somebody and calls over on the loop once it has ended,
// with an error if it was not done. It is called on the loop.
func (p *Performing) PerformFor(who string, r run.Performs, over func(error)) {
	if p.Doing() != "" {
		over(fmt.Errorf("%w: %s", ErrNow, p.Doing()))
		return
	}
	p.getting = r.Routine
	record := routine.Record{ID: uuid.Must(uuid.NewV7()).String(), Routine: r.Routine, By: who, Begun: p.loop.Wall()}
	p.awaited = record.ID
	set := p.set()
	p.loop.Aside(func() func() {
		read, err := p.cfg.Library(r.Routine)
		m := p.cfg.Memory
		if err == nil {
			if record.Text = read.Text; m != nil {
				err = remember(m, record, r.Values, set)
			}
		}
		return func() {
			kept := err == nil
			wanted := p.awaited == record.ID // otherwise it was broken off meanwhile
			if wanted {
				p.getting, p.awaited = "", ""
			}
			switch {
			case err != nil:
			case !wanted:
				err = errors.New("it was broken off")
			default:
				if err = p.free(read); err == nil {
					p.over = over // before it is begun: it may end at once
					if err = p.begin(record, read, p.cfg.Library, r.Values); err != nil {
						p.over = nil
					}
				}
			}
			if err == nil {
				return
			}
			if kept && m != nil {
				p.forget(record.ID)
			}
			over(err)
		}
	})
}

// BreakOff stops what PerformFor has begun, into its safe state. Nobody is told.
func (p *Performing) BreakOff(why string) {
	if p.awaited != "" {
		p.getting, p.awaited = "", ""
	}
	if p.over == nil {
		return
	}
	p.over = nil
	if p.going() && p.talk.Live() { // otherwise whoever hears of that ends it
		p.do(p.perf.Stop(p.world(), why))
		p.look()
	}
}

// tellOver tells whoever it was performed for.
func (p *Performing) tellOver() {
	over := p.over
	if p.over = nil; over == nil {
		return
	}
	if p.perf.State == routine.Finished {
		over(nil)
		return
	}
	over(errors.New(ended(p.perf)))
}
