package heat

import (
	"math"
	"time"

	"diathermon/internal/api"
	"diathermon/internal/core/heat"
	"diathermon/internal/host/heating"
)

// The functions here turn what the host knows into what the contract says.

// HeatersOf says how heaters stand.
func HeatersOf(heaters []heating.HeaterNow) []api.Heater {
	out := make([]api.Heater, 0, len(heaters))
	for _, h := range heaters {
		a := api.Heater{Heater: string(h.Heater), State: string(h.State), Setpoint: h.Setpoint, Limit: h.Limit}
		if !h.At.IsZero() {
			a.Actual, a.At = &h.Actual, api.Moment(h.At)
		}
		if h.HasDuty {
			a.Duty = &h.Duty
		}
		a.ReadySeconds, a.Never = h.Left.Seconds(), h.Never
		a.ReadySoonest, a.ReadyLatest = h.Soonest.Seconds(), h.Latest.Seconds()
		if s := h.Soaking; s != nil {
			a.Soak = &api.Soak{There: s.There, Done: s.Done, LeftSeconds: leftSeconds(s.Left)}
		}
		out = append(out, a)
	}
	return out
}

func alarmOf(a heat.Alarm) api.Alarm {
	return api.Alarm{
		ID: a.ID, At: a.At.UTC(), Heater: string(a.Heater), Guard: string(a.Guard), Action: string(a.Action),
		Text: a.Text, Acknowledged: api.Moment(a.Acknowledged), By: a.By,
		Verdict: string(a.Verdict), Reason: a.Reason, Said: a.Said(),
	}
}

// AlarmsOf says which alarms there are.
func AlarmsOf(alarms []heat.Alarm) api.Alarms {
	out := api.Alarms{Alarms: []api.Alarm{}}
	for _, a := range alarms {
		out.Alarms = append(out.Alarms, alarmOf(a))
	}
	return out
}

func readingsOf(samples []heat.Sample) []api.Reading {
	out := make([]api.Reading, 0, len(samples))
	for _, s := range samples {
		r := api.Reading{At: s.At.UTC(), Heater: string(s.Heater), Actual: s.Actual}
		if s.HasSetpoint {
			r.Setpoint = &s.Setpoint
		}
		if s.HasDuty {
			r.Duty = &s.Duty
		}
		out = append(out, r)
	}
	return out
}

// leftSeconds is a time left that may not be known.
func leftSeconds(d time.Duration) *float64 {
	if d < 0 {
		return nil
	}
	s := math.Round(d.Seconds())
	return &s
}

func warmUpOf(w heat.WarmUp) api.WarmUp {
	out := api.WarmUp{Name: w.Name, Spool: w.Spool, Order: string(w.Order), Soak: w.Soak, SoakSeconds: w.SoakFor.Seconds(), Setpoints: map[string]float64{}}
	for h, v := range w.Setpoints {
		out.Setpoints[string(h)] = v
	}
	return out
}

// WarmingUpOf says how a warm-up stands; nil: none goes on.
func WarmingUpOf(w *heating.WarmUpNow) *api.WarmingUp {
	if w == nil {
		return nil
	}
	return &api.WarmingUp{WarmUp: warmUpOf(w.WarmUp), Begun: w.Begun.UTC(), LeftSeconds: leftSeconds(w.Left), Soaking: w.Soaking, Done: w.Done}
}

// FlowOf says how filament flows.
func FlowOf(f heat.FlowState, watch heat.FlowAction) api.Flow {
	out := api.Flow{Watch: string(watch), Asked: math.Round(f.Asked*100) / 100, Stopped: f.Stopped}
	if f.Enough && !math.IsNaN(f.Seen) {
		seen := math.Round(f.Seen*100) / 100
		out.Seen = &seen
	}
	return out
}

// Event is what everyone is told of the heaters, as data of the contract; nil if what is
// another's.
func Event(what any) any {
	switch now := what.(type) {
	case heating.Now:
		return api.Heat{Heaters: HeatersOf(now.Heaters), WarmUp: WarmingUpOf(now.WarmUp), Flow: FlowOf(now.Flow, now.FlowWatch)}
	case heating.Alarms:
		return AlarmsOf(now)
	}
	return nil
}
