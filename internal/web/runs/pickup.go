package runs

import (
	"context"
	"io"
	"math"
	"net/http"

	"github.com/danielgtaylor/huma/v2"
	"github.com/go-chi/chi/v5"

	"diathermon/internal/api"
	"diathermon/internal/host/printing"
	"diathermon/internal/web/desk"
)

// choiceOf turns a request into what the host understands.
func choiceOf(p api.PickUp) printing.Choice {
	c := printing.Choice{Layer: p.Layer, Command: p.Command, Height: math.NaN()}
	if p.Height != nil {
		c.Height = *p.Height
	}
	return c
}

func (a Area) mountPickUp(d *desk.Desk) {
	desk.Show(d, d.Op("plan-pick-up", http.MethodGet, "/v1/runs/{id}/pick-up", desk.Read, "How an interrupted run would be picked up on a printer that has forgotten everything", 404, 409, 422),
		func(ctx context.Context, in *struct {
			ID      string  `path:"id"`
			Layer   int     `query:"layer" minimum:"0" doc:"From the beginning of that layer; from 1"`
			Command int     `query:"command" minimum:"0" doc:"Or behind that many of the file's commands"`
			Height  float64 `query:"height" minimum:"0" doc:"At which the nozzle is now, mm; 0: as the run left it"`
		}) (api.Plan, error) {
			choice := api.PickUp{Layer: in.Layer, Command: in.Command}
			if in.Height > 0 {
				choice.Height = &in.Height
			}
			plan, err := a.Host.Plan(ctx, in.ID, choiceOf(choice))
			if err != nil {
				return api.Plan{}, err
			}
			now, err := a.Host.State(ctx)
			if err != nil || now == nil {
				return api.Plan{}, printing.ErrNoRun
			}
			return planOf(plan, NowOf(*now), now.Layers), nil
		})

	desk.Show(d, d.Op("pick-up-run", http.MethodPost, "/v1/runs/{id}/pick-up", desk.Start, "Pick an interrupted run up: heat, home X and Y, prime, come back and go on", 404, 409, 422, 503),
		func(ctx context.Context, in *struct {
			ID   string `path:"id"`
			Body api.PickUp
		}) (api.Run, error) {
			now, err := a.Host.PickUp(ctx, in.ID, choiceOf(in.Body))
			if err != nil {
				return api.Run{}, err
			}
			return NowOf(now), nil
		})

	op := desk.Archive(d.Op("get-run-recording", http.MethodGet, "/v1/runs/{id}/recording", desk.Read, "What was recorded until a run broke, was interrupted or was stopped, as a ZIP archive", 404))
	op.Parameters = []*huma.Param{{Name: "id", In: "path", Required: true, Schema: &huma.Schema{Type: "string"}}}
	d.Raw(op, "", func(w http.ResponseWriter, r *http.Request) error {
		id := chi.URLParam(r, "id")
		file, err := a.Recordings.Recording(id)
		if err != nil {
			return err
		}
		defer file.Close()
		desk.SendArchive(w, id, func(w io.Writer) error {
			_, err := io.Copy(w, file)
			return err
		})
		return nil
	})
}
