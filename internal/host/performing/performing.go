// Package performing performs routines on the live machine: one at a time, each line when
// the one before has been carried out, each judged by bounds as a typed line is.
//
// It promises that a routine which was begun ends in the state that it names as safe,
// whoever stops it, whatever the printer says, and also when this process ends: what was
// begun is remembered on disk before its first line is said. It leaves to core/routine what
// is to be done, and to the other parts how.
package performing

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"time"

	"diathermon/internal/core/heat"
	"diathermon/internal/core/machine"
	"diathermon/internal/core/routine"
	"diathermon/internal/core/run"
	"diathermon/internal/core/wire"
	"diathermon/internal/host/heating"
	"diathermon/internal/host/moving"
	"diathermon/internal/host/occupancy"
	"diathermon/internal/host/outputs"
	"diathermon/internal/host/part"
	"diathermon/internal/host/position"
	"diathermon/internal/host/printing"
	"diathermon/internal/host/talk"
)

// Errors that callers tell apart.
var (
	ErrNow  = errors.New("it cannot be performed now")
	ErrNone = errors.New("no such routine is being performed")
)

// Now is how the performance stands that goes on, or went on last.
type Now struct {
	ID, Routine, By string
	State           routine.State
	Why             string
	Begun, Ended    time.Time
	Said            string // what it did last
	Question        *routine.Question
	Until           time.Time // while it waits or asks: when that ends
}

// Recorder keeps performances, and may not wait.
type Recorder interface {
	Performance(routine.Record)
}

// Memory keeps what is being performed until it has ended. It may wait, and is never called
// by the loop. Forget forgets what has that ID, and nothing that was begun since. Recall
// returns nil if there is nothing.
type Memory interface {
	Remember(id string, data []byte) error
	Forget(id string) error
	Recall() ([]byte, error)
}

// Config is what a Performing needs.
type Config struct {
	Printer  machine.Printer
	Parking  run.Parking
	Recorder Recorder
	Memory   Memory // nil: nothing is remembered
	Library  routine.Library
}

// Performing is the part.
type Performing struct {
	cfg     Config
	loop    *part.Loop
	talk    *talk.Talk
	where   *position.Position
	heat    *heating.Heating
	run     *printing.Printing
	motion  *moving.Moving
	outputs *outputs.Outputs
	bed     *occupancy.Occupancy

	getting string // a routine that is about to begin
	awaited string // the ID of the one that PerformFor gets; empty: none, or it was broken off
	perf    *routine.Performance
	record  routine.Record
	held    bool // it was begun while a run is held
	told    Now
	over    func(error) // whoever it is performed for; nil: a person alone
}

// New returns the part.
func New(c Config, loop *part.Loop, t *talk.Talk, where *position.Position, h *heating.Heating, r *printing.Printing, m *moving.Moving, o *outputs.Outputs, b *occupancy.Occupancy) *Performing {
	return &Performing{bed: b, cfg: c, loop: loop, talk: t, where: where, heat: h, run: r, motion: m, outputs: o}
}

// memory is what is remembered of a performance.
type memory struct {
	ID, Routine, Text, By string
	Values                map[string]string
	Begun                 time.Time
	Set                   run.Point // speed, flow and advance, of which it gives back what it changes
}

// set is what a routine that begins now gives back.
func (p *Performing) set() run.Point {
	at := p.where.Point()
	return run.Point{Speed: at.Speed, Flow: at.Flow, Advance: at.Advance}
}

// TakeUp takes up what an earlier process was performing: it is not gone on with, and made
// safe as soon as the printer answers. It is called before the loop works.
func (p *Performing) TakeUp() error {
	if p.cfg.Memory == nil {
		return nil
	}
	data, err := p.cfg.Memory.Recall()
	if err != nil || len(data) == 0 {
		return err
	}
	var m memory
	err = json.Unmarshal(data, &m)
	var r *routine.Routine
	if err == nil {
		r, err = routine.Parse(m.Text)
	}
	if err != nil { // what cannot be read may have heated
		r = &routine.Routine{Name: m.Routine, Safe: routine.Safe{HeatersOff: true}}
	}
	p.record = routine.Record{ID: m.ID, Routine: m.Routine, Text: m.Text, Values: m.Values, By: m.By, Begun: m.Begun}
	w := p.world()
	w.Factors = m.Set.Factors()
	p.perf = routine.Abandoned(r, p.machine(), w, "the host ended while it was performed")
	return err
}

// Machine is what routines are checked against. It may be called from anywhere.
func (p *Performing) Machine(ctx context.Context) (m routine.Machine, err error) {
	err = p.loop.Ask(ctx, func() { m = p.machine() })
	return m, err
}

func (p *Performing) machine() routine.Machine {
	return routine.Machine{Size: p.cfg.Printer.Size(), Heaters: p.cfg.Printer.Heaters(), Limits: p.cfg.Printer.Limits, Outputs: p.outputs.Names(), Run: p.run.Own()}
}

// world is what is known of the printer now.
func (p *Performing) world() routine.World {
	at, told := p.where.Point(), p.where.Now()
	here := at.Machine()
	w := routine.World{
		Now: p.loop.Now(), Homed: at.Homed, Placed: told.Known, At: [3]float64(told.Where[:3]), To: [3]float64(here[:3]), Shift: [3]float64(at.Shift[:3]),
		Held: p.parked(), Heaters: map[heat.Heater]routine.HeaterNow{}, Relative: at.Relative, RelativeExtruder: at.RelativeExtruder,
		Factors: at.Factors(),
	}
	for _, h := range p.heat.Now().Heaters {
		if !h.At.IsZero() {
			w.Heaters[h.Heater] = routine.HeaterNow{Actual: h.Actual, Setpoint: h.Setpoint, Ready: h.State == heat.Steady || h.State == heat.Soaked}
		}
	}
	return w
}

func (p *Performing) parked() bool {
	s := p.run.Situation()
	return s.Run != "" && s.Parked
}

// Hear ends what is performed when it is not known any more what the printer does.
func (p *Performing) Hear(event any) bool {
	if !p.going() {
		return false
	}
	switch e := event.(type) {
	case part.Cut:
		p.do(p.perf.Cut(p.world(), e.Reason, true))
	case part.Halted:
		p.do(p.perf.Cut(p.world(), "the emergency stop was pressed", true))
	case part.Reset:
		p.do(p.perf.Cut(p.world(), e.Reason, !p.talk.Live()))
	case part.Alarmed:
		p.do(p.perf.Break(p.world(), e.Text))
	case part.Cooled:
		p.do(p.perf.Stop(p.world(), e.Reason))
	case part.Leaving:
		p.do(p.perf.Stop(p.world(), "the host was shut down"))
	case part.Answers:
		p.do(p.perf.Back(p.world()))
	}
	p.look()
	return false
}

// Tick lets time pass.
func (p *Performing) Tick() {
	if p.going() {
		if p.held && p.perf.State != routine.Leaving && !p.parked() {
			p.do(p.perf.Stop(p.world(), "the run is not held any more"))
		}
		p.do(p.perf.Tick(p.world()))
	}
	p.look()
}

// Busy keeps the host until what is performed is safe, if the printer answers.
func (p *Performing) Busy() bool { return p.going() && p.talk.Live() }

func (p *Performing) going() bool { return p.perf != nil && p.record.Ended.IsZero() }

// Doing says what is being performed, in words.
func (p *Performing) Doing() string {
	name := p.getting
	if p.going() {
		name = p.record.Routine
	}
	if name == "" {
		return ""
	}
	return fmt.Sprintf("the routine %s is being performed", name)
}

// look tells everyone how it stands, and keeps it when it has ended.
func (p *Performing) look() {
	if p.perf == nil {
		return
	}
	if p.perf.State.Over() && p.record.Ended.IsZero() {
		p.record.Ended = p.loop.Wall()
		p.keep()
		p.loop.Decide("routine %s: %s %s", p.record.Routine, p.perf.State, p.perf.Why)
		p.loop.Message(wire.Told, fmt.Sprintf("%s: %s", p.record.Routine, ended(p.perf)))
		p.forget(p.record.ID)
		defer p.tellOver() // once everyone knows how it stands
	}
	if now := p.Now(); now != p.told {
		p.told = now
		p.loop.Publish(now)
	}
}

// forget lets the disk forget what has ended.
func (p *Performing) forget(id string) {
	m := p.cfg.Memory
	if m == nil {
		return
	}
	p.loop.Aside(func() func() {
		err := m.Forget(id)
		return func() {
			if err != nil {
				p.loop.Log.Error("what was performed is not forgotten on the disk", "error", err)
			}
		}
	})
}

func ended(perf *routine.Performance) string {
	if perf.Why == "" {
		return string(perf.State)
	}
	return string(perf.State) + ": " + perf.Why
}

// keep hands what is known of it to the records.
func (p *Performing) keep() {
	r := p.record
	r.State, r.Why, r.Left = p.perf.State, p.perf.Why, p.perf.Left
	r.Entries = slices.Clone(p.perf.Entries)
	p.cfg.Recorder.Performance(r)
}

// Now is how the performance stands that goes on, or went on last; its ID is empty if
// there was none.
func (p *Performing) Now() Now {
	if p.perf == nil {
		return Now{}
	}
	now := Now{ID: p.record.ID, Routine: p.record.Routine, By: p.record.By, State: p.perf.State, Why: p.perf.Why, Begun: p.record.Begun, Ended: p.record.Ended, Question: p.perf.Question}
	if n := len(p.perf.Entries); n > 0 {
		now.Said = p.perf.Entries[n-1].Text
	}
	if p.perf.State == routine.Waiting || p.perf.State == routine.Asking {
		now.Until = p.loop.Wall().Add(p.perf.Until - p.loop.Now()).Truncate(time.Second)
		if p.told.ID == now.ID && p.told.State == now.State && p.told.Until.Sub(now.Until).Abs() <= time.Second {
			now.Until = p.told.Until // the same moment, worked out anew
		}
	}
	return now
}
