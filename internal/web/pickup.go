package web

import (
	"context"
	"fmt"
	"io"
	"math"
	"net/http"

	"github.com/danielgtaylor/huma/v2"
	"github.com/go-chi/chi/v5"

	"diathermon/internal/api"
	"diathermon/internal/host"
)

// choiceOf turns a request into what the host understands.
func choiceOf(p api.PickUp) host.Choice {
	c := host.Choice{Layer: p.Layer, Command: p.Command, Height: math.NaN()}
	if p.Height != nil {
		c.Height = *p.Height
	}
	return c
}

func (s *Server) pickUpOperations(r chi.Router) {
	huma.Register(s.api, operation("plan-pick-up", http.MethodGet, "/v1/runs/{id}/pick-up", scopeRead, "How an interrupted run would be picked up on a printer that has forgotten everything", 404, 409, 422),
		func(ctx context.Context, in *struct {
			ID      string  `path:"id"`
			Layer   int     `query:"layer" minimum:"0" doc:"From the beginning of that layer; from 1"`
			Command int     `query:"command" minimum:"0" doc:"Or behind that many of the file's commands"`
			Height  float64 `query:"height" minimum:"0" doc:"At which the nozzle is now, mm; 0: as the run left it"`
		}) (*answer[api.Plan], error) {
			choice := api.PickUp{Layer: in.Layer, Command: in.Command}
			if in.Height > 0 {
				choice.Height = &in.Height
			}
			plan, err := s.Host.Plan(ctx, in.ID, choiceOf(choice))
			if err != nil {
				return nil, s.problemOf(err)
			}
			now, err := s.Host.Bench(ctx)
			if err != nil || now.Run == nil {
				return nil, s.problemOf(host.ErrNoRun)
			}
			return &answer[api.Plan]{planOf(plan, runNowOf(*now.Run), now.Run.Layers)}, nil
		})

	huma.Register(s.api, operation("pick-up-run", http.MethodPost, "/v1/runs/{id}/pick-up", scopeStart, "Pick an interrupted run up: heat, home X and Y, prime, come back and go on", 404, 409, 422, 503),
		func(ctx context.Context, in *struct {
			ID   string `path:"id"`
			Body api.PickUp
		}) (*answer[api.Run], error) {
			now, err := s.Host.PickUp(ctx, in.ID, choiceOf(in.Body))
			if err != nil {
				return nil, s.problemOf(err)
			}
			return &answer[api.Run]{runNowOf(now)}, nil
		})

	s.raw(r, recordingOperation("get-recording", "/v1/wire/recording", "What the flight recorder holds: the last ten minutes of raw traffic, readings, positions and decisions, as a ZIP archive"), "/v1/wire/recording",
		func(w http.ResponseWriter, r *http.Request) {
			recording, err := s.Host.Recording(r.Context())
			if err != nil {
				problem(w, s.problemOf(err))
				return
			}
			archive(w, recording.Made.Format("20060102-150405"), recording.WriteArchive)
		})

	ofRun := recordingOperation("get-run-recording", "/v1/runs/{id}/recording", "What was recorded until a run broke, was interrupted or was stopped, as a ZIP archive", 404)
	ofRun.Parameters = []*huma.Param{{Name: "id", In: "path", Required: true, Schema: &huma.Schema{Type: "string"}}}
	s.raw(r, ofRun, ofRun.Path,
		func(w http.ResponseWriter, r *http.Request) {
			id := chi.URLParam(r, "id")
			file, err := s.Recordings.Recording(id)
			if err != nil {
				problem(w, s.problemOf(err))
				return
			}
			defer file.Close()
			archive(w, id, func(w io.Writer) error {
				_, err := io.Copy(w, file)
				return err
			})
		})
}

func recordingOperation(id, path, summary string, errors ...int) huma.Operation {
	op := operation(id, http.MethodGet, path, scopeRead, summary, errors...)
	op.Responses = map[string]*huma.Response{"200": {
		Description: "The archive", Content: map[string]*huma.MediaType{"application/zip": {Schema: &huma.Schema{Type: "string", Format: "binary"}}},
	}}
	return op
}

// archive sends a recording to be kept under a name of its own.
func archive(w http.ResponseWriter, name string, write func(io.Writer) error) {
	w.Header().Set("Content-Type", "application/zip")
	w.Header().Set("Content-Disposition", fmt.Sprintf("attachment; filename=%q", "diathermon-"+name+".zip"))
	if err := write(w); err != nil {
		panic(http.ErrAbortHandler) // so that nobody takes the part for the whole
	}
}
