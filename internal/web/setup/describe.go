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
	desk.Show(d, ops.GetPrinter, func(ctx context.Context, _ *ops.Nothing) (api.Described, error) { return a.described(ctx) })
	desk.Show(d, ops.DescribePrinter, func(ctx context.Context, in *ops.With[api.DescribePrinter]) (api.Described, error) {
		guide := machine.Guide{}
		if g := in.Body.Guide; g != nil {
			guide = machine.Guide{State: machine.GuideState(g.State), Step: g.Step}
		}
		if err := a.Describing.Say(said(in.Body.Description), guide); err != nil {
			return api.Described{}, err
		}
		return a.described(ctx)
	})
	desk.Do(d, ops.TakeUpPrinter, func(ctx context.Context, _ *ops.Nothing) error { return a.Describing.TakeUp(ctx) })
}

func (a Area) described(ctx context.Context) (api.Described, error) {
	now, err := a.Describing.Described(ctx)
	out := api.Described{
		Printer: descriptionOf(now.Now), By: map[string]string{}, Waits: now.Waits,
		Told:  api.Description{Name: now.Told.Name, Width: now.Told.Width, Depth: now.Told.Depth, Height: now.Told.Height, FilamentDiameter: now.Told.Filament, Tools: now.Told.Tools},
		Guide: api.Guide{State: string(now.Guide.State), Step: now.Guide.Step},
	}
	for key, by := range now.By {
		if name, other := renamed[key]; other {
			key = name
		}
		out.By[key] = string(by)
	}
	return out, err
}

// renamed are the keys that the contract calls otherwise than the configuration file.
var renamed = map[string]string{"limits.nozzle": "limit_nozzle", "limits.bed": "limit_bed", "limits.chamber": "limit_chamber"}

func said(d api.Description) machine.Description {
	return machine.Description{
		Device: d.Device, Name: d.Name, Colour: d.Colour, Currency: d.Currency, Width: d.Width, Depth: d.Depth, Height: d.Height,
		Nozzle: d.NozzleDiameter, Filament: d.FilamentDiameter, Density: d.FilamentDensity, Price: d.FilamentPrice,
		HottestNozzle: d.LimitNozzle, HottestBed: d.LimitBed, HottestChamber: d.LimitChamber, Tools: d.Tools, Slots: d.Slots,
	}
}

func descriptionOf(d machine.Description) api.Description {
	return api.Description{
		Device: d.Device, Name: d.Name, Colour: d.Colour, Currency: d.Currency, Width: d.Width, Depth: d.Depth, Height: d.Height,
		NozzleDiameter: d.Nozzle, FilamentDiameter: d.Filament, FilamentDensity: d.Density, FilamentPrice: d.Price,
		LimitNozzle: d.HottestNozzle, LimitBed: d.HottestBed, LimitChamber: d.HottestChamber, Tools: d.Tools, Slots: d.Slots,
	}
}
