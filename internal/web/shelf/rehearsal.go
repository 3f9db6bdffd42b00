package shelf

import (
	"cmp"
	"context"
	"errors"
	"net/http"
	"slices"

	"diathermon/internal/api"
	"diathermon/internal/api/ops"
	"diathermon/internal/core/heat"
	"diathermon/internal/core/toolpath"
	"diathermon/internal/facts"
	"diathermon/internal/rehearsal"
	"diathermon/internal/web/desk"
	webheat "diathermon/internal/web/heat"
)

// Stage rehearses files.
type Stage interface {
	Begin(f toolpath.File) rehearsal.Rehearsal
	Of(f toolpath.File) (rehearsal.Rehearsal, error) // or rehearsal.ErrNone
	Stop(f toolpath.File) error                      // or rehearsal.ErrNone
}

// mountRehearsal mounts the rehearsal of a file.
func (a Area) mountRehearsal(d *desk.Desk) {
	d.Know(desk.Kind{Err: rehearsal.ErrNone, Status: http.StatusNotFound, Title: "it was not rehearsed"})
	desk.Show(d, ops.RehearseFile, func(ctx context.Context, in *ops.Name) (api.Rehearsal, error) {
		f, err := a.Shelf.Known(ctx, in.Name)
		if err != nil {
			return api.Rehearsal{}, err
		}
		return rehearsalOf(a.Stage.Begin(f)), nil
	})
	desk.ShowIfAny(d, ops.GetRehearsal, func(ctx context.Context, in *ops.Name) (*api.Rehearsal, error) {
		f, err := a.Shelf.Known(ctx, in.Name)
		if err != nil {
			return nil, err
		}
		r, err := a.Stage.Of(f)
		if errors.Is(err, rehearsal.ErrNone) {
			return nil, nil
		}
		out := rehearsalOf(r)
		return &out, err
	})
	desk.Do(d, ops.StopRehearsal, func(ctx context.Context, in *ops.Name) error {
		f, err := a.Shelf.Known(ctx, in.Name)
		if err != nil {
			return err
		}
		return a.Stage.Stop(f)
	})
}

func rehearsalOf(r rehearsal.Rehearsal) api.Rehearsal {
	out := api.Rehearsal{
		File: r.File, Digest: r.Digest, State: string(r.State), Reason: r.Reason, Asked: r.Asked, Ended: api.Moment(r.Ended),
		Share: r.Share, Line: r.Line, ClockSeconds: r.Clock.Seconds(),
	}
	if r.Report != nil {
		out.Report = reportOf(r.Report)
	}
	return out
}

func reportOf(r *rehearsal.Report) *api.RehearsalReport {
	out := &api.RehearsalReport{
		Seconds: r.Took.Seconds(), LayingSeconds: r.Laying.Seconds(), HomingSeconds: r.Homing.Seconds(), DwellingSeconds: r.Dwelling.Seconds(), StarvedSeconds: r.Starved.Seconds(),
		Commands: r.Commands, States: []api.RehearsalState{}, Problems: append([]api.Finding{}, facts.Findings(r.Problems)...), Alarms: []api.RehearsalAlarm{}, MoreAlarms: r.More,
		Learned: []string{}, Limits: facts.Limits(r.Limits), Heat: []api.HeatTrace{},
	}
	for _, s := range r.States {
		out.States = append(out.States, api.RehearsalState{State: string(s.State), Seconds: s.Took.Seconds(), Times: s.Times})
	}
	for _, a := range r.Alarms {
		out.Alarms = append(out.Alarms, api.RehearsalAlarm{Heater: string(a.Heater), Guard: string(a.Guard), Action: string(a.Action), Text: a.Text, AfterSeconds: a.After.Seconds(), Line: a.Line})
	}
	for _, h := range r.Learned {
		out.Learned = append(out.Learned, string(h))
	}
	for h, spans := range r.Heat {
		end := r.Begins.Add(r.Took)
		out.Heat = append(out.Heat, webheat.TraceOf(h, heat.Chart(spans, r.Begins, end, r.Step, mostPoints)))
	}
	slices.SortFunc(out.Heat, func(a, b api.HeatTrace) int { return cmp.Compare(b.Heater, a.Heater) })
	return out
}

// mostPoints is how many points a heater has in the chart of a rehearsal.
const mostPoints = 600
