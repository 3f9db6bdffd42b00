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

	"github.com/google/uuid"

	"diathermon/internal/core/bounds"
	"diathermon/internal/core/gcode"
	"diathermon/internal/core/heat"
	"diathermon/internal/core/jog"
	"diathermon/internal/core/machine"
	"diathermon/internal/core/routine"
	"diathermon/internal/core/run"
	"diathermon/internal/core/wire"
	"diathermon/internal/host/heating"
	"diathermon/internal/host/moving"
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

	getting string // a routine that is about to begin
	perf    *routine.Performance
	record  routine.Record
	held    bool // it was begun while a run is held
	told    Now
}

// New returns the part.
func New(c Config, loop *part.Loop, t *talk.Talk, where *position.Position, h *heating.Heating, r *printing.Printing, m *moving.Moving, o *outputs.Outputs) *Performing {
	return &Performing{cfg: c, loop: loop, talk: t, where: where, heat: h, run: r, motion: m, outputs: o}
}

// memory is what is remembered of a performance.
type memory struct {
	ID, Routine, Text, By string
	Values                map[string]string
	Begun                 time.Time
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
	p.perf = routine.Abandoned(r, p.machine(), p.world(), "the host ended while it was performed")
	return err
}

// Machine is what routines are checked against. It may be called from anywhere.
func (p *Performing) Machine(ctx context.Context) (m routine.Machine, err error) {
	err = p.loop.Ask(ctx, func() { m = p.machine() })
	return m, err
}

func (p *Performing) machine() routine.Machine {
	return routine.Machine{Size: p.cfg.Printer.Size(), Heaters: p.cfg.Printer.Heaters(), Limits: p.cfg.Printer.Limits, Outputs: p.outputs.Names()}
}

// world is what is known of the printer now.
func (p *Performing) world() routine.World {
	at, told := p.where.Point(), p.where.Now()
	here := at.Machine()
	w := routine.World{
		Now: p.loop.Now(), Homed: at.Homed, Placed: told.Known, At: [3]float64(told.Where[:3]), To: [3]float64(here[:3]), Shift: [3]float64(at.Shift[:3]),
		Held: p.parked(), Heaters: map[heat.Heater]routine.HeaterNow{}, Relative: at.Relative, RelativeExtruder: at.RelativeExtruder,
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
		if m := p.cfg.Memory; m != nil {
			id := p.record.ID
			p.loop.Aside(func() func() {
				err := m.Forget(id)
				return func() {
					if err != nil {
						p.loop.Log.Error("what was performed is not forgotten on the disk", "error", err)
					}
				}
			})
		}
	}
	if now := p.Now(); now != p.told {
		p.told = now
		p.loop.Publish(now)
	}
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

// Perform begins a routine with values for its parameters and returns how it stands. It
// may be called from anywhere.
func (p *Performing) Perform(ctx context.Context, r *routine.Routine, library routine.Library, values map[string]string, by string) (now Now, err error) {
	record := routine.Record{ID: uuid.Must(uuid.NewV7()).String(), Routine: r.Name, Text: r.Text, By: by}
	asked := p.loop.Ask(ctx, func() {
		if err = p.free(r); err == nil {
			p.getting, record.Begun = r.Name, p.loop.Wall()
		}
	})
	if err = errors.Join(asked, err); err != nil {
		return Now{}, err
	}
	m := p.cfg.Memory
	if m != nil { // before anything is said
		err = remember(m, record, values)
	}
	asked = p.loop.Ask(context.WithoutCancel(ctx), func() {
		p.getting = ""
		if err == nil {
			err = p.free(r)
		}
		if err == nil {
			err = p.begin(record, r, library, values)
		}
		now = p.Now()
	})
	if err = errors.Join(asked, err); err != nil && m != nil {
		err = errors.Join(err, m.Forget(record.ID))
	}
	return now, err
}

func remember(m Memory, r routine.Record, values map[string]string) error {
	data, err := json.Marshal(memory{ID: r.ID, Routine: r.Routine, Text: r.Text, By: r.By, Values: values, Begun: r.Begun})
	if err != nil {
		return err
	}
	return m.Remember(r.ID, data)
}

func (p *Performing) begin(record routine.Record, r *routine.Routine, library routine.Library, values map[string]string) error {
	perf, effects, err := routine.Begin(r, p.machine(), library, values, p.world())
	if err != nil {
		return err
	}
	record.Values = perf.Values
	p.perf, p.record, p.held = perf, record, p.parked()
	p.loop.Decide("routine %s begins, by %s", r.Name, record.By)
	p.keep()
	p.do(effects)
	p.look()
	return nil
}

// free says why a routine cannot be performed now, or nil.
func (p *Performing) free(r *routine.Routine) error {
	s := p.run.Situation()
	switch {
	case p.Doing() != "":
		return fmt.Errorf("%w: %s", ErrNow, p.Doing())
	case !p.talk.Live():
		return fmt.Errorf("%w: %s", talk.ErrNotLive, p.talk.Reason())
	case s.Run != "" && !s.Parked:
		return fmt.Errorf("%w: %s is %s; %s", bounds.ErrBusy, s.Run, s.State, s.WayOut)
	case s.Run != "" && !r.Held:
		return fmt.Errorf("%w: %s is not for a held run, and %s is held", ErrNow, r.Name, s.Run)
	case s.Run == "" && !r.Idle:
		return fmt.Errorf("%w: %s is for a held run, and none is", ErrNow, r.Name)
	case p.motion.Going():
		return fmt.Errorf("%w: %s", ErrNow, p.motion.Doing())
	case len(p.heat.Alarms()) > 0:
		return fmt.Errorf("%w: %s", run.ErrAlarm, p.heat.Alarms()[0])
	case p.heat.Taken():
		return fmt.Errorf("%w: a warm-up or a tuning goes on; end it first", ErrNow)
	}
	return nil
}

// do carries out what a performance wants.
func (p *Performing) do(effects []routine.Effect) {
	for _, e := range effects {
		p.carryOut(e)
	}
}

func (p *Performing) carryOut(e routine.Effect) {
	perf := p.perf
	over := func(lines []string, err error) {
		switch {
		case p.perf != perf:
		case err != nil:
			p.do(perf.Failed(p.world(), e.Number, err.Error()))
		default:
			p.do(perf.Done(p.world(), e.Number, lines))
		}
		p.look()
	}
	done := func(err error) { over(nil, err) }
	var refused error
	switch e.Kind {
	case routine.Shown:
		p.loop.Message(wire.Told, e.Text)
	case routine.Say:
		p.say(e.Lines, e.Moves, over)
	case routine.Heat:
		refused = p.heat.Give(e.Heater, e.To, "the routine "+p.record.Routine+" gave a setpoint", done)
	case routine.HeatersOff:
		p.heat.EndWarmUp("the routine " + p.record.Routine + " turned its heaters off")
		p.heat.TurnOff(func() { done(nil) })
	case routine.Output:
		refused = p.outputs.Give(e.Output, e.To, "the routine "+p.record.Routine, done)
	case routine.Park:
		p.park(e, over)
	case routine.Tune:
		refused = p.heat.BeginTuning(e.Heater, e.To, e.Cycles, done)
	case routine.KeepTuning:
		refused = p.heat.KeepTuning(e.Good, done)
	}
	if refused != nil {
		done(refused)
	}
}

func (p *Performing) park(e routine.Effect, over func([]string, error)) {
	at := p.where.Point()
	if !at.Knows() {
		over(nil, fmt.Errorf("%w: it cannot park; home it first", jog.ErrUnknown))
		return
	}
	p.say(append(p.cfg.Parking.Park(*at), e.Lines...), true, over)
}

// say says lines, each once the one before it is taken, and waits until nothing moves any
// more if they move something.
func (p *Performing) say(lines []string, moves bool, over func([]string, error)) {
	if moves {
		lines = append(slices.Clone(lines), "M400")
	}
	p.talk.SayEach(lines, p.allowed, over)
}

// allowed says why a line may not be said now, or nil.
func (p *Performing) allowed(line string) error {
	if err := p.run.Situation().Typed(line); err != nil || !pushes(line) {
		return err
	}
	return p.motion.Cold()
}

// pushes reports whether a line moves filament.
func pushes(line string) bool {
	var l gcode.Line
	if l.Parse([]byte(line)) != nil {
		return false
	}
	e, given := l.Value('E')
	return l.Is('G', 10) || l.Is('G', 11) || (l.Is('G', 0) || l.Is('G', 1)) && given && e != 0
}

// Stop ends what is performed, into its safe state. It may be called from anywhere.
func (p *Performing) Stop(ctx context.Context, id, by string) (Now, error) {
	return p.control(ctx, id, func() error {
		p.do(p.perf.Stop(p.world(), "stopped by "+by))
		return nil
	})
}

// Answer answers its question. It may be called from anywhere.
func (p *Performing) Answer(ctx context.Context, id string, question int, answer, by string) (Now, error) {
	return p.control(ctx, id, func() error {
		effects, err := p.perf.Answer(p.world(), question, answer, by)
		p.do(effects)
		return err
	})
}

func (p *Performing) control(ctx context.Context, id string, f func() error) (now Now, err error) {
	asked := p.loop.Ask(ctx, func() {
		if !p.going() || id != "" && id != p.record.ID {
			err = ErrNone
			return
		}
		err = f()
		p.look()
		now = p.Now()
	})
	return now, errors.Join(asked, err)
}
