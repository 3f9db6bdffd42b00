package host

import (
	"context"
	"errors"
	"fmt"
	"math"
	"slices"
	"time"

	"github.com/google/uuid"

	"diathermon/internal/core/gcode"
	"diathermon/internal/core/heat"
	"diathermon/internal/core/run"
	"diathermon/internal/core/wire"
)

// thermal is what the host knows of one heater besides its last reading.
type thermal struct {
	learner   *heat.Learner
	guard     heat.Guard
	checkup   heat.Checkup
	countdown heat.Countdown
	forecast  heat.Forecast
	foreseen  bool          // forecast holds something
	left      time.Duration // as the countdown shows it

	foreseenAt  time.Duration
	foreseenFor float64 // the setpoint that forecast is for

	soak    *heat.Soak
	soaking heat.SoakState
	silent  bool // its silence was told
}

// ErrAlarm means that an alarm waits for a person.
var ErrAlarm = run.ErrAlarm

// ErrNoAlarm means that no such alarm waits.
var ErrNoAlarm = errors.New("there is no such alarm")

// learnedEvery is how often what was learned of the heaters is kept.
const learnedEvery = 15 * time.Minute

// foreseeEvery is how often a forecast is made anew.
const foreseeEvery = time.Second

func newThermals(cfg Config) map[heat.Heater]*thermal {
	out := map[heat.Heater]*thermal{}
	for _, h := range cfg.Printer.Heaters() {
		t := &thermal{learner: &heat.Learner{}, guard: heat.Guard{Heater: h, Limit: cfg.Printer.Limits.Of(h)}, checkup: heat.Checkup{Heater: h}}
		if l := cfg.Learned[h]; l != nil {
			t.learner = l
		}
		out[h] = t
	}
	return out
}

// learners are what has been learned of every heater.
func (h *Host) learners() map[heat.Heater]*heat.Learner {
	out := map[heat.Heater]*heat.Learner{}
	for name, t := range h.thermals {
		out[name] = t.learner
	}
	return out
}

// conditions are what carries heat away from a heater now.
func (h *Host) conditions(heater heat.Heater) heat.Conditions {
	c := heat.Conditions{Fan: h.point.Fan}
	if heater == heat.NozzleOf(h.point.Tool) {
		c.Flow = h.flow.rate
	}
	return c
}

// study takes a reading into what is known of its heater.
func (h *Host) study(at time.Time, r heat.Reading) {
	t := h.thermals[r.Heater]
	if t == nil {
		return
	}
	now, c := h.now(), h.conditions(r.Heater)
	t.silent = false
	if r.Heater != heat.NozzleOf(h.point.Tool) || !h.flow.state.Doubtful() {
		t.learner.Note(now, r, c)
	}
	model := t.learner.Model()
	tuned := h.tuning != nil && h.tuning.Heater == r.Heater && h.tuning.Ended.IsZero()
	for _, a := range t.guard.Note(now, r, model, c) {
		if h.cfg.Unguarded || tuned && a.Guard == heat.Runaway { // while it tunes, the firmware may tell neither setpoint nor duty
			continue
		}
		a.At = at
		h.raise(a)
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
	case r.Setpoint != t.soak.Setpoint && h.warming == nil: // kept hot after its warm-up, until now
		t.soak, t.soaking = nil, heat.SoakState{}
	default:
		if t.soaking = t.soak.Note(now, r); t.soaking.Done && !before {
			h.message(wire.Told, fmt.Sprintf("the %s has soaked", r.Heater))
		}
	}
	if r.Heater == heat.NozzleOf(h.point.Tool) {
		h.watchFlow(at, now, r, model, c)
	}
}

// flowing follows how much filament the file asks for.
type flowing struct {
	pushed float64 // mm³ by the lines taken so far
	before float64 // at the last reading
	at     time.Duration
	rate   float64 // mm³/s
	watch  heat.FlowWatch
	state  heat.FlowState
	used   bool // the watch has been at work in this run
}

// push notes what a line that the printer has taken pushes out.
func (f *flowing) push(mm, diameter, percent float64) {
	if percent == 0 {
		percent = 100
	}
	f.pushed += mm * math.Pi / 4 * diameter * diameter * percent / 100
}

// watchFlow looks whether filament flows as the file asks.
func (h *Host) watchFlow(at time.Time, now time.Duration, r heat.Reading, m heat.Model, c heat.Conditions) {
	f := &h.flow
	if dt := (now - f.at).Seconds(); dt > 0 {
		fresh := max((f.pushed-f.before)/dt, 0)
		f.rate += (fresh - f.rate) * min(dt/3, 1) // the printer's planner is a second or two behind
		f.before, f.at = f.pushed, now
	}
	if h.cfg.Unguarded || h.job == nil || h.state() != run.Running || h.cfg.FlowWatch == heat.FlowOff {
		f.watch.Reset()
		f.state, f.used = heat.FlowState{Asked: f.rate, Seen: math.NaN()}, false
		return
	}
	before := f.state.Stopped
	f.state, f.used = f.watch.Note(now, r, m, c), true
	if !f.state.Stopped || before {
		return
	}
	action := heat.Tell
	if h.cfg.FlowWatch == heat.FlowHold {
		action = heat.HoldRun
	}
	h.raise(heat.Alarm{
		At: at, Heater: r.Heater, Guard: heat.NoFlow, Action: action,
		Text: fmt.Sprintf("the file asks for %.1f mm³/s and the duty of the %s says that no filament takes heat away: is it used up, torn, ground off or jammed?", f.state.Asked, r.Heater),
	})
}

// raise tells of an alarm and does what its guard does.
func (h *Host) raise(a heat.Alarm) {
	id, err := uuid.NewV7()
	if err != nil {
		id = uuid.New()
	}
	a.ID = id.String()
	h.alarms = append(h.alarms, a)
	h.cfg.Recorder.Alarm(a)
	h.mark(a.At, heat.MarkAlarm, a.Heater, a.Text)
	h.message(wire.Alarming, a.Text)
	h.decide("alarm %s of the %s, %s: %s", a.Guard, a.Heater, a.Action, a.Text)
	h.log.Error("alarm", "guard", a.Guard, "heater", a.Heater, "action", a.Action, "text", a.Text)
	switch a.Action {
	case heat.HoldRun:
		if h.job != nil && (h.state() == run.Running || h.state() == run.Warming || h.job.life.ComingBack()) {
			h.step(run.Event{On: run.OnHold, Reason: a.Text})
		}
	case heat.CoolOff:
		h.step(run.Event{On: run.OnCool, Reason: a.Text})
		h.endWarmUp("an alarm")
		if h.conv != nil {
			h.allOff(func(error) {})
		}
	case heat.HaltAll:
		if h.conv != nil {
			h.halt(make(chan error, 1))
		}
	}
	h.hub.publish(Update{Alarms: h.waitingAlarms(), Told: true})
}

// waitingAlarms are those that nobody has acknowledged.
func (h *Host) waitingAlarms() []heat.Alarm { return slices.Clone(h.alarms) }

// alarmed returns the alarm that waits for a heater, if there is one.
func (h *Host) alarmed(heater heat.Heater) bool {
	return slices.ContainsFunc(h.alarms, func(a heat.Alarm) bool { return a.Heater == heater })
}

// Acknowledge notes that a person has seen an alarm.
func (h *Host) Acknowledge(ctx context.Context, id, by string) (heat.Alarm, error) {
	var seen heat.Alarm
	refused := fmt.Errorf("%w: %q", ErrNoAlarm, id)
	err := h.ask(ctx, func() {
		for i, a := range h.alarms {
			if a.ID == id {
				a.Acknowledged, a.By = time.Now().UTC(), by
				h.alarms = slices.Delete(h.alarms, i, i+1)
				h.cfg.Recorder.Alarm(a)
				h.decide("alarm %s acknowledged", a.Guard)
				h.hub.publish(Update{Alarms: h.waitingAlarms(), Told: true})
				seen, refused = a, nil
				return
			}
		}
	})
	return seen, errors.Join(err, refused)
}

// mindHeaters looks at what no reading tells: readings that do not come, heaters
// that nobody uses, a warm-up whose next heater is due.
func (h *Host) mindHeaters() {
	now := time.Now()
	patience := heat.SilentFor
	if !h.firmware.Capabilities["AUTOREPORT_TEMP"] { // it answers only between its moves
		patience = 3 * time.Minute
	}
	on := false
	for name, t := range h.thermals {
		w := h.heaters[name]
		if w == nil || w.Last.Setpoint <= 0 {
			continue
		}
		on = true
		if since := now.Sub(h.seen[name]); since > patience && !t.silent && !h.cfg.Unguarded {
			t.silent = true
			h.raise(heat.Alarm{At: now, Heater: name, Guard: heat.Silence, Action: heat.ActionOf(heat.Silence), Text: fmt.Sprintf("the %s is on and the printer has not reported it for %s: look at the cable and the printer", name, since.Round(time.Second))})
		}
	}
	inUse := h.job != nil && (h.state() != run.Interrupted || h.job.life.KeepsBed()) || h.warming != nil || h.tuning != nil && h.tuning.Ended.IsZero()
	warn, off := h.leash.Look(h.now(), on, inUse)
	switch {
	case warn:
		h.message(wire.Told, fmt.Sprintf("the heaters are on and nobody uses them: they are turned off in %s", heat.LeashWarning))
	case off:
		h.raise(heat.Alarm{At: now, Guard: heat.Unused, Action: heat.ActionOf(heat.Unused), Text: fmt.Sprintf("the heaters were on for %s and nobody used them: they were turned off", h.leash.After)})
	}
	h.goOnWarming()
	if now.Sub(h.learnedAt) >= learnedEvery {
		h.keepLearned()
	}
}

// keepLearned lets what was learned of the heaters be kept.
func (h *Host) keepLearned() {
	h.learnedAt = time.Now()
	for name, t := range h.thermals {
		if t.learner.Sums != nil {
			h.cfg.Recorder.Learned(name, *t.learner)
		}
	}
}

// used lets a person's doing keep the heaters on.
func (h *Host) used() { h.leash.Look(h.now(), false, true) }

// pushedBy notes how much filament the line that apply applies pushes out.
func (h *Host) pushedBy(apply func()) {
	before := h.point.At[gcode.E] + h.point.Shift[gcode.E]
	apply()
	if l := &h.line; l.Letter == 'G' && l.Number <= 3 {
		h.flow.push(h.point.At[gcode.E]+h.point.Shift[gcode.E]-before, h.cfg.Printer.Filament, h.point.Flow)
	}
}

// HeatNow is how the heaters behave.
type HeatNow struct {
	Models    map[heat.Heater]heat.Model
	Forecasts map[heat.Heater]heat.Forecast
	Alarms    []heat.Alarm // that wait for a person
}

// HeatNow returns how the heaters behave.
func (h *Host) HeatNow(ctx context.Context) (HeatNow, error) {
	out := HeatNow{Models: map[heat.Heater]heat.Model{}, Forecasts: map[heat.Heater]heat.Forecast{}}
	err := h.ask(ctx, func() {
		for name, t := range h.thermals {
			out.Models[name] = t.learner.Model()
			if t.foreseen {
				f := t.forecast
				f.Curve = slices.Clone(f.Curve)
				out.Forecasts[name] = f
			}
		}
		out.Alarms = h.waitingAlarms()
	})
	return out, err
}

func alarmTexts(alarms []heat.Alarm) []string {
	var out []string
	for _, a := range alarms {
		out = append(out, a.Text)
	}
	return out
}
