// Package heating knows the heaters: their readings, what is learned of each, the
// guards and the alarms they raise, warm-ups, tuning, and turning everything off.
//
// It promises that heaters that are to be off are urged until the printer reports that
// they are, and that nothing but a person's doing, a run or a warm-up heats. It leaves
// the mathematics to core/heat, the log to whoever records, and the run to printing.
package heating

import (
	"context"
	"fmt"
	"slices"
	"time"

	"diathermon/internal/core/heat"
	"diathermon/internal/core/machine"
	"diathermon/internal/core/run"
	"diathermon/internal/core/wire"
	"diathermon/internal/host/part"
	"diathermon/internal/host/position"
)

// Recorder keeps what is known of heaters. None of its methods may wait for anything.
type Recorder interface {
	Readings([]heat.Sample)
	Alarm(heat.Alarm) // a new one, or one that was acknowledged
	Episode(heat.Episode)
	Learned(heat.Heater, heat.Learned)
}

// Where tells where the printer's lines lead.
type Where interface {
	Point() *run.Point
	Took() position.Took
}

// A Run is what the heaters' part asks of the run that goes on.
type Run interface {
	Brief() (file string, state run.State) // empty: none goes on
	KeepsBed() bool                        // interrupted, and its bed is kept hot
}

// Config is what a Heating needs.
type Config struct {
	Printer   machine.Printer
	Recorder  Recorder
	Learned   map[heat.Heater]*heat.Learned // of before
	Alarms    []heat.Alarm                  // of before, that nobody has acknowledged
	After     time.Time                     // when the last reading of before was made; zero if there is none
	UnusedFor time.Duration                 // how long heaters stay on while nobody uses them; 0: for ever
	FlowWatch heat.FlowAction
	Unguarded bool    // no guard looks at the heaters
	Pace      float64 // how many times faster the printer's clock runs than ours: of a stand-in; 0 is 1
}

// HeaterNow is one heater at this moment.
type HeaterNow struct {
	heat.Sample
	State heat.State
	Limit float64 // highest setpoint, °C

	Left  time.Duration // until it is at its setpoint; 0: it is, or that is not known
	Never bool          // it does not get there

	Soonest, Latest time.Duration // nine times of ten it is ready between them; 0: not known
	Soaking         *heat.SoakState
}

// Now is how the heaters stand.
type Now struct {
	Heaters   []HeaterNow
	Alarms    Alarms     // that wait for a person
	WarmUp    *WarmUpNow // that goes on
	Flow      heat.FlowState
	FlowWatch heat.FlowAction
}

// Alarms are those that wait for a person.
type Alarms []heat.Alarm

// Heating is the part.
type Heating struct {
	cfg   Config
	loop  *part.Loop
	line  part.Line
	where Where
	run   Run

	clock    heat.Clock
	heaters  map[heat.Heater]*heat.Watch // that the printer has reported
	seen     map[heat.Heater]time.Time
	thermals map[heat.Heater]*thermal
	needs    map[heat.Heater]*heat.NeedWatch // of thermals
	heated   bool                            // readings have come since everyone was told
	alarms   []heat.Alarm                    // that nobody has acknowledged
	flow     flowing
	leash    heat.Leash
	warming  *warming
	tuning   *TuningNow  // the last one
	off      *turningOff // until every heater is off
	owesOff  bool        // heaters and fan are turned off as soon as the printer answers

	learnedAt time.Time // when what was learned was last kept
	leaving   bool      // heaters are being turned off before the host ends
}

// New returns the part.
func New(c Config, loop *part.Loop, line part.Line, where Where) *Heating {
	h := &Heating{cfg: c, loop: loop, line: line, where: where, thermals: newThermals(c), alarms: slices.Clone(c.Alarms), learnedAt: time.Now()}
	h.needs = map[heat.Heater]*heat.NeedWatch{}
	for name, t := range h.thermals {
		h.needs[name] = &t.needs
	}
	h.clock.After(c.After)
	h.leash.After = c.UnusedFor
	h.forget()
	return h
}

// Attend says whose run it is that the heaters are hot for.
func (h *Heating) Attend(r Run) { h.run = r }

// Hear takes reports.
func (h *Heating) Hear(event any) bool {
	switch e := event.(type) {
	case *wire.Event:
		switch e.Kind {
		case wire.Heard:
			if !e.Own {
				return h.heard(e.Reply)
			}
		case wire.Acked:
			h.flow.push(h.where.Took().Pushed, h.cfg.Printer.Filament, h.where.Point().Flow)
		}
	case part.Answers:
		h.payOff()
	case part.Forgotten:
		h.forget()
	case part.Leaving:
		if _, state := h.run.Brief(); (state == "" || state == run.Interrupted) && h.line.Live() && h.Warm() { // otherwise the run's end does it
			h.leaving = true
			h.allOff(func(error) { h.leaving = false })
		}
	}
	return false
}

// Busy reports whether heaters are being turned off before the host may end.
func (h *Heating) Busy() bool { return h.leaving }

// Tick looks at what no report tells, and shows everyone what has changed.
func (h *Heating) Tick() {
	h.mind()
	h.mindOff()
	if h.heated {
		h.heated = false
		h.loop.Publish(h.Now())
	}
}

// forget drops what was true of the heaters only while the printer answered.
func (h *Heating) forget() {
	h.heaters = map[heat.Heater]*heat.Watch{}
	h.seen = map[heat.Heater]time.Time{}
	h.off = nil
	h.heated = true // and let everyone see it
}

// Now is how the heaters stand.
func (h *Heating) Now() Now {
	return Now{Heaters: h.heatersNow(), Alarms: h.waitingAlarms(), WarmUp: h.warmUpNow(), Flow: h.flow.state, FlowWatch: h.cfg.FlowWatch}
}

// Unread lists the heaters of which the printer tells no temperature, once it tells any.
func (h *Heating) Unread() (out []heat.Heater) {
	for _, name := range h.cfg.Printer.Heaters() {
		if h.Known() && h.heaters[name] == nil {
			out = append(out, name)
		}
	}
	return out
}

// heatersNow lists the heaters that this printer has, nozzles first, each with its
// last reading.
func (h *Heating) heatersNow() []HeaterNow {
	p := h.cfg.Printer
	names := p.Heaters()
	out := make([]HeaterNow, 0, len(names))
	for _, name := range names {
		now := HeaterNow{Sample: heat.Sample{Reading: heat.Reading{Heater: name}}, State: heat.Off, Limit: p.Limits.Of(name)}
		if w := h.heaters[name]; w != nil {
			now.Sample = heat.Sample{At: h.seen[name], Reading: w.Last}
			now.State = w.State
		}
		t := h.thermals[name]
		if t.left > 0 && t.forecast.Latest > 0 {
			since := h.loop.Now() - t.foreseenAt
			now.Soonest, now.Latest = max(t.forecast.Soonest-since, 0), max(t.forecast.Latest-since, 0)
		}
		if now.Left, now.Never = t.left, t.foreseen && t.forecast.Never && now.Setpoint > 0; t.soak != nil {
			state := t.soaking
			if now.Soaking = &state; state.Done && now.State == heat.Steady {
				now.State = heat.Soaked
			}
		}
		if h.alarmed(name) {
			now.State = heat.Alarmed
		}
		out = append(out, now)
	}
	return out
}

// Warm reports whether any heater has a setpoint.
func (h *Heating) Warm() bool {
	for _, w := range h.heaters {
		if w.Last.Setpoint > 0 {
			return true
		}
	}
	return false
}

// Melts reports whether the nozzle in use is hot enough for filament to be moved.
func (h *Heating) Melts() bool {
	w := h.heaters[heat.NozzleOf(h.where.Point().Tool)]
	return w != nil && w.Last.Actual >= run.Melting
}

// Reported are the setpoints that the printer has reported.
func (h *Heating) Reported() map[heat.Heater]float64 {
	out := map[heat.Heater]float64{}
	for name, w := range h.heaters {
		if w.Last.HasSetpoint {
			out[name] = w.Last.Setpoint
		}
	}
	return out
}

// Above names a heater that is on, or hotter than so many °C; empty if there is none.
func (h *Heating) Above(actual float64) heat.Heater {
	for name, w := range h.heaters {
		if w.Last.Setpoint > 0 || w.Last.Actual > actual {
			return name
		}
	}
	return ""
}

// Known reports whether the printer has reported any heater.
func (h *Heating) Known() bool { return len(h.heaters) > 0 }

// Taken reports whether a warm-up or a tuning has the heaters.
func (h *Heating) Taken() bool { return h.warming != nil || h.tuning.goesOn() }

// Alarms are the texts of those that wait for a person and keep runs from going on,
// the oldest first: what a guard only tells keeps nobody.
func (h *Heating) Alarms() []string {
	var out []string
	for _, a := range h.alarms {
		if a.Action != heat.Tell {
			out = append(out, a.Text)
		}
	}
	return out
}

// mind looks at what no reading tells: readings that do not come, heaters
// that nobody uses, a warm-up whose next heater is due.
func (h *Heating) mind() {
	now := time.Now()
	patience := heat.SilentFor
	if !h.line.Reports("AUTOREPORT_TEMP") { // it answers only between its moves
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
	_, state := h.run.Brief()
	inUse := state != "" && state != run.Interrupted || h.run.KeepsBed() || h.Taken()
	warn, off := h.leash.Look(h.loop.Now(), on, inUse)
	switch {
	case warn:
		h.loop.Message(wire.Told, fmt.Sprintf("the heaters are on and nobody uses them: they are turned off in %s", heat.LeashWarning))
	case off:
		h.raise(heat.Alarm{At: now, Guard: heat.Unused, Action: heat.ActionOf(heat.Unused), Text: fmt.Sprintf("the heaters were on for %s and nobody used them: they were turned off", h.leash.After)})
	}
	h.goOnWarming()
	if now.Sub(h.learnedAt) >= learnedEvery {
		h.KeepLearned()
	}
}

// KeepLearned lets what was learned of the heaters be kept.
func (h *Heating) KeepLearned() {
	h.learnedAt = time.Now()
	for name, t := range h.thermals {
		if t.learner.Sums != nil || t.guard.Standings != nil {
			h.cfg.Recorder.Learned(name, t.learned())
		}
	}
}

// used lets a person's doing keep the heaters on.
func (h *Heating) used() { h.leash.Look(h.loop.Now(), false, true) }

// Behaviour is how the heaters behave.
type Behaviour struct {
	Models    map[heat.Heater]heat.Model
	Forecasts map[heat.Heater]heat.Forecast
	Needs     map[heat.Heater]heat.Need
	Growths   map[heat.Heater]heat.Growth // of those, in this run
	Lived     map[heat.Heater]heat.Experience
	Shapes    map[heat.Heater]heat.Shape
	Climbs    map[heat.Heater][]heat.Climb
	Alarms    Alarms // that wait for a person
}

// Behaviour returns how the heaters behave. It may be called from anywhere.
func (h *Heating) Behaviour(ctx context.Context) (Behaviour, error) {
	out := Behaviour{Models: map[heat.Heater]heat.Model{}, Forecasts: map[heat.Heater]heat.Forecast{}, Needs: map[heat.Heater]heat.Need{}, Growths: map[heat.Heater]heat.Growth{}, Lived: map[heat.Heater]heat.Experience{}, Shapes: map[heat.Heater]heat.Shape{}, Climbs: map[heat.Heater][]heat.Climb{}}
	err := h.loop.Ask(ctx, func() {
		for name, t := range h.thermals {
			out.Needs[name], out.Growths[name] = t.needs.Kept(), t.guard.Growth
			out.Models[name] = t.learner.Model()
			out.Shapes[name], out.Climbs[name] = t.learner.Shape, slices.Clone(t.learner.Climbs)
			out.Lived[name] = t.guard.With(heat.Experience{})
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

// State is how the heaters stand. It may be called from anywhere.
func (h *Heating) State(ctx context.Context) (Now, error) {
	var now Now
	err := h.loop.Ask(ctx, func() { now = h.Now() })
	return now, err
}
