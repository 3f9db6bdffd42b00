package web

import (
	"context"
	"net/http"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"diathermon/internal/api"
	"diathermon/internal/core/heat"
	"diathermon/internal/host"
)

// runID is the input of a call about one run.
type runID struct {
	ID string `path:"id" doc:"The run's ID"`
}

func (s *Server) runOperations() {
	start := operation("start-run", http.MethodPost, "/v1/runs", scopeStart, "Start a file", 404, 409, 422, 503)
	start.DefaultStatus = http.StatusCreated
	huma.Register(s.api, start, func(ctx context.Context, in *struct{ Body api.StartRun }) (*struct {
		Location string `header:"Location"`
		Body     api.Run
	}, error) {
		var soak *heat.Soak
		if in.Body.Soak {
			soak = &heat.Soak{For: inSeconds(in.Body.SoakSeconds)}
		}
		now, err := s.Host.Start(ctx, in.Body.File, soak)
		if err != nil {
			return nil, s.problemOf(err)
		}
		return &struct {
			Location string `header:"Location"`
			Body     api.Run
		}{"/v1/runs/" + now.ID, runNowOf(now)}, nil
	})

	huma.Register(s.api, operation("list-runs", http.MethodGet, "/v1/runs", scopeRead, "List runs, the newest first"),
		func(ctx context.Context, in *struct {
			Before time.Time `query:"before" doc:"Only runs created before then"`
			Limit  int       `query:"limit" default:"50" minimum:"1" maximum:"500"`
		}) (*answer[api.Runs], error) {
			s.settle(ctx)
			kept, err := s.Log.Runs(ctx, in.Before, in.Limit)
			if err != nil {
				return nil, s.problemOf(err)
			}
			now, err := s.Host.Bench(ctx)
			if err != nil {
				return nil, s.problemOf(err)
			}
			out := api.Runs{Runs: make([]api.Run, 0, len(kept))}
			for _, r := range kept {
				if now.Run != nil && now.Run.ID == r.ID {
					out.Runs = append(out.Runs, runNowOf(*now.Run))
					continue
				}
				out.Runs = append(out.Runs, runOf(r))
			}
			return &answer[api.Runs]{out}, nil
		})

	huma.Register(s.api, operation("get-run", http.MethodGet, "/v1/runs/{id}", scopeRead, "One run", 404),
		func(ctx context.Context, in *runID) (*answer[api.Run], error) {
			now, err := s.Host.Bench(ctx)
			if err == nil && now.Run != nil && now.Run.ID == in.ID {
				return &answer[api.Run]{runNowOf(*now.Run)}, nil
			}
			kept, err := s.Log.Run(ctx, in.ID)
			if err != nil {
				return nil, s.problemOf(err)
			}
			return &answer[api.Run]{runOf(kept)}, nil
		})

	control := func(verb, summary string, act func(context.Context, string) (host.RunNow, error)) {
		huma.Register(s.api, operation(verb+"-run", http.MethodPost, "/v1/runs/{id}/"+verb, scopeOperate, summary, 404, 409),
			func(ctx context.Context, in *runID) (*answer[api.Run], error) {
				now, err := act(ctx, in.ID)
				if err != nil {
					if _, missing := s.Log.Run(ctx, in.ID); missing != nil && s.problemOf(err).Status == http.StatusConflict {
						s.settle(ctx)
						if _, missing = s.Log.Run(ctx, in.ID); missing != nil {
							err = missing
						}
					}
					return nil, s.problemOf(err)
				}
				return &answer[api.Run]{runNowOf(now)}, nil
			})
	}
	control("hold", "Keep the file's lines back; the moves that the printer has already are made", s.Host.Hold)
	control("resume", "Let a held run go on", s.Host.Resume)
	control("stop", "End a run early, with heaters and fan off", s.Host.Stop)
}

// settle lets the log catch up with what the host has told. A database that is
// away must not make anybody wait for it.
func (s *Server) settle(ctx context.Context) {
	ctx, cancel := context.WithTimeout(ctx, 2*time.Second)
	defer cancel()
	if err := s.Log.Flush(ctx); err != nil {
		s.Logger.Warn("the log is behind", "error", err)
	}
}
