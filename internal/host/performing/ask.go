package performing

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"

	"github.com/google/uuid"

	"diathermon/internal/core/bounds"
	"diathermon/internal/core/routine"
	"diathermon/internal/core/run"
	"diathermon/internal/host/talk"
)

// Perform begins a routine with values for its parameters and returns how it stands. It
// may be called from anywhere.
func (p *Performing) Perform(ctx context.Context, r *routine.Routine, library routine.Library, values map[string]string, by string) (now Now, err error) {
	record := routine.Record{ID: uuid.Must(uuid.NewV7()).String(), Routine: r.Name, Text: r.Text, By: by}
	var set run.Point
	asked := p.loop.Ask(ctx, func() {
		if err = p.free(r); err == nil {
			p.getting, record.Begun, set = r.Name, p.loop.Wall(), p.set()
		}
	})
	if err = errors.Join(asked, err); err != nil {
		return Now{}, err
	}
	m := p.cfg.Memory
	if m != nil { // before anything is said
		err = remember(m, record, values, set)
	}
	asked = p.loop.Ask(context.WithoutCancel(ctx), func() {
		p.getting = ""
		if err == nil {
			err = p.free(r)
		}
		if err == nil {
			err = p.begin(record, r, library, values)
		}
		now = p.Now()
	})
	if err = errors.Join(asked, err); err != nil && m != nil {
		err = errors.Join(err, m.Forget(record.ID))
	}
	return now, err
}

func remember(m Memory, r routine.Record, values map[string]string, set run.Point) error {
	data, err := json.Marshal(memory{ID: r.ID, Routine: r.Routine, Text: r.Text, By: r.By, Values: values, Begun: r.Begun, Set: set})
	if err != nil {
		return err
	}
	return m.Remember(r.ID, data)
}

func (p *Performing) begin(record routine.Record, r *routine.Routine, library routine.Library, values map[string]string) error {
	perf, effects, err := routine.Begin(r, p.machine(), library, values, p.world())
	if err != nil {
		return err
	}
	record.Values = perf.Values
	p.perf, p.record, p.held = perf, record, p.parked()
	p.loop.Decide("routine %s begins, by %s", r.Name, record.By)
	p.keep()
	p.do(effects)
	p.look()
	return nil
}

// free says why a routine cannot be performed now, or nil.
func (p *Performing) free(r *routine.Routine) error {
	s := p.run.Situation()
	switch {
	case p.Doing() != "":
		return fmt.Errorf("%w: %s", ErrNow, p.Doing())
	case !p.talk.Live():
		return fmt.Errorf("%w: %s", talk.ErrNotLive, p.talk.Reason())
	case s.Run != "" && !s.Parked:
		return fmt.Errorf("%w: %s is %s; %s", bounds.ErrBusy, s.Run, s.State, s.WayOut)
	case s.Run != "" && !r.Held:
		return fmt.Errorf("%w: %s is not for a held run, and %s is held", ErrNow, r.Name, s.Run)
	case s.Run == "" && !r.Idle:
		return fmt.Errorf("%w: %s is for a held run, and none is", ErrNow, r.Name)
	case p.motion.Going():
		return fmt.Errorf("%w: %s", ErrNow, p.motion.Doing())
	case len(p.heat.Alarms()) > 0:
		return fmt.Errorf("%w: %s", run.ErrAlarm, p.heat.Alarms()[0])
	case p.heat.Taken():
		return fmt.Errorf("%w: a warm-up or a tuning goes on; end it first", ErrNow)
	}
	return nil
}

// Stop ends what is performed, into its safe state. It may be called from anywhere.
func (p *Performing) Stop(ctx context.Context, id, by string) (Now, error) {
	return p.control(ctx, id, func() error {
		p.do(p.perf.Stop(p.world(), "stopped by "+by))
		return nil
	})
}

// Answer answers its question. It may be called from anywhere.
func (p *Performing) Answer(ctx context.Context, id string, question int, answer, by string) (Now, error) {
	return p.control(ctx, id, func() error {
		effects, err := p.perf.Answer(p.world(), question, answer, by)
		p.do(effects)
		return err
	})
}

func (p *Performing) control(ctx context.Context, id string, f func() error) (now Now, err error) {
	asked := p.loop.Ask(ctx, func() {
		if !p.going() || id != "" && id != p.record.ID {
			err = ErrNone
			return
		}
		err = f()
		p.look()
		now = p.Now()
	})
	return now, errors.Join(asked, err)
}
