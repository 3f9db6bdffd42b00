package heating

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"time"

	"diathermon/internal/core/heat"
)

// ErrGuard means that there is no such guard, or that it is not a person's to bound.
var ErrGuard = errors.New("there is no such guard to bound")

// GuardNow is how one guard of one heater stands.
type GuardNow struct {
	Heater   heat.Heater
	Guard    heat.GuardName
	Does     heat.Action // what it does at the most
	Certain  bool        // it needs no trial
	May      heat.Action // what it may do now
	Next     heat.Action // what it may do after Left more of the heater being on
	Left     time.Duration
	Standing heat.Standing
	Set      bool   // what it may do is set in the configuration, and not earned
	Blind    string // what it cannot see on this printer; empty: nothing
}

// Guards lists how the guards of every heater stand. It may be called from anywhere.
func (h *Heating) Guards(ctx context.Context) ([]GuardNow, error) {
	var out []GuardNow
	err := h.loop.Ask(ctx, func() {
		for _, name := range h.cfg.Printer.Heaters() {
			out = append(out, h.guardsOf(name)...)
		}
	})
	return out, err
}

func (h *Heating) guardsOf(name heat.Heater) []GuardNow {
	g := &h.thermals[name].guard
	var out []GuardNow
	for _, guard := range heat.Watching(name) {
		now := GuardNow{
			Heater: name, Guard: guard, Does: heat.Most(guard), Certain: heat.Certain(guard),
			Standing: *g.Standing(guard), Blind: g.Blind(guard),
		}
		now.May = now.Standing.May(guard)
		now.Left, now.Next = now.Standing.Next(guard)
		if guard == heat.NoFlow {
			now.May, now.Left, now.Next, now.Set = h.flowMay(&now.Standing), 0, "", true
			if h.cfg.FlowWatch == heat.FlowOff {
				now.Blind = `it is off: flow = "off" in [heat]`
			}
		}
		out = append(out, now)
	}
	return out
}

// Bound lets a guard of a heater do so much at the most, whatever it has earned; an
// empty action leaves it to what it earns. It returns how the guard stands then.
func (h *Heating) Bound(ctx context.Context, heater heat.Heater, guard heat.GuardName, most heat.Action) (GuardNow, error) {
	var now GuardNow
	refused := fmt.Errorf("%w: this printer has no %s of the %s", ErrGuard, guard, heater)
	err := h.loop.Ask(ctx, func() {
		i := slices.Index(heat.Watching(heater), guard)
		t := h.thermals[heater]
		switch {
		case t == nil || i < 0:
		case guard == heat.NoFlow:
			refused = fmt.Errorf("%w: what no-flow does is set in the configuration: flow in [heat]", ErrGuard)
		case heat.Certain(guard):
			refused = fmt.Errorf("%w: what %s claims cannot be anything else, so it acts from the first second", ErrGuard, guard)
		case most != "" && !slices.Contains(heat.Actions(), most):
			refused = fmt.Errorf("%w: %q is nothing that a guard does: use tell, hold, cool or halt, or nothing for what it earns", ErrGuard, most)
		default:
			t.guard.Bound(guard, most)
			h.loop.Decide("guard %s of the %s is bounded to %q", guard, heater, most)
			h.KeepLearned()
			now, refused = h.guardsOf(heater)[i], nil
		}
	})
	return now, errors.Join(err, refused)
}

// Gain adds what the log of before has taught.
func (h *Heating) Gain(ctx context.Context, past map[heat.Heater]heat.Learned) error {
	return h.loop.Ask(ctx, func() {
		for name, t := range h.thermals {
			t.guard.Experience = t.guard.Experience.With(past[name].Experience)
			t.learner.Recall(past[name].Climbs)
		}
		h.KeepLearned()
	})
}

// Inexperienced reports whether the guards have still to look at the log of before.
func (h *Heating) Inexperienced(ctx context.Context) (bool, error) {
	lacks := false
	err := h.loop.Ask(ctx, func() {
		for _, t := range h.thermals {
			lacks = lacks || t.guard.Version != heat.Version && !h.cfg.Unguarded
		}
	})
	return lacks, err
}
