package setup

import (
	"context"
	"net/http"

	"diathermon/internal/api"
	"diathermon/internal/api/ops"
	"diathermon/internal/core/machine"
	"diathermon/internal/host"
	"diathermon/internal/web/desk"
)

// Describing keeps how the printer is described.
type Describing interface {
	Described(ctx context.Context) (machine.Described, error)
	Say(said machine.Description, guide machine.Guide) error
	TakeUp(ctx context.Context) error
}

// describe mounts what the printer is.
func (a Area) describe(d *desk.Desk) {
	d.Know(
		desk.Kind{Err: machine.ErrDescription, Status: http.StatusUnprocessableEntity, Title: machine.ErrDescription.Error()},
		desk.Kind{Err: machine.ErrDecided, Status: http.StatusConflict, Title: machine.ErrDecided.Error()},
		desk.Kind{Err: host.ErrUnderWay, Status: http.StatusConflict, Title: host.ErrUnderWay.Error()},
	)
	d.Settable(machine.Settable(), api.Description{}, api.DescribePrinter{})
	desk.Show(d, ops.GetPrinter, func(ctx context.Context, _ *ops.Nothing) (api.Described, error) { return a.described(ctx) })
	desk.Show(d, ops.DescribePrinter, func(ctx context.Context, in *ops.With[api.DescribePrinter]) (api.Described, error) {
		guide := machine.Guide{}
		if g := in.Body.Guide; g != nil {
			guide = machine.Guide{State: machine.GuideState(g.State), Step: g.Step}
		}
		if err := a.Describing.Say(machine.Description(in.Body.Description), guide); err != nil {
			return api.Described{}, err
		}
		return a.described(ctx)
	})
	desk.Do(d, ops.TakeUpPrinter, func(ctx context.Context, _ *ops.Nothing) error { return a.Describing.TakeUp(ctx) })
}

func (a Area) described(ctx context.Context) (api.Described, error) {
	now, err := a.Describing.Described(ctx)
	out := api.Described{
		Printer: api.Description(now.Now), By: map[string]string{}, Waits: now.Waits, Told: api.Description(now.Told),
		Guide: api.Guide{State: string(now.Guide.State), Step: now.Guide.Step},
	}
	for name, by := range now.By {
		out.By[name] = string(by)
	}
	return out, err
}
