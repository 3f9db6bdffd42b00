package heating

import (
	"fmt"
	"time"

	"diathermon/internal/core/heat"
	"diathermon/internal/core/wire"
)

// heard takes readings, and what a tuning tells.
func (h *Heating) heard(r wire.Reply) (mine bool) {
	if h.tuning.goesOn() && h.tuning.Note(r.Text) {
		h.loop.Message(wire.Told, r.Text)
		return true
	}
	if r.Kind == wire.OK || r.Kind == wire.Report {
		if readings := heat.ParseReport(r.Text); readings != nil {
			h.readings(readings)
		}
	}
	return false
}

// readings takes what a report says of the heaters that this printer has.
func (h *Heating) readings(readings []heat.Reading) {
	if !h.line.Hears() { // it was on its way when the printer was halted
		return
	}
	at, moved := h.clock.Stamp(h.loop.Wall(), h.loop.Now())
	if moved != 0 {
		text := fmt.Sprintf("the computer's clock was moved by %s", moved.Round(time.Second))
		h.loop.Message(wire.Told, text)
		h.loop.Mark(at, heat.MarkClock, "", text)
	}
	var samples []heat.Sample
	for _, r := range readings {
		if !h.cfg.Printer.Has(r.Heater) {
			continue
		}
		if t := h.thermals[r.Heater]; t != nil {
			t.guard.Scale.Note(&r)
		}
		w := h.heaters[r.Heater]
		if w == nil {
			w = &heat.Watch{}
			h.heaters[r.Heater] = w
		}
		if before := w.Last; r.HasSetpoint && r.Setpoint != before.Setpoint {
			h.loop.Mark(at, heat.MarkSetpoint, r.Heater, fmt.Sprintf("%s from %g to %g °C", r.Heater, before.Setpoint, r.Setpoint))
		}
		w.Note(r, h.loop.Now())
		h.seen[r.Heater] = at
		h.study(at, w.Last)
		samples = append(samples, heat.Sample{At: at, Reading: r})
	}
	for _, s := range samples {
		h.loop.Measured("%s %.2f / %.2f, duty %.2f", s.Heater, s.Actual, s.Setpoint, s.Duty)
	}
	if len(samples) > 0 {
		h.cfg.Recorder.Readings(samples)
		h.heated = true
	}
}

// thermal is what the host knows of one heater besides its last reading.
type thermal struct {
	learner   *heat.Learner
	guard     heat.Guard
	needs     heat.NeedWatch
	checkup   heat.Checkup
	countdown heat.Countdown
	forecast  heat.Forecast
	foreseen  bool          // forecast holds something
	left      time.Duration // as the countdown shows it

	foreseenAt  time.Duration
	foreseenFor float64 // the setpoint that forecast is for

	fitting bool // the shape of its warm-ups is being found out

	soak    *heat.Soak
	soaking heat.SoakState
	silent  bool // its silence was told
}

// learned is all that is kept of the heater.
func (t *thermal) learned() heat.Learned {
	l := heat.Learned{Learner: *t.learner, Experience: t.guard.Experience}
	l.Experience.Need = t.needs.Kept()
	return l
}

// learnedEvery is how often what was learned of the heaters is kept.
const learnedEvery = 15 * time.Minute

// foreseeEvery is how often a forecast is made anew.
const foreseeEvery = time.Second

func newThermals(cfg Config) map[heat.Heater]*thermal {
	out := map[heat.Heater]*thermal{}
	for _, h := range cfg.Printer.Heaters() {
		t := &thermal{learner: &heat.Learner{}, guard: heat.Guard{Heater: h, Limit: cfg.Printer.Limits.Of(h)}, checkup: heat.Checkup{Heater: h}}
		if l := cfg.Learned[h]; l != nil {
			t.learner = &l.Learner
			t.guard.Experience = l.Experience.Kept()
			t.needs.Need = t.guard.Need
		}
		out[h] = t
	}
	return out
}

// Learners are what has been learned of every heater.
func (h *Heating) Learners() map[heat.Heater]*heat.Learner {
	out := map[heat.Heater]*heat.Learner{}
	for name, t := range h.thermals {
		out[name] = t.learner
	}
	return out
}

// last are the last readings of all heaters.
func (h *Heating) last() map[heat.Heater]heat.Reading {
	out := make(map[heat.Heater]heat.Reading, len(h.heaters))
	for name, w := range h.heaters {
		out[name] = w.Last
	}
	return out
}

// fit finds out, where nobody waits for it, the shape of a heater's warm-ups.
func (h *Heating) fit(t *thermal) {
	if t.fitting {
		return
	}
	climbs := t.learner.Unfitted()
	if climbs == nil {
		return
	}
	t.fitting = true
	h.loop.Aside(func() func() {
		shape := heat.ShapeOf(climbs)
		return func() {
			t.learner.Fit(shape)
			t.fitting = false
		}
	})
}

// conditions are what carries heat away from a heater now.
func (h *Heating) conditions(heater heat.Heater) heat.Conditions {
	c := heat.Conditions{Fan: h.where.Point().Fan}
	for name, w := range h.heaters {
		if name != heater {
			c.Beside += w.Last.Duty
		}
	}
	if heater == heat.NozzleOf(h.where.Point().Tool) {
		c.Flow = h.flow.rate
	}
	return c
}

// study takes a reading into what is known of its heater.
func (h *Heating) study(at time.Time, r heat.Reading) {
	t := h.thermals[r.Heater]
	if t == nil {
		return
	}
	now := h.loop.Now()
	paced := heat.Paced(now, h.cfg.Pace)
	active := r.Heater == heat.NozzleOf(h.where.Point().Tool)
	if active {
		h.flow.note(paced)
	}
	c := h.conditions(r.Heater)
	t.silent = false
	if !active || !h.flow.state.Doubtful() {
		t.learner.Note(now, r, c)
		h.fit(t)
	}
	model := t.learner.Model()
	t.guard.Apart = h.tuning.goesOn() && h.tuning.Heater == r.Heater // the firmware may tell neither setpoint nor duty
	if !h.cfg.Unguarded {
		h.watchNeed(t, paced, r, c)
		for _, a := range t.guard.Note(at, paced, r, heat.Around(r.Heater, h.last())) {
			a.At = at
			h.raise(a)
		}
	}
	for _, e := range t.checkup.Note(at, now, r, model, c) {
		h.cfg.Recorder.Episode(e)
	}
	if now-t.foreseenAt >= foreseeEvery || r.Setpoint != t.foreseenFor {
		t.forecast, t.foreseen = t.learner.Forecast(r.Setpoint, c)
		t.foreseenAt, t.foreseenFor = now, r.Setpoint
	}
	t.left = 0
	if t.foreseen && !t.forecast.Never {
		t.left = t.countdown.Show(now, r.Setpoint, max(t.forecast.Ready-(now-t.foreseenAt), 0))
	}
	switch before := t.soaking.Done; {
	case t.soak == nil:
	case !heat.SameSetpoint(r.Setpoint, t.soak.Setpoint) && h.warming == nil: // kept hot after its warm-up, until now
		t.soak, t.soaking = nil, heat.SoakState{}
	default:
		if t.soaking = t.soak.Note(now, r, t.learner.Sheet(t.soak.Setpoint)); t.soaking.Done && !before {
			h.loop.Message(wire.Told, fmt.Sprintf("the %s has soaked", r.Heater))
		}
	}
	if active {
		h.watchFlow(at, t, r.Heater)
	}
}
