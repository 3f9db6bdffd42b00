package host

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"diathermon/internal/core/heat"
	"diathermon/internal/core/run"
	"diathermon/internal/core/toolpath"
	"diathermon/internal/core/wire"
)

// warming is a warm-up that goes on.
type warming struct {
	heat.WarmUp
	begun time.Time
	given map[heat.Heater]bool // has its setpoint
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
func (h *Host) WarmUp(ctx context.Context, w heat.WarmUp) error {
	var refused error
	err := h.ask(ctx, func() { refused = h.beginWarmUp(w, nil) })
	return errors.Join(err, refused)
}

func (h *Host) beginWarmUp(w heat.WarmUp, then func()) error {
	if err := w.Check(h.cfg.Printer.Heaters(), h.cfg.Printer.Limits); err != nil {
		return err
	}
	switch {
	case !h.link.Live():
		return fmt.Errorf("%w: %s", ErrNotLive, h.link.Reason)
	case h.job != nil && then == nil:
		return fmt.Errorf("%w: %s sets its own temperatures", ErrBusy, h.job.file.Name)
	}
	for h2, setpoint := range w.Setpoints {
		if a := h.alarmed(h2); a && setpoint > 0 {
			return fmt.Errorf("%w: look at the %s, then acknowledge it", ErrAlarm, h2)
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
	h.decide("warm-up %s begins", w.Name)
	h.goOnWarming()
	h.heated = true
	return nil
}

// soakBed lets the bed of a run soak for so long; 0: until it has settled.
func (h *Host) soakBed(j *job, d time.Duration) {
	over := func() { h.stepOf(j, run.Event{On: run.OnSoaked}) }
	w := heat.WarmUp{Name: "soak before the run", Setpoints: map[heat.Heater]float64{heat.Bed: j.file.Setpoints[heat.Bed]}, Order: heat.AtOnce, Soak: true, SoakFor: d}
	if err := h.beginWarmUp(w, over); err != nil {
		h.message(wire.Wrong, fmt.Sprintf("%s begins without a soak: %v", j.file.Name, err))
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

// EndWarmUp gives up the warm-up that goes on. Heaters stay as they are.
func (h *Host) EndWarmUp(ctx context.Context) error {
	return h.ask(ctx, func() {
		h.endWarmUp("a person ended it")
	})
}

// Cool turns every heater off. A run that goes on is not asked: hold it first.
func (h *Host) Cool(ctx context.Context) error {
	var refused error
	answered := make(chan error, 1)
	err := h.ask(ctx, func() {
		switch {
		case !h.link.Live():
			refused = fmt.Errorf("%w: %s", ErrNotLive, h.link.Reason)
		case h.job != nil && h.state() != run.Held && h.state() != run.Interrupted:
			refused = fmt.Errorf("%w: %s needs its heat; hold it or stop it first", ErrBusy, h.job.file.Name)
		default:
			h.endWarmUp("everything is to cool")
			h.step(run.Event{On: run.OnCool, Reason: "everything was cooled by hand"})
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

// endWarmUp gives a warm-up up; heaters stay as they are.
func (h *Host) endWarmUp(why string) {
	if h.warming == nil {
		return
	}
	w := h.warming
	h.decide("warm-up %s ends: %s", w.Name, why)
	h.warming, h.heated = nil, true
	if t := h.thermals[heat.Bed]; t != nil && !t.soaking.Done {
		t.soak, t.soaking = nil, heat.SoakState{}
	}
	if w.then != nil {
		w.then()
	}
}

// wayTo is how long a heater takes to a setpoint, as far as that is known.
func (h *Host) wayTo(heater heat.Heater, setpoint float64) (time.Duration, bool) {
	t := h.thermals[heater]
	if t == nil {
		return 0, false
	}
	f, ok := t.learner.Forecast(setpoint, h.conditions(heater))
	return f.Ready, ok && !f.Never
}

// at reports whether a heater is at a setpoint.
func (h *Host) at(heater heat.Heater, setpoint float64) bool {
	w := h.heaters[heater]
	return w != nil && w.Last.HasSetpoint && w.Last.Setpoint == setpoint && w.Last.Actual >= setpoint-heat.Ready
}

// goOnWarming gives the heaters of a warm-up their setpoints as their time comes.
func (h *Host) goOnWarming() {
	w := h.warming
	if w == nil || !h.link.Live() {
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
			h.send(heat.SetCommand(heater, setpoint), nil)
		}
	}
	if w.then != nil && h.warmUpNow().Done {
		h.endWarmUp("done")
	}
}

// warmUpNow tells how far a warm-up has come; nil if none goes on.
func (h *Host) warmUpNow() *WarmUpNow {
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
