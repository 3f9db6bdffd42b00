package heat

import (
	"context"
	"strings"
	"time"

	"diathermon/internal/api"
	"diathermon/internal/api/ops"
	"diathermon/internal/core/heat"
	"diathermon/internal/host/heating"
	"diathermon/internal/web/desk"
	"diathermon/internal/web/guard"
)

// healthSpan is how far back a heater's health is told.
const healthSpan = 180 * 24 * time.Hour

func (a Area) mountHeaters(d *desk.Desk) {
	desk.Show(d, ops.GetHeatModels, func(ctx context.Context, _ *ops.Nothing) (api.HeatModels, error) {
		now, err := a.Host.Behaviour(ctx)
		if err != nil {
			return api.HeatModels{}, err
		}
		bench, err := a.Host.State(ctx)
		if err != nil {
			return api.HeatModels{}, err
		}
		out := api.HeatModels{Models: []api.HeatModel{}}
		for _, h := range bench.Heaters {
			m := modelOf(h, now.Models[h.Heater], now.Forecasts[h.Heater], a.PartOff)
			m.Needs = needsOf(h, now.Needs[h.Heater], now.Growths[h.Heater])
			out.Models = append(out.Models, m)
		}
		return out, nil
	})

	desk.Show(d, ops.GetHeatHealth, func(ctx context.Context, in *ops.Heater) (api.HeatHealth, error) {
		h, err := heaterNamed(in.Heater)
		if err != nil {
			return api.HeatHealth{}, err
		}
		a.Settle(ctx)
		now := time.Now()
		episodes, err := a.Kept.Episodes(ctx, h, now.Add(-healthSpan))
		if err != nil {
			return api.HeatHealth{}, err
		}
		models, err := a.Host.Behaviour(ctx)
		if err != nil {
			return api.HeatHealth{}, err
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
		return out, nil
	})

	desk.Show(d, ops.ListAlarms, func(ctx context.Context, in *ops.Alarms) (api.Alarms, error) {
		if in.Waiting {
			now, err := a.Host.Behaviour(ctx)
			if err != nil {
				return api.Alarms{}, err
			}
			out := AlarmsOf(now.Alarms)
			return out, nil
		}
		a.Settle(ctx)
		kept, err := a.Kept.Alarms(ctx, false, in.Limit)
		if err != nil {
			return api.Alarms{}, err
		}
		return AlarmsOf(kept), nil
	})

	desk.Show(d, ops.AcknowledgeAlarm, func(ctx context.Context, in *ops.Acknowledging) (api.Alarm, error) {
		said := api.Acknowledgement{}
		if in.Body != nil {
			said = *in.Body
		}
		was, why := heat.Verdict(said.Verdict), strings.TrimSpace(said.Reason)
		seen, err := a.Host.Acknowledge(ctx, in.ID, guard.Caller(ctx), was, why)
		if err != nil {
			return api.Alarm{}, err
		}
		return alarmOf(seen), nil
	})
}

func modelOf(now heating.HeaterNow, m heat.Model, f heat.Forecast, partOff float64) api.HeatModel {
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

// needsOf says what a heater needs to hold its setpoint, or the temperature at which it
// usually is; nil while that is not known.
func needsOf(now heating.HeaterNow, n heat.Need, g heat.Growth) *api.Needs {
	if !n.Known() {
		return nil
	}
	out := &api.Needs{At: now.Setpoint, Fan: []api.FanNeed{}}
	_, nozzle := now.Heater.Tool()
	switch {
	case out.At > 0:
	case nozzle:
		out.At = 210
	default:
		out.At = 60
	}
	out.Duty.Value, out.Duty.Error = n.Holding(now.Heater, out.At, heat.Conditions{})
	for _, fan := range heat.FanKnots() {
		f := api.FanNeed{Fan: fan}
		if f.More.Value, f.More.Error = n.More(now.Heater, out.At, heat.Conditions{Fan: fan}); f.More.Error < out.Duty.Value/20 {
			out.Fan = append(out.Fan, f)
		}
	}
	if melt, deviation := n.More(now.Heater, out.At, heat.Conditions{Flow: 1}); nozzle && melt > 2*deviation {
		out.Melt = &api.Estimate{Value: melt, Error: deviation}
	}
	if g.Known {
		out.More = &g.Share
	}
	return out
}
