package heating

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"diathermon/internal/core/bounds"
	"diathermon/internal/core/heat"
	"diathermon/internal/core/run"
	"diathermon/internal/core/toolpath"
	"diathermon/internal/core/wire"
	"diathermon/internal/host/part"
)

// warming is a warm-up that goes on.
type warming struct {
	heat.WarmUp
	begun time.Time
	given map[heat.Heater]bool // has its setpoint
	told  bool                 // that everything is warm
	then  func()               // when it is over, however it ends; nil: nothing
}

// WarmUpNow is a warm-up that goes on.
type WarmUpNow struct {
	heat.WarmUp
	Begun   time.Time
	Left    time.Duration // until everything is warm and soaked; negative: it cannot be told
	Soaking bool
	Done    bool // warm, and soaked if it soaks
}

// WarmUp begins a warm-up in place of one that goes on.
func (h *Heating) WarmUp(ctx context.Context, w heat.WarmUp) error {
	var refused error
	err := h.loop.Ask(ctx, func() { refused = h.beginWarmUp(w, nil) })
	return errors.Join(err, refused)
}

func (h *Heating) beginWarmUp(w heat.WarmUp, then func()) error {
	if err := w.Check(h.cfg.Printer.Heaters(), h.cfg.Printer.Limits); err != nil {
		return err
	}
	switch {
	case !h.line.Live():
		return fmt.Errorf("%w: %s", run.ErrLive, h.line.Reason())
	}
	if file, _ := h.run.Brief(); file != "" && then == nil {
		return fmt.Errorf("%w: %s sets its own temperatures", bounds.ErrBusy, file)
	}
	for h2, setpoint := range w.Setpoints {
		if a := h.alarmed(h2); a && setpoint > 0 {
			return fmt.Errorf("%w: look at the %s, then acknowledge it", run.ErrAlarm, h2)
		}
	}
	w.Setpoints = maps.Clone(w.Setpoints)
	h.warming = &warming{WarmUp: w, begun: time.Now(), given: map[heat.Heater]bool{}, then: then}
	if t := h.thermals[heat.Bed]; t != nil {
		t.soak, t.soaking = nil, heat.SoakState{}
		if w.Soak {
			t.soak = &heat.Soak{For: w.SoakFor, Setpoint: w.Setpoints[heat.Bed]}
		}
	}
	h.loop.Decide("warm-up %s begins", w.Name)
	h.goOnWarming()
	h.heated = true
	return nil
}

// SoakBed heats the bed for a run of a file and lets it soak for so long, 0: until it
// has settled; then it calls over, however that ends.
func (h *Heating) SoakBed(file string, setpoint float64, d time.Duration, over func()) {
	w := heat.WarmUp{Name: "soak before the run", Setpoints: map[heat.Heater]float64{heat.Bed: setpoint}, Order: heat.AtOnce, Soak: true, SoakFor: d}
	if err := h.beginWarmUp(w, over); err != nil {
		h.loop.Message(wire.Wrong, fmt.Sprintf("%s begins without a soak: %v", file, err))
		over()
	}
}

// WarmUpFor returns the warm-up of a file's own setpoints.
func WarmUpFor(f toolpath.File) heat.WarmUp {
	name := f.Name
	if len(name) > 60 {
		name = name[:60]
	}
	return heat.WarmUp{Name: strings.ToValidUTF8(name, ""), Setpoints: f.Setpoints, Order: heat.Together}
}

// GiveUpWarmUp gives up the warm-up that goes on. Heaters stay as they are.
// It may be called from anywhere.
func (h *Heating) GiveUpWarmUp(ctx context.Context) error {
	return h.loop.Ask(ctx, func() { h.EndWarmUp("a person ended it") })
}

// Cool turns every heater off. A run that goes on is not asked: hold it first.
func (h *Heating) Cool(ctx context.Context) error {
	var refused error
	answered := make(chan error, 1)
	err := h.loop.Ask(ctx, func() {
		file, state := h.run.Brief()
		switch {
		case !h.line.Live():
			refused = fmt.Errorf("%w: %s", run.ErrLive, h.line.Reason())
		case file != "" && state != run.Held && state != run.Interrupted:
			refused = fmt.Errorf("%w: %s needs its heat; hold it or stop it first", bounds.ErrBusy, file)
		default:
			h.EndWarmUp("everything is to cool")
			h.loop.Announce(part.Cooled{Reason: "everything was cooled by hand"})
			h.allOff(func(err error) { answered <- err })
		}
	})
	if err = errors.Join(err, refused); err != nil {
		return err
	}
	select {
	case err := <-answered:
		return err
	case <-ctx.Done():
		return nil
	}
}

// EndWarmUp gives a warm-up up; heaters stay as they are.
func (h *Heating) EndWarmUp(why string) {
	if h.warming == nil {
		return
	}
	w := h.warming
	h.loop.Decide("warm-up %s ends: %s", w.Name, why)
	h.warming, h.heated = nil, true
	if t := h.thermals[heat.Bed]; t != nil && !t.soaking.Done {
		t.soak, t.soaking = nil, heat.SoakState{}
	}
	if w.then != nil {
		w.then()
	}
}

// wayTo is how long a heater takes to a setpoint, as far as that is known.
func (h *Heating) wayTo(heater heat.Heater, setpoint float64) (time.Duration, bool) {
	t := h.thermals[heater]
	if t == nil {
		return 0, false
	}
	f, ok := t.learner.Forecast(setpoint, h.conditions(heater))
	return f.Ready, ok && !f.Never
}

// at reports whether a heater is at a setpoint.
func (h *Heating) at(heater heat.Heater, setpoint float64) bool {
	w := h.heaters[heater]
	return w != nil && w.Last.HasSetpoint && heat.SameSetpoint(w.Last.Setpoint, setpoint) && w.Last.Actual >= setpoint-heat.Ready
}

// goOnWarming gives the heaters of a warm-up their setpoints as their time comes.
func (h *Heating) goOnWarming() {
	w := h.warming
	if w == nil || !h.line.Live() {
		return
	}
	left := map[heat.Heater]time.Duration{}
	for heater, setpoint := range w.Setpoints {
		if d, ok := h.wayTo(heater, setpoint); ok {
			left[heater] = d
		}
	}
	waits := map[heat.Heater]time.Duration{}
	if w.Order == heat.Together && len(left) == len(w.Setpoints) { // otherwise they begin at once
		waits = heat.Waits(left)
	}
	for _, heater := range slices.Sorted(maps.Keys(w.Setpoints)) {
		setpoint := w.Setpoints[heater]
		wait := waits[heater] > 2*time.Second
		if _, nozzle := heater.Tool(); nozzle && w.Order == heat.BedFirst {
			wait = w.Setpoints[heat.Bed] > 0 && !h.at(heat.Bed, w.Setpoints[heat.Bed])
		}
		if !w.given[heater] && !wait {
			w.given[heater] = true
			h.line.Say(heat.SetCommand(heater, setpoint), nil)
		}
	}
	switch done := h.warmUpNow().Done; {
	case done && w.then != nil:
		h.EndWarmUp("done")
	case done && !w.told:
		w.told = true
		h.loop.Message(wire.Told, w.Name+": everything is warm")
	}
}

// warmUpNow tells how far a warm-up has come; nil if none goes on.
func (h *Heating) warmUpNow() *WarmUpNow {
	w := h.warming
	if w == nil {
		return nil
	}
	now := &WarmUpNow{WarmUp: w.WarmUp, Begun: w.begun}
	there := true
	for heater, setpoint := range w.Setpoints {
		if setpoint > 0 && !h.at(heater, setpoint) {
			there = false
			if d, ok := h.wayTo(heater, setpoint); !ok {
				now.Left = -1
			} else if now.Left >= 0 {
				now.Left = max(now.Left, d)
			}
		}
	}
	bed := h.thermals[heat.Bed]
	if !w.Soak || bed == nil || bed.soak == nil {
		now.Done = there
		return now
	}
	s := bed.soaking
	now.Soaking, now.Done = s.There && !s.Done, there && s.Done
	switch {
	case s.Done:
	case s.There && s.Left >= 0 && now.Left >= 0:
		now.Left = max(now.Left, s.Left)
	case !s.There && now.Left >= 0 && w.SoakFor > 0:
		now.Left += w.SoakFor
	case !s.There:
		now.Left = -1
	}
	return now
}

// Pace is how many times faster the printer's clock runs than ours; 0 is 1.
func (h *Heating) Pace() float64 { return h.cfg.Pace }

// WarmsIn is how long the steps of a file would take if they began now, by the printer's
// own clock; false where that is not known.
func (h *Heating) WarmsIn(steps []heat.Step) (time.Duration, bool) {
	if len(steps) == 0 || !h.Known() {
		return 0, false
	}
	took, known := heat.Remaining(steps, h.Learners())
	return heat.Paced(took, h.cfg.Pace), known
}
