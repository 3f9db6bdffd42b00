// Package routines is the area of routines: written, checked, performed, answered, stopped
// and looked back at.
package routines

import (
	"context"
	"errors"
	"io/fs"
	"net/http"
	"time"

	"diathermon/internal/api"
	"diathermon/internal/api/ops"
	"diathermon/internal/core/gcode"
	"diathermon/internal/core/routine"
	"diathermon/internal/host/performing"
	store "diathermon/internal/routines"
	"diathermon/internal/web/desk"
	"diathermon/internal/web/guard"
)

// Host performs routines.
type Host interface {
	Machine(ctx context.Context) (routine.Machine, error)
	Perform(ctx context.Context, r *routine.Routine, library routine.Library, values map[string]string, by string) (performing.Now, error)
	Stop(ctx context.Context, id, by string) (performing.Now, error)
	Answer(ctx context.Context, id string, question int, answer, by string) (performing.Now, error)
}

// Store keeps routines.
type Store interface {
	List() []store.Entry
	Entry(name string) (store.Entry, error)
	Routine(name string) (*routine.Routine, error)
	Check(text string, m routine.Machine) (*routine.Routine, routine.Facts, error)
	Store(name, text string, m routine.Machine) (e store.Entry, replaced bool, err error)
	Remove(name string) error
}

// Past is what was performed.
type Past interface {
	Performances(ctx context.Context, before time.Time, n int) ([]routine.Record, error)
	PerformanceOf(ctx context.Context, id string) (routine.Record, error)
}

// Area is the area.
type Area struct {
	Host     Host
	Routines Store
	Past     Past
	Settle   func(ctx context.Context) // waits until what the host has told can be looked up
}

// Mount mounts the area.
func (a Area) Mount(d *desk.Desk) {
	d.Know(
		desk.Kind{Err: store.ErrMissing, Status: http.StatusNotFound, Title: store.ErrMissing.Error()},
		desk.Kind{Err: store.ErrReady, Status: http.StatusConflict, Title: store.ErrReady.Error()},
		desk.Kind{Err: store.ErrName, Status: http.StatusUnprocessableEntity, Title: store.ErrName.Error()},
		desk.Kind{Err: store.ErrMany, Status: http.StatusConflict, Title: store.ErrMany.Error()},
		desk.Kind{Err: routine.ErrValue, Status: http.StatusUnprocessableEntity, Title: routine.ErrValue.Error()},
		desk.Kind{Err: routine.ErrAnswer, Status: http.StatusConflict, Title: routine.ErrAnswer.Error()},
		desk.Kind{Err: performing.ErrNow, Status: http.StatusConflict, Title: performing.ErrNow.Error()},
		desk.Kind{Err: performing.ErrNone, Status: http.StatusConflict, Title: performing.ErrNone.Error()},
	)
	d.KnowBy(func(err error) *api.Problem {
		if wrong := (*routine.Error)(nil); errors.As(err, &wrong) {
			return &api.Problem{Status: http.StatusUnprocessableEntity, Title: "the routine is not sound", Detail: err.Error()}
		}
		return nil
	})
	a.mountTexts(d)
	a.mountPerformances(d)
}

func (a Area) mountTexts(d *desk.Desk) {
	desk.Show(d, ops.ListRoutines, func(ctx context.Context, _ *ops.Nothing) (api.Routines, error) {
		m, err := a.Host.Machine(ctx)
		out := api.Routines{Routines: []api.Routine{}}
		for _, e := range a.Routines.List() {
			out.Routines = append(out.Routines, a.of(e, m))
		}
		return out, err
	})
	desk.Show(d, ops.GetRoutine, func(ctx context.Context, in *ops.Name) (api.Routine, error) {
		e, err := a.Routines.Entry(in.Name)
		if err != nil {
			return api.Routine{}, err
		}
		m, err := a.Host.Machine(ctx)
		return a.of(e, m), err
	})
	desk.Show(d, ops.CheckRoutine, func(ctx context.Context, in *ops.With[api.RoutineText]) (api.Routine, error) {
		m, err := a.Host.Machine(ctx)
		if err != nil {
			return api.Routine{}, err
		}
		read, _, err := a.Routines.Check(in.Body.Text, m)
		if err != nil {
			return api.Routine{}, err
		}
		return a.of(store.Entry{Name: read.Name, Text: read.Text, Read: read}, m), nil
	})
	desk.Show(d, ops.StoreRoutine, func(ctx context.Context, in *ops.NameWith[api.RoutineText]) (api.Routine, error) {
		m, err := a.Host.Machine(ctx)
		if err != nil {
			return api.Routine{}, err
		}
		e, _, err := a.Routines.Store(in.Name, in.Body.Text, m)
		if err != nil {
			return api.Routine{}, err
		}
		return a.of(e, m), nil
	})
	desk.Do(d, ops.RemoveRoutine, func(_ context.Context, in *ops.Name) error { return a.Routines.Remove(in.Name) })
}

func (a Area) mountPerformances(d *desk.Desk) {
	desk.Show(d, ops.PerformRoutine, func(ctx context.Context, in *ops.NameWith[api.Perform]) (api.Performance, error) {
		r, err := a.Routines.Routine(in.Name)
		if err != nil {
			return api.Performance{}, err
		}
		now, err := a.Host.Perform(ctx, r, a.Routines.Routine, in.Body.Values, guard.Caller(ctx))
		return Of(now), err
	})
	desk.Show(d, ops.AnswerQuestion, func(ctx context.Context, in *ops.IDWith[api.QuestionAnswer]) (api.Performance, error) {
		now, err := a.Host.Answer(ctx, in.ID, in.Body.Question, in.Body.Answer, guard.Caller(ctx))
		return Of(now), err
	})
	desk.Show(d, ops.StopPerformance, func(ctx context.Context, in *ops.ID) (api.Performance, error) {
		now, err := a.Host.Stop(ctx, in.ID, guard.Caller(ctx))
		return Of(now), err
	})
	desk.Show(d, ops.ListPerformances, func(ctx context.Context, in *ops.Past) (api.Performances, error) {
		a.Settle(ctx)
		all, err := a.Past.Performances(ctx, in.Before, in.Limit)
		out := api.Performances{Performances: []api.Performance{}}
		for _, p := range all {
			out.Performances = append(out.Performances, pastOf(p))
		}
		return out, err
	})
	desk.Show(d, ops.GetPerformance, func(ctx context.Context, in *ops.ID) (api.Performance, error) {
		a.Settle(ctx)
		p, err := a.Past.PerformanceOf(ctx, in.ID)
		if errors.Is(err, fs.ErrNotExist) {
			return api.Performance{}, &api.Problem{Status: http.StatusNotFound, Title: "there is no such performance"}
		}
		return pastOf(p), err
	})
}

// of is a routine as the contract says it.
func (a Area) of(e store.Entry, m routine.Machine) api.Routine {
	out := api.Routine{Name: e.Name, Text: e.Text, Own: e.Own, Ready: e.Ready, Buttons: []string{}, Parameters: []api.RoutineParameter{}, Sentences: []string{}, May: mayOf(routine.Facts{})}
	if e.Err != nil {
		out.Trouble = e.Err.Error()
		return out
	}
	r := e.Read
	out.About, out.Idle, out.Held, out.Safe = r.About, r.Idle, r.Held, r.Safe.String()
	for _, b := range r.Buttons {
		out.Buttons = append(out.Buttons, string(b))
	}
	fields, err := r.Fields(m)
	for _, f := range fields {
		out.Parameters = append(out.Parameters, api.RoutineParameter{Name: f.Name, Type: string(f.Type), Unit: f.Unit, Low: f.Low, High: f.High, Words: f.Words, Default: f.Default})
	}
	var facts routine.Facts
	if err == nil {
		facts, err = r.Check(m, a.Routines.Routine)
	}
	if err != nil {
		out.Trouble = err.Error()
	}
	out.May, out.Sentences = mayOf(facts), facts.Sentences(r.Safe)
	return out
}

func mayOf(f routine.Facts) api.RoutineMay {
	out := api.RoutineMay{
		Heats: map[string]float64{}, To: map[string]api.Range{}, By: map[string]api.Range{}, Pushes: f.Pushes, Draws: f.Draws, Homes: f.Homes, MotorsOff: f.MotorsOff,
		SaysBed: f.SaysBed, Stores: f.Stores, Tunes: f.Tunes, Asks: f.Asks, Outputs: append([]string{}, f.Outputs...), LongestSeconds: f.Longest.Seconds(),
	}
	for h, most := range f.Heats {
		out.Heats[string(h)] = most
	}
	for axis := range 3 {
		letter := string(gcode.Letters[axis])
		if to := f.To[axis]; to != nil {
			out.To[letter] = api.Range{From: to.Low, To: to.High}
		}
		if by := f.By[axis]; by != nil {
			out.By[letter] = api.Range{From: by.Low, To: by.High}
		}
	}
	return out
}

// Of is a performance that goes on, as the contract says it.
func Of(now performing.Now) api.Performance {
	out := api.Performance{ID: now.ID, Routine: now.Routine, By: now.By, State: string(now.State), Why: now.Why, Begun: now.Begun, Said: now.Said}
	if now.ID == "" {
		out.State = string(routine.None)
	}
	if !now.Ended.IsZero() {
		out.Ended = &now.Ended
	}
	if !now.Until.IsZero() {
		out.Until = &now.Until
	}
	if q := now.Question; q != nil {
		out.Question = &api.Question{Number: q.Number, Text: q.Text, Answers: q.Answers, Otherwise: q.Otherwise}
	}
	return out
}

func pastOf(p routine.Record) api.Performance {
	out := api.Performance{ID: p.ID, Routine: p.Routine, By: p.By, State: string(p.State), Why: p.Why, Begun: p.Begun, Values: p.Values, LeftOut: p.Left}
	if !p.Ended.IsZero() {
		out.Ended = &p.Ended
	}
	for _, e := range p.Entries {
		out.Entries = append(out.Entries, api.PerformanceEntry{AtSeconds: e.At.Seconds(), Kind: string(e.Kind), Text: e.Text})
	}
	return out
}

// Event is what everyone is told of it, as data of the contract; nil if what is another's.
func Event(what any) any {
	if now, ok := what.(performing.Now); ok {
		return Of(now)
	}
	return nil
}
