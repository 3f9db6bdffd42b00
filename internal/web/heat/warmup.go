package heat

import (
	"cmp"
	"context"
	"fmt"
	"slices"
	"strings"

	"diathermon/internal/api"
	"diathermon/internal/api/ops"
	"diathermon/internal/core/heat"
	"diathermon/internal/core/run"
	"diathermon/internal/host/heating"
	"diathermon/internal/web/desk"
)

// mostWarmUps is how many are kept.
const mostWarmUps = 100

// roomFor says why a warm-up cannot be kept beside the others, or nil.
func (a Area) roomFor(ctx context.Context, w heat.WarmUp) error {
	kept, err := a.WarmUps.WarmUps(ctx)
	if err != nil {
		return err
	}
	if len(kept) >= mostWarmUps && !slices.ContainsFunc(kept, func(k heat.WarmUp) bool { return k.Name == w.Name }) {
		return fmt.Errorf("%w: %d are kept already; delete one that is not used", heat.ErrWarmUp, len(kept))
	}
	return nil
}

func (a Area) mountWarmUps(d *desk.Desk) {
	desk.Show(d, ops.ListWarmUps, func(ctx context.Context, _ *ops.Nothing) (api.WarmUps, error) {
		kept, err := a.WarmUps.WarmUps(ctx)
		if err != nil {
			return api.WarmUps{}, err
		}
		out := api.WarmUps{WarmUps: []api.WarmUp{}}
		for _, w := range kept {
			out.WarmUps = append(out.WarmUps, warmUpOf(w))
		}
		return out, nil
	})

	desk.Show(d, ops.PutWarmUp, func(ctx context.Context, in *ops.NameWith[api.WarmUp]) (api.WarmUp, error) {
		in.Body.Name = cmp.Or(in.Body.Name, in.Name)
		w, err := a.warmUp(in.Body)
		if err == nil && w.Name != in.Name {
			err = fmt.Errorf("%w: it is called %q in the address and %q in the body", heat.ErrWarmUp, in.Name, w.Name)
		}
		if err == nil {
			err = a.roomFor(ctx, w)
		}
		if err == nil {
			err = a.WarmUps.PutWarmUp(ctx, w)
		}
		if err != nil {
			return api.WarmUp{}, err
		}
		return warmUpOf(w), nil
	})

	desk.Do(d, ops.DeleteWarmUp, func(ctx context.Context, in *ops.Name) error {
		return a.WarmUps.DeleteWarmUp(ctx, in.Name)
	})

	desk.Show(d, ops.BeginWarmUp, func(ctx context.Context, in *ops.With[api.BeginWarmUp]) (api.WarmingUp, error) {
		w, err := a.chosenWarmUp(ctx, in.Body)
		if err == nil {
			err = a.Host.WarmUp(ctx, w)
		}
		if err != nil {
			return api.WarmingUp{}, err
		}
		now, err := a.Host.State(ctx)
		if err != nil || now.WarmUp == nil {
			return api.WarmingUp{}, cmp.Or(err, run.ErrState)
		}
		return *WarmingUpOf(now.WarmUp), nil
	})

	desk.Do(d, ops.EndWarmUp, func(ctx context.Context, _ *ops.Nothing) error {
		return a.Host.GiveUpWarmUp(ctx)
	})

	desk.Do(d, ops.Cool, func(ctx context.Context, _ *ops.Nothing) error {
		return a.Host.Cool(ctx)
	})
}

// warmUp turns a warm-up of the contract into the core's, if this printer can do
// it.
func (a Area) warmUp(in api.WarmUp) (heat.WarmUp, error) {
	w := heat.WarmUp{Name: in.Name, Spool: in.Spool, Order: heat.Order(cmp.Or(in.Order, string(heat.Together))), Soak: in.Soak, SoakFor: api.Seconds(in.SoakSeconds), Setpoints: map[heat.Heater]float64{}}
	for name, setpoint := range in.Setpoints {
		h, err := heaterNamed(name)
		if err != nil {
			return w, err
		}
		w.Setpoints[h] = setpoint
	}
	p := a.Printer
	return w, w.Check(p.Heaters(), p.Limits)
}

// chosenWarmUp is the warm-up that a request is about.
func (a Area) chosenWarmUp(ctx context.Context, in api.BeginWarmUp) (heat.WarmUp, error) {
	given := 0
	for _, is := range []bool{in.Name != "", in.File != "", in.Spool != "", in.WarmUp != nil} {
		if is {
			given++
		}
	}
	switch {
	case given != 1:
		return heat.WarmUp{}, fmt.Errorf("%w: give one of name, file, spool and warm_up; %d are there", heat.ErrWarmUp, given)
	case in.WarmUp != nil:
		in.WarmUp.Name = cmp.Or(in.WarmUp.Name, "warm-up")
		return a.warmUp(*in.WarmUp)
	case in.File != "":
		f, err := a.Files.File(ctx, in.File)
		return heating.WarmUpFor(f), err
	}
	kept, err := a.WarmUps.WarmUps(ctx)
	if err != nil {
		return heat.WarmUp{}, err
	}
	i := slices.IndexFunc(kept, func(w heat.WarmUp) bool {
		return in.Name == w.Name && in.Spool == "" || in.Spool != "" && strings.EqualFold(in.Spool, w.Spool)
	})
	if i < 0 {
		return heat.WarmUp{}, fmt.Errorf("%w: %q", heat.ErrNoWarmUp, cmp.Or(in.Name, in.Spool))
	}
	return kept[i], nil
}
