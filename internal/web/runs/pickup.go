package runs

import (
	"context"
	"io"
	"math"
	"net/http"

	"github.com/danielgtaylor/huma/v2"
	"github.com/go-chi/chi/v5"

	"diathermon/internal/api"
	"diathermon/internal/api/ops"
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
	desk.Show(d, ops.PlanPickUp, func(ctx context.Context, in *ops.PickUpFrom) (api.Plan, error) {
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

	desk.Show(d, ops.PickUpRun, func(ctx context.Context, in *ops.IDWith[api.PickUp]) (api.Run, error) {
		now, err := a.Host.PickUp(ctx, in.ID, choiceOf(in.Body))
		if err != nil {
			return api.Run{}, err
		}
		return NowOf(now), nil
	})

	op := desk.Archive(d.Describe(ops.GetRunRecording.Call))
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
