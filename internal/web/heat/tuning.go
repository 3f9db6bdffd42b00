package heat

import (
	"context"
	"fmt"

	"diathermon/internal/api"
	"diathermon/internal/api/ops"
	"diathermon/internal/core/heat"
	"diathermon/internal/host/heating"
	"diathermon/internal/web/desk"
)

func (a Area) mountTuning(d *desk.Desk) {
	desk.Show(d, ops.TuneHeater, func(ctx context.Context, in *ops.HeaterWith[api.Tune]) (api.Tuning, error) {
		h, err := heaterNamed(in.Heater)
		if err == nil {
			err = a.Host.Tune(ctx, h, in.Body.Setpoint, in.Body.Cycles)
		}
		if err != nil {
			return api.Tuning{}, err
		}
		return a.tuning(ctx)
	})

	desk.ShowIfAny(d, ops.GetTuning, func(ctx context.Context, _ *ops.Nothing) (*api.Tuning, error) {
		if t, err := a.Host.Tuning(ctx); err != nil || t == nil {
			return nil, err
		}
		out, err := a.tuning(ctx)
		return &out, err
	})

	desk.Show(d, ops.ApplyTuning, func(ctx context.Context, in *ops.With[api.ApplyTuning]) (api.Tuning, error) {
		if err := a.Host.ApplyTuning(ctx, in.Body.Save); err != nil {
			return api.Tuning{}, err
		}
		return a.tuning(ctx)
	})
}

// tuning is the last tuning as the contract tells it.
func (a Area) tuning(ctx context.Context) (api.Tuning, error) {
	t, err := a.Host.Tuning(ctx)
	if err == nil && t == nil {
		err = fmt.Errorf("%w: nothing has been tuned since the service started", heating.ErrTuning)
	}
	if err != nil {
		return api.Tuning{}, err
	}
	out := api.Tuning{
		Heater: string(t.Heater), Setpoint: t.Setpoint, Cycle: t.Cycle, Cycles: t.Cycles, Begun: t.Begun, Ended: api.Moment(t.Ended), Failed: t.Failed,
		Found: t.Found, P: t.Result.P, I: t.Result.I, D: t.Result.D, Applied: t.Applied, Saved: t.Saved,
	}
	episodes, err := a.Kept.Episodes(ctx, t.Heater, t.Begun.Add(-healthSpan))
	if err != nil {
		return api.Tuning{}, err
	}
	for _, e := range episodes {
		switch {
		case e.Kind != heat.HoldingOn:
		case e.At.Before(t.Begun):
			out.RippleBefore = &e.Ripple
		case t.Applied:
			out.RippleAfter = &e.Ripple
		}
	}
	return out, nil
}
