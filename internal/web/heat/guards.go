package heat

import (
	"context"
	"fmt"
	"net/http"
	"time"

	"diathermon/internal/api"
	"diathermon/internal/api/ops"
	"diathermon/internal/core/heat"
	"diathermon/internal/hindsight"
	"diathermon/internal/host/heating"
	"diathermon/internal/web/desk"
)

// lookBack is how much of the log the guards look at when no time is named.
const lookBack = 30 * 24 * time.Hour

func (a Area) mountGuards(d *desk.Desk) {
	desk.Show(d, ops.ListGuards, func(ctx context.Context, _ *ops.Nothing) (api.Guards, error) {
		guards, err := a.Host.Guards(ctx)
		if err != nil {
			return api.Guards{}, err
		}
		out := api.Guards{Guards: []api.Guard{}}
		for _, g := range guards {
			out.Guards = append(out.Guards, guardOf(g))
		}
		return out, nil
	})

	desk.Show(d, ops.BoundGuard, func(ctx context.Context, in *ops.ToGuard) (api.Guard, error) {
		h, err := heaterNamed(in.Heater)
		if err != nil {
			return api.Guard{}, err
		}
		now, err := a.Host.Bound(ctx, h, heat.GuardName(in.Guard), heat.Action(in.Body.Bound))
		if err != nil {
			return api.Guard{}, err
		}
		return guardOf(now), nil
	})

	desk.Show(d, ops.LookBack, func(_ context.Context, in *ops.With[api.Look]) (api.Hindsight, error) {
		from, to := in.Body.From, in.Body.To
		if to.IsZero() {
			to = time.Now().UTC()
		}
		if from.IsZero() {
			from = to.Add(-lookBack)
		}
		if !from.Before(to) || to.Sub(from) > hindsight.Span {
			return api.Hindsight{}, &api.Problem{Status: http.StatusUnprocessableEntity, Title: "the guards cannot look at that", Detail: fmt.Sprintf("from %s to %s: name a beginning before the end, a year of the log at the most", from.Format(time.RFC3339), to.Format(time.RFC3339))}
		}
		if err := a.Hindsight.Look(from, to); err != nil {
			return api.Hindsight{}, err
		}
		return hindsightOf(a.Hindsight.State()), nil
	})

	desk.ShowIfAny(d, ops.GetHindsight, func(context.Context, *ops.Nothing) (*api.Hindsight, error) {
		state := a.Hindsight.State()
		if state.From.IsZero() {
			return nil, nil
		}
		out := hindsightOf(state)
		return &out, nil
	})
}

func guardOf(g heating.GuardNow) api.Guard {
	s := g.Standing
	out := api.Guard{
		Heater: string(g.Heater), Guard: string(g.Guard), Certain: g.Certain, May: string(g.May), Most: string(g.Does),
		QuietHours: s.Quiet / 3600, Closest: s.Closest, ClosestAt: api.Moment(s.ClosestAt), Bound: string(s.Fixed), Blind: g.Blind,
		Set: g.Set, SeenHours: s.Seen / 3600, Claimed: s.Claimed, Sound: s.Sound, Faults: s.Faults,
	}
	if g.Left > 0 {
		out.Next, out.NextHours = string(g.Next), g.Left.Hours()
	}
	return out
}

func hindsightOf(s hindsight.State) api.Hindsight {
	out := api.Hindsight{From: s.From.UTC(), To: s.To.UTC(), Ended: s.Ended, Failed: s.Failed, More: s.More, Alarms: []api.Remark{}}
	if span := s.To.Sub(s.From); span > 0 {
		out.Progress = float64(s.At.Sub(s.From)) / float64(span)
	}
	for _, alarm := range s.Alarms {
		out.Alarms = append(out.Alarms, api.Remark{At: alarm.At.UTC(), Heater: string(alarm.Heater), Guard: string(alarm.Guard), Action: string(alarm.Action), Text: alarm.Text})
	}
	return out
}
