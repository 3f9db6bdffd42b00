// Package runs is the area of runs: starting, holding, resuming, stopping, picking up,
// looking back.
package runs

import (
	"context"
	"errors"
	"io/fs"
	"net/http"
	"os"
	"time"

	"diathermon/internal/api"
	"diathermon/internal/api/ops"
	"diathermon/internal/core/access"
	"diathermon/internal/core/preflight"
	"diathermon/internal/core/run"
	"diathermon/internal/core/stock"
	"diathermon/internal/core/trim"
	"diathermon/internal/facts"
	"diathermon/internal/host/printing"
	"diathermon/internal/web/desk"
	"diathermon/internal/web/guard"
)

// Log is what is kept of runs.
type Log interface {
	Runs(ctx context.Context, before time.Time, limit int) ([]run.Record, error)
	Run(ctx context.Context, id string) (run.Record, error)
}

// Recordings are what was kept of runs that went wrong.
type Recordings interface {
	Recording(id string) (*os.File, error) // or fs.ErrNotExist
}

// Host is the live machine's run.
type Host interface {
	State(ctx context.Context) (*printing.Now, error) // nil: there has been none
	Start(ctx context.Context, o printing.Order) (printing.Now, error)
	Hold(ctx context.Context, id string) (printing.Now, error)
	Resume(ctx context.Context, id string) (printing.Now, error)
	Stop(ctx context.Context, id string) (printing.Now, error)
	Trim(ctx context.Context, id string, change func(trim.Trim) trim.Trim, by string) (printing.Now, error)
	Until(ctx context.Context, id string, at printing.Place, by string) (printing.Now, error)
	Onward(ctx context.Context, id string) (printing.Now, error)
	Plan(ctx context.Context, id string, c printing.Choice) (run.Plan, error)
	PickUp(ctx context.Context, id string, c printing.Choice) (printing.Now, error)
}

// Around are the routines around every run.
type Around interface {
	Around() run.Around
	SetAround(run.Around) error
}

// Area is the area.
type Area struct {
	Host       Host
	Log        Log
	Recordings Recordings
	Around     Around
	Settle     func(context.Context) // lets the records catch up with what the host has told
}

// Mount mounts the area.
func (a Area) Mount(d *desk.Desk) {
	d.Know(
		desk.Kind{Err: run.ErrUnknown, Status: http.StatusNotFound, Title: "there is no such run"},
		desk.Kind{Err: printing.ErrNoRun, Status: http.StatusConflict, Title: "this run is not going on"},
		desk.Kind{Err: run.ErrState, Status: http.StatusConflict, Title: "the run is not in a state for that"},
		desk.Kind{Err: printing.ErrPlan, Status: http.StatusUnprocessableEntity, Title: "it cannot be picked up there"},
		desk.Kind{Err: printing.ErrMoved, Status: http.StatusConflict, Title: printing.ErrMoved.Error()},
		desk.Kind{Err: printing.ErrReplaced, Status: http.StatusConflict, Title: printing.ErrReplaced.Error()},
		desk.Kind{Err: printing.ErrPlace, Status: http.StatusUnprocessableEntity, Title: printing.ErrPlace.Error()},
		desk.Kind{Err: stock.ErrMapping, Status: http.StatusUnprocessableEntity, Title: stock.ErrMapping.Error()},
		desk.Kind{Err: printing.ErrAround, Status: http.StatusUnprocessableEntity, Title: printing.ErrAround.Error()},
		desk.Kind{Err: trim.ErrValue, Status: http.StatusUnprocessableEntity, Title: trim.ErrValue.Error()},
		desk.Kind{Err: preflight.ErrDanger, Status: http.StatusConflict, Title: preflight.ErrDanger.Error()},
		desk.Kind{Err: preflight.ErrWhy, Status: http.StatusUnprocessableEntity, Title: preflight.ErrWhy.Error()},
		desk.Kind{Err: printing.ErrJournal, Status: http.StatusInsufficientStorage, Title: "the run cannot be kept safe"},
		desk.Kind{Err: fs.ErrNotExist, Status: http.StatusNotFound, Title: "there is no recording of this run"},
	)
	d.KnowBy(func(err error) *api.Problem {
		var blocked *printing.BlockedError
		if !errors.As(err, &blocked) {
			return nil
		}
		return &api.Problem{Status: http.StatusConflict, Title: "it cannot start", Detail: blocked.Error(), Checks: facts.Checks(blocked.Checks)}
	})
	a.mountRuns(d)
	a.mountPickUp(d)
}

func (a Area) mountRuns(d *desk.Desk) {
	d.Settable(trim.Settable(), api.Trim{}, api.ChangeTrim{})
	desk.Make(d, ops.StartRun, func(ctx context.Context, in *ops.With[api.StartRun]) (api.Run, string, error) {
		whys, err := Overruling(ctx, d, in.Body.Overrule)
		if err != nil {
			return api.Run{}, "", err
		}
		if p := d.Lacking(ctx, access.Operate); (in.Body.Trim != nil || in.Body.Before != nil || in.Body.After != nil) && p != nil {
			return api.Run{}, "", p
		}
		now, err := a.Host.Start(ctx, orderOf(in.Body, guard.Caller(ctx), whys))
		if err != nil {
			return api.Run{}, "", err
		}
		return NowOf(now), "/v1/runs/" + now.ID, nil
	})

	desk.Show(d, ops.GetAround, func(context.Context, *ops.Nothing) (api.Around, error) { return AroundOf(a.Around.Around()), nil })
	desk.Show(d, ops.SetAround, func(_ context.Context, in *ops.With[api.Around]) (api.Around, error) {
		err := a.Around.SetAround(*ToAround(in.Body))
		return AroundOf(a.Around.Around()), err
	})

	desk.Show(d, ops.ListRuns, func(ctx context.Context, in *ops.Past) (api.Runs, error) {
		a.Settle(ctx)
		kept, err := a.Log.Runs(ctx, in.Before, in.Limit)
		if err != nil {
			return api.Runs{}, err
		}
		now, err := a.Host.State(ctx)
		if err != nil {
			return api.Runs{}, err
		}
		out := api.Runs{Runs: make([]api.Run, 0, len(kept))}
		for _, r := range kept {
			if now != nil && now.ID == r.ID {
				out.Runs = append(out.Runs, NowOf(*now))
				continue
			}
			out.Runs = append(out.Runs, Of(r))
		}
		return out, nil
	})

	desk.Show(d, ops.GetRun, func(ctx context.Context, in *ops.ID) (api.Run, error) {
		now, err := a.Host.State(ctx)
		if err == nil && now != nil && now.ID == in.ID {
			return NowOf(*now), nil
		}
		kept, err := a.Log.Run(ctx, in.ID)
		if err != nil {
			return api.Run{}, err
		}
		return Of(kept), nil
	})

	desk.Show(d, ops.TrimRun, func(ctx context.Context, in *ops.IDWith[api.ChangeTrim]) (api.Run, error) {
		now, err := a.Host.Trim(ctx, in.ID, changeOf(in.Body), guard.Caller(ctx))
		return NowOf(now), err
	})

	desk.Show(d, ops.SetUntil, func(ctx context.Context, in *ops.IDWith[api.SetUntil]) (api.Run, error) {
		now, err := a.Host.Until(ctx, in.ID, printing.Place{Layer: in.Body.Layer, Height: in.Body.Height, End: in.Body.End}, guard.Caller(ctx))
		return NowOf(now), err
	})
	desk.Show(d, ops.DropUntil, func(ctx context.Context, in *ops.ID) (api.Run, error) {
		now, err := a.Host.Onward(ctx, in.ID)
		return NowOf(now), err
	})

	for _, control := range []struct {
		op  ops.Op[ops.ID, api.Run]
		act func(Host, context.Context, string) (printing.Now, error)
	}{{ops.HoldRun, Host.Hold}, {ops.ResumeRun, Host.Resume}, {ops.StopRun, Host.Stop}} {
		desk.Show(d, control.op, func(ctx context.Context, in *ops.ID) (api.Run, error) {
			now, err := control.act(a.Host, ctx, in.ID)
			if err != nil {
				if _, missing := a.Log.Run(ctx, in.ID); missing != nil && d.Of(err).Status == http.StatusConflict {
					a.Settle(ctx)
					if _, missing = a.Log.Run(ctx, in.ID); missing != nil {
						err = missing
					}
				}
				return api.Run{}, err
			}
			return NowOf(now), nil
		})
	}
}
