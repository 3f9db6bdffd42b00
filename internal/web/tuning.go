package web

import (
	"context"
	"fmt"
	"net/http"

	"github.com/danielgtaylor/huma/v2"

	"diathermon/internal/api"
	"diathermon/internal/core/heat"
	"diathermon/internal/host"
)

func (s *Server) tuningOperations() {
	tune := operation("tune-heater", http.MethodPost, "/v1/heat/{heater}/tuning", scopeOperate, "Let the firmware tune a heater's PID; it takes minutes, in which the printer does nothing else", 404, 409, 422, 503)
	tune.DefaultStatus = http.StatusAccepted
	huma.Register(s.api, tune, func(ctx context.Context, in *struct {
		Heater string `path:"heater"`
		Body   api.Tune
	}) (*answer[api.Tuning], error) {
		h, err := heaterNamed(in.Heater)
		if err == nil {
			err = s.Host.Tune(ctx, h, in.Body.Setpoint, in.Body.Cycles)
		}
		if err != nil {
			return nil, s.problemOf(err)
		}
		return s.tuning(ctx)
	})

	huma.Register(s.api, operation("get-tuning", http.MethodGet, "/v1/heat/tuning", scopeRead, "How the last tuning stands, with how well its heater was held before and since", 404),
		func(ctx context.Context, _ *struct{}) (*answer[api.Tuning], error) { return s.tuning(ctx) })

	huma.Register(s.api, operation("apply-tuning", http.MethodPost, "/v1/heat/tuning/apply", scopeKeep, "Give the firmware the constants that were found", 404, 409, 503),
		func(ctx context.Context, in *struct{ Body api.ApplyTuning }) (*answer[api.Tuning], error) {
			if err := s.Host.ApplyTuning(ctx, in.Body.Save); err != nil {
				return nil, s.problemOf(err)
			}
			return s.tuning(ctx)
		})
}

// tuning is the last tuning as the contract tells it.
func (s *Server) tuning(ctx context.Context) (*answer[api.Tuning], error) {
	t, err := s.Host.Tuning(ctx)
	if err == nil && t == nil {
		err = fmt.Errorf("%w: nothing has been tuned since the service started", host.ErrTuning)
	}
	if err != nil {
		return nil, s.problemOf(err)
	}
	out := api.Tuning{
		Heater: string(t.Heater), Setpoint: t.Setpoint, Cycle: t.Cycle, Cycles: t.Cycles, Begun: t.Begun, Ended: moment(t.Ended), Failed: t.Failed,
		Found: t.Found, P: t.Result.P, I: t.Result.I, D: t.Result.D, Applied: t.Applied, Saved: t.Saved,
	}
	episodes, err := s.Heaters.Episodes(ctx, t.Heater, t.Begun.Add(-healthSpan))
	if err != nil {
		return nil, s.problemOf(err)
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
	return &answer[api.Tuning]{out}, nil
}
