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

// runID is the input of a call about one run.
type runID struct {
	ID string `path:"id" doc:"The run's ID"`
}

func (a Area) mountRuns(d *desk.Desk) {
	start := desk.Answering(http.StatusCreated, d.Op("start-run", http.MethodPost, "/v1/runs", desk.Start, "Start a file", 403, 404, 409, 422, 503))
	desk.Handle(d, start, func(ctx context.Context, in *struct{ Body api.StartRun }) (*struct {
		Location string `header:"Location"`
		Body     api.Run
	}, error) {
		whys, err := Overruling(ctx, d, in.Body.Overrule)
		if err != nil {
			return nil, err
		}
		if p := d.Lacking(ctx, desk.Operate); (in.Body.Trim != nil || in.Body.Before != nil || in.Body.After != nil) && p != nil {
			return nil, p
		}
		now, err := a.Host.Start(ctx, orderOf(in.Body, guard.Caller(ctx), whys))
		if err != nil {
			return nil, err
		}
		return &struct {
			Location string `header:"Location"`
			Body     api.Run
		}{"/v1/runs/" + now.ID, NowOf(now)}, nil
	})

	desk.Show(d, d.Op("get-around", http.MethodGet, "/v1/printer/around", desk.Read, "The routines that are performed around every run"),
		func(context.Context, *struct{}) (api.Around, error) { return AroundOf(a.Around.Around()), nil })
	desk.Show(d, d.Op("set-around", http.MethodPut, "/v1/printer/around", desk.Keep, "Say which routines are performed around every run", 422),
		func(_ context.Context, in *struct{ Body api.Around }) (api.Around, error) {
			err := a.Around.SetAround(*ToAround(in.Body))
			return AroundOf(a.Around.Around()), err
		})

	desk.Show(d, d.Op("list-runs", http.MethodGet, "/v1/runs", desk.Read, "List runs, the newest first"),
		func(ctx context.Context, in *struct {
			Before time.Time `query:"before" doc:"Only runs created before then"`
			Limit  int       `query:"limit" default:"50" minimum:"1" maximum:"500"`
		}) (api.Runs, error) {
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

	desk.Show(d, d.Op("get-run", http.MethodGet, "/v1/runs/{id}", desk.Read, "One run", 404),
		func(ctx context.Context, in *runID) (api.Run, error) {
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

	desk.Show(d, d.Op("trim-run", http.MethodPatch, "/v1/runs/{id}/trim", desk.Operate, "Let a run's lines differ from its file's from the next one on; what is left out stays", 404, 409, 422),
		func(ctx context.Context, in *struct {
			ID   string `path:"id" doc:"The run's ID"`
			Body api.ChangeTrim
		}) (api.Run, error) {
			now, err := a.Host.Trim(ctx, in.ID, changeOf(in.Body), guard.Caller(ctx))
			return NowOf(now), err
		})

	desk.Show(d, d.Op("set-until", http.MethodPut, "/v1/runs/{id}/until", desk.Operate, "Let a run be held, or end, at a layer or a height", 404, 409, 422),
		func(ctx context.Context, in *struct {
			ID   string `path:"id" doc:"The run's ID"`
			Body api.SetUntil
		}) (api.Run, error) {
			now, err := a.Host.Until(ctx, in.ID, printing.Place{Layer: in.Body.Layer, Height: in.Body.Height, End: in.Body.End}, guard.Caller(ctx))
			return NowOf(now), err
		})
	desk.Show(d, d.Op("drop-until", http.MethodDelete, "/v1/runs/{id}/until", desk.Operate, "Let it go on to its file's end", 404, 409),
		func(ctx context.Context, in *runID) (api.Run, error) {
			now, err := a.Host.Onward(ctx, in.ID)
			return NowOf(now), err
		})

	control := func(verb, summary string, act func(Host, context.Context, string) (printing.Now, error)) {
		desk.Show(d, d.Op(verb+"-run", http.MethodPost, "/v1/runs/{id}/"+verb, desk.Operate, summary, 404, 409),
			func(ctx context.Context, in *runID) (api.Run, error) {
				now, err := act(a.Host, ctx, in.ID)
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
	control("hold", "Keep the file's lines back; the moves that the printer has already are made", Host.Hold)
	control("resume", "Let a held run go on", Host.Resume)
	control("stop", "End a run early, with heaters and fan off", Host.Stop)
}
