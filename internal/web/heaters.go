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

// HeaterLog is what the web asks of what is kept of the heaters.
type HeaterLog interface {
	Alarms(ctx context.Context, waiting bool, limit int) ([]heat.Alarm, error)
	Episodes(ctx context.Context, h heat.Heater, since time.Time) ([]heat.Episode, error)
}

// healthSpan is how far back a heater's health is told.
const healthSpan = 180 * 24 * time.Hour

func (s *Server) heaterOperations() {
	huma.Register(s.api, operation("get-heat-models", http.MethodGet, "/v1/heat/models", scopeRead, "How the heaters behave, learned from the log, and how the ones that warm up will go on"),
		func(ctx context.Context, _ *struct{}) (*answer[api.HeatModels], error) {
			now, err := s.Host.HeatNow(ctx)
			if err != nil {
				return nil, s.problemOf(err)
			}
			bench, err := s.Host.Bench(ctx)
			if err != nil {
				return nil, s.problemOf(err)
			}
			out := api.HeatModels{Models: []api.HeatModel{}}
			for _, h := range bench.Heaters {
				out.Models = append(out.Models, modelOf(h, now.Models[h.Heater], now.Forecasts[h.Heater], s.PartOff))
			}
			return &answer[api.HeatModels]{out}, nil
		})

	huma.Register(s.api, operation("get-heat-health", http.MethodGet, "/v1/heat/{heater}/health", scopeRead, "How a heater has been doing: what changed, and every warm-up and hour of holding of the last half year", 404),
		func(ctx context.Context, in *struct {
			Heater string `path:"heater"`
		}) (*answer[api.HeatHealth], error) {
			h, err := heaterNamed(in.Heater)
			if err != nil {
				return nil, s.problemOf(err)
			}
			s.settle(ctx)
			now := time.Now()
			episodes, err := s.Heaters.Episodes(ctx, h, now.Add(-healthSpan))
			if err != nil {
				return nil, s.problemOf(err)
			}
			models, err := s.Host.HeatNow(ctx)
			if err != nil {
				return nil, s.problemOf(err)
			}
			out := api.HeatHealth{Heater: string(h), Findings: []api.HeatFinding{}, Episodes: []api.HeatEpisode{}}
			for _, f := range heat.Findings(episodes, models.Models[h], now) {
				out.Findings = append(out.Findings, api.HeatFinding{What: string(f.What), Worse: f.Worse, Text: f.Text})
			}
			for _, e := range episodes {
				out.Episodes = append(out.Episodes, api.HeatEpisode{
					Kind: string(e.Kind), At: e.At, TookSeconds: e.Took.Seconds(), Setpoint: e.Setpoint, From: e.From, Rise: e.Rise, Overshoot: e.Overshoot, Duty: e.Duty, Ripple: e.Ripple,
				})
			}
			return &answer[api.HeatHealth]{out}, nil
		})

	huma.Register(s.api, operation("list-alarms", http.MethodGet, "/v1/heat/alarms", scopeRead, "Alarms, the newest first"),
		func(ctx context.Context, in *struct {
			Waiting bool `query:"waiting" doc:"Only those that nobody has acknowledged"`
			Limit   int  `query:"limit" default:"100" minimum:"1" maximum:"1000"`
		}) (*answer[api.Alarms], error) {
			if in.Waiting {
				now, err := s.Host.HeatNow(ctx)
				if err != nil {
					return nil, s.problemOf(err)
				}
				out := alarmsOf(now.Alarms)
				return &answer[api.Alarms]{out}, nil
			}
			s.settle(ctx)
			kept, err := s.Heaters.Alarms(ctx, false, in.Limit)
			if err != nil {
				return nil, s.problemOf(err)
			}
			return &answer[api.Alarms]{alarmsOf(kept)}, nil
		})

	huma.Register(s.api, operation("acknowledge-alarm", http.MethodPost, "/v1/heat/alarms/{id}/acknowledge", scopeOperate, "Say that a person has seen an alarm", 404),
		func(ctx context.Context, in *struct {
			ID string `path:"id"`
		}) (*answer[api.Alarm], error) {
			seen, err := s.Host.Acknowledge(ctx, in.ID, caller(ctx))
			if err != nil {
				return nil, s.problemOf(err)
			}
			return &answer[api.Alarm]{alarmOf(seen)}, nil
		})
}

func alarmOf(a heat.Alarm) api.Alarm {
	return api.Alarm{ID: a.ID, At: a.At.UTC(), Heater: string(a.Heater), Guard: string(a.Guard), Action: string(a.Action), Text: a.Text, Acknowledged: moment(a.Acknowledged), By: a.By}
}

func alarmsOf(alarms []heat.Alarm) api.Alarms {
	out := api.Alarms{Alarms: []api.Alarm{}}
	for _, a := range alarms {
		out.Alarms = append(out.Alarms, alarmOf(a))
	}
	return out
}

func modelOf(now host.HeaterNow, m heat.Model, f heat.Forecast, partOff float64) api.HeatModel {
	out := api.HeatModel{
		Heater: string(now.Heater), Known: m.Known(), Dead: m.Dead.Seconds(), Hours: m.Seconds / 3600,
		Rise: api.Estimate{Value: m.Rise, Error: m.RiseError}, Loss: api.Estimate{Value: m.Loss, Error: m.LossError},
		FanLoss: api.Estimate{Value: m.FanLoss, Error: m.FanLossError}, Melt: api.Estimate{Value: m.Melt, Error: m.MeltError}, Ambient: api.Estimate{Value: m.Ambient, Error: m.AmbientError},
	}
	if !out.Known {
		return out
	}
	out.Gain, out.TimeConstant = m.Gain(), m.TimeConstant().Seconds()
	out.Curve, out.CurveStep = f.Curve, f.Step.Seconds()
	if now.Heater == heat.Bed {
		out.PartOffAt = partOff
		if d, ok := m.Cooling(now.Actual, partOff); ok {
			out.PartOff = leftSeconds(d)
		}
	}
	return out
}
