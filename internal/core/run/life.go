package run

import (
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"slices"
	"time"

	"diathermon/internal/core/gcode"
	"diathermon/internal/core/heat"
	"diathermon/internal/core/trim"
)

// Errors that callers tell apart. Each comes wrapped in a text for the person.
var (
	ErrState = errors.New("the run is not in a state for that")
	ErrAlarm = errors.New("an alarm has not been acknowledged")
	ErrLive  = errors.New("the printer is not answering")
)

// Rules are how runs are led on this printer.
type Rules struct {
	Parking   Parking
	IdleAfter time.Duration // how long the nozzle of a parked run stays hot; 0: for ever
	KeepBed   time.Duration // how long the bed is kept hot for a pick-up; 0: it is not
	ByHand    bool          // a run whose printer kept its place waits for a person all the same
}

// File is what a run must know of what it draws.
type File struct {
	Name      string
	Commands  int
	First     int // the command that lays the first plastic, from 1; 0: none does
	Setpoints map[heat.Heater]float64
	Part      Part
}

// A Life is one run from its beginning to its end: events go in, effects come out.
// It has no clock, no port and no file, and is for one goroutine.
type Life struct {
	rules   Rules
	file    File
	record  Record // its State is the stage's
	stage   stage
	ledger  Ledger
	trims   trim.Schedule
	until   *Until // nil: to the file's end
	printer json.RawMessage
	lost    bool // as versions told that kept no stages

	said    int // of the file's commands
	noted   int // of them, in the journal
	notedAt time.Duration
	token   uint64
	out     []Effect
}

// New returns a run that has just begun.
func New(r Rules, f File, record Record) *Life {
	l := &Life{rules: r, file: f}
	l.Tell(Entry{Kind: Begins, Record: &record})
	return l
}

// Equip gives a run that was told by its journal what it needs to go on.
func (l *Life) Equip(r Rules, f File) { l.rules, l.file = r, f }

// Tell carries the run on by an entry of its journal. Whatever the journal keeps is
// changed here and nowhere else, so that a journal told again is the run.
func (l *Life) Tell(e Entry) {
	switch e.Kind {
	case Begins:
		l.record, l.stage, l.ledger = *e.Record, fresh{}, Ledger{Others: map[int]string{}}
		l.record.State = Waiting
	case Counts:
		l.ledger = Ledger{Said: e.Number, Number: e.Number, Before: e.Command, Others: map[int]string{}}
		l.printer, l.record.Taken, l.said = e.Printer, e.Command, e.Command
		if l.lost {
			l.stage, l.lost = pickingUp{}, false
		}
	case Other:
		l.ledger.Others[e.Number] = e.Text
		l.ledger.Said = max(l.ledger.Said, e.Number+1)
	case Trims:
		l.trims = l.trims.And(*e.Trim)
	case Untils:
		l.until = e.Until
	case Reached:
		l.reached(e)
	case Becomes:
		s := e.stage()
		if _, picking := l.stage.(pickingUp); s == nil || picking && e.Stage.stage == nil && e.State != Running {
			return // what it was before an interruption is what it goes on as
		}
		l.stage = s
		l.record.State, l.record.Reason = e.State, e.Reason
		if s.name() == Over {
			l.record.Ended = e.At
		}
		if e.Stage.stage != nil {
			l.record.Started = e.Started
			l.reached(e)
		}
	case Lost:
		l.lost = true
	}
}

func (l *Life) reached(e Entry) {
	l.record.Taken, l.ledger.Taken, l.noted = e.Command, e.Number, e.Command
	if !e.Laying.IsZero() {
		l.record.Laying = e.Laying
	}
	l.said = max(l.said, e.Command)
	if e.Command > l.ledger.Before {
		l.ledger.Said = max(l.ledger.Said, e.Number+1)
	}
}

// Stage returns where the run stands.
func (l *Life) Stage() Stage { return l.stage.name() }

// State returns what a person is told of that.
func (l *Life) State() State { return l.record.State }

// Taken returns how many of the file's commands the printer has taken.
func (l *Life) Taken() int { return l.record.Taken }

// Record returns what is kept of the run.
func (l *Life) Record() Record { return l.record }

// Ledger returns what the numbers of the run's lines mean.
func (l *Life) Ledger() Ledger { return l.ledger.clone() }

// Trims returns how the run's lines differ from its file's, and from where on.
func (l *Life) Trims() trim.Schedule { return slices.Clone(l.trims) }

// Trim returns how they differ from now on.
func (l *Life) Trim() trim.Trim { return l.trims.Last() }

// Until returns where the run is to be held, or to end; nil: at its file's end.
func (l *Life) Until() *Until { return l.until }

// Printer returns what the printer said of itself as the lines were first counted.
func (l *Life) Printer() json.RawMessage { return l.printer }

// Said returns the line number below which all may have been used.
func (l *Life) Said() int { return l.ledger.Said }

// SaidBelow notes that all line numbers below next may have been used.
func (l *Life) SaidBelow(next int) { l.ledger.Said = max(l.ledger.Said, next) }

// SaidMore notes that so many numbers beyond those may have been used, too, and that nobody
// remembers.
func (l *Life) SaidMore(n int) { l.ledger.More = n }

// Lost reports whether the printer has forgotten everything, so that the run can
// only be picked up by a plan.
func (l *Life) Lost() bool {
	switch s := l.stage.(type) {
	case away:
		return s.Lost
	case forgotten:
		return true
	}
	return false
}

// An Act is what a person may do to a run.
type Act string

// The acts.
const (
	MayHold   Act = "hold"
	MayResume Act = "resume"
	MayStop   Act = "stop"
	MayPickUp Act = "pick-up"
)

// May returns what a person may do to the run now. An alarm that waits, or a printer
// that does not answer, may be in the way all the same.
func (l *Life) May() []Act {
	switch s := l.Stage(); {
	case s == Over || s == Stopping:
		return nil
	case s == Soaking || s == Heating || s == Drawing || s == PickingUp:
		return []Act{MayHold, MayStop}
	case s == Returning || l.wished().To == ToResume:
		return []Act{MayHold, MayResume, MayStop}
	case s.State() == Held:
		return []Act{MayResume, MayStop}
	case s == Forgotten:
		return []Act{MayStop, MayPickUp}
	}
	return []Act{MayStop}
}

// ComingBack reports whether the nozzle is on its way to the part.
func (l *Life) ComingBack() bool { return l.Stage() == Returning || l.Stage() == PickingUp }

// KeepsBed reports whether the bed is kept hot for a pick-up.
func (l *Life) KeepsBed() bool {
	s, is := l.stage.(forgotten)
	return is && s.bedUntil > 0
}

// Own are the setpoints with which a run goes on whose nozzle waits beside the part; nil: it
// does not.
func (l *Life) Own() map[heat.Heater]float64 {
	if s, is := l.stage.(parked); is {
		return maps.Clone(s.Back.Setpoints)
	}
	return nil
}

// Left tells how high above the part the nozzle of a run was when it was cut off,
// mm, if it was off the part.
func (l *Life) Left() (float64, bool) {
	if p, is := before(l.stage).(parked); is && !p.There && l.record.State == Interrupted {
		return l.rules.Parking.above(p.Back.Machine()[gcode.Z]), true
	}
	return 0, false
}

// is is where a run stands and what happens to it.
type is struct {
	stage Stage
	on    On
}

// Step lets an event happen and returns what is to be done. An error says, in words
// for the person who asked, why nothing is.
func (l *Life) Step(e Event, m Machine) ([]Effect, error) {
	err := l.step(e, m)
	out := l.out
	l.out = nil
	return out, err
}

func (l *Life) step(e Event, m Machine) error {
	l.count(e, m)
	switch (is{l.Stage(), e.On}) {
	// The first lines.
	case is{Fresh, OnBegin}:
		l.prepare(preparing{Soak: e.Soak}, m)
	case is{Preparing, OnPerformed}:
		l.performed(e.Reason, m)
	case is{Preparing, OnStop}:
		l.leavePreparing(Stopped, e.Reason, m)
	case is{Preparing, OnUnreadable}:
		l.leavePreparing(Stopped, "the file cannot be read on: "+e.Reason, m)
	case is{Preparing, OnCut}, is{Preparing, OnReset}:
		l.leavePreparing(Broken, e.Reason, m)
	case is{Preparing, OnBack}:
		l.leavePreparing(Broken, "the host went away while "+l.record.Reason, m)
	case is{Fresh, OnSaid}:
		l.launch(m)
	case is{Soaking, OnSoaked}:
		l.enter(l.onward(), "", m)
	case is{Heating, OnTaken}:
		l.lay(m)

	// A hold.
	case is{Soaking, OnHold}, is{Heating, OnHold}, is{Drawing, OnHold}:
		l.settle(held{Soak: l.soak()}, Wish{}, e.Reason, m)
	case is{Fresh, OnAsk}:
		l.launch(m)
		l.askedByFile(e.Reason, m)
	case is{Heating, OnAsk}, is{Drawing, OnAsk}:
		l.askedByFile(e.Reason, m)
	case is{Soaking, OnCool}, is{Heating, OnCool}, is{Drawing, OnCool}:
		l.settle(held{Soak: l.soak(), Cooled: maps.Clone(m.At.Setpoints)}, Wish{}, e.Reason, m)
	case is{Soaking, OnPause}, is{Heating, OnPause}, is{Drawing, OnPause}:
		l.enter(paused{held{Soak: l.soak()}}, "the printer has paused by itself", m)
	case is{Settling, OnTaken}, is{Paused, OnTaken}:
		l.stillTaken(e.Heats, m)
	case is{Leaving, OnDone}:
		l.leave(e, m)
	case is{Settling, OnHold}, is{Leaving, OnHold}, is{Parked, OnHold}, is{CutShort, OnHold}, is{Paused, OnHold}:
		return l.holdAgain(e.Reason, m)
	case is{Settling, OnCool}, is{Leaving, OnCool}, is{Parked, OnCool}, is{Paused, OnCool}:
		l.remember(m)
	case is{Parked, OnTime}:
		l.idle(m)

	// And back.
	case is{Settling, OnResume}, is{Leaving, OnResume}, is{Parked, OnResume}, is{Returning, OnResume}, is{CutShort, OnResume}, is{Paused, OnResume}:
		return l.resume(m)
	case is{Returning, OnDone}, is{PickingUp, OnDone}:
		l.comeOn(e, m)
	case is{Returning, OnHold}, is{PickingUp, OnHold}:
		l.wish(Wish{ToHold, e.Reason}, l.record.Reason, m)
	case is{Returning, OnCool}, is{PickingUp, OnCool}:
		l.cutShort(e.Reason, m)

	// The end.
	case is{Heating, OnSpent}, is{Drawing, OnSpent}:
		l.finish(m)
	case is{Finishing, OnDone}, is{Finishing, OnSpent}:
		l.finished(e, m)
	case is{Soaking, OnStop}, is{Heating, OnStop}, is{Drawing, OnStop}, is{Settling, OnStop}, is{Leaving, OnStop}, is{Parked, OnStop}, is{Returning, OnStop},
		is{CutShort, OnStop}, is{Paused, OnStop}, is{Finishing, OnStop}, is{PickingUp, OnStop}, is{Rejoining, OnStop}, is{Forgotten, OnStop}:
		l.stop(e.Reason, m)
	case is{Heating, OnUnreadable}, is{Drawing, OnUnreadable}:
		l.stop("the file cannot be read on: "+e.Reason, m)
	case is{Fresh, OnStop}, is{Away, OnStop}:
		l.off()
		l.end(Stopped, e.Reason, m)
	case is{Fresh, OnUnreadable}:
		l.off()
		l.end(Stopped, "the file cannot be read on: "+e.Reason, m)
	case is{Stopping, OnOff}, is{Stopping, OnDone}:
		l.stopOn(e, m)
	case is{Stopping, OnStop}: // it is

	// Cut off.
	case is{Fresh, OnCut}, is{Fresh, OnReset}:
		l.end(Broken, e.Reason, m)
	case is{Stopping, OnCut}, is{Stopping, OnReset}, is{Stopping, OnBack}:
		l.off()
		l.end(Stopped, l.record.Reason+"; then "+because(e), m)
	case is{Soaking, OnCut}, is{Heating, OnCut}, is{Drawing, OnCut}, is{Settling, OnCut}, is{Leaving, OnCut}, is{Parked, OnCut}, is{Returning, OnCut},
		is{CutShort, OnCut}, is{Paused, OnCut}, is{Finishing, OnCut}, is{PickingUp, OnCut},
		is{Away, OnCut}, is{Rejoining, OnCut}, is{Forgotten, OnCut},
		is{Soaking, OnReset}, is{Heating, OnReset}, is{Drawing, OnReset}, is{Settling, OnReset}, is{Leaving, OnReset}, is{Parked, OnReset}, is{Returning, OnReset},
		is{CutShort, OnReset}, is{Paused, OnReset}, is{Finishing, OnReset}, is{PickingUp, OnReset},
		is{Away, OnReset}, is{Rejoining, OnReset}, is{Forgotten, OnReset},
		is{Fresh, OnBack}, is{Soaking, OnBack}, is{Heating, OnBack}, is{Drawing, OnBack}, is{Settling, OnBack}, is{Leaving, OnBack}, is{Parked, OnBack},
		is{Returning, OnBack}, is{CutShort, OnBack}, is{Paused, OnBack}, is{Finishing, OnBack}, is{PickingUp, OnBack},
		is{Away, OnBack}, is{Rejoining, OnBack}, is{Forgotten, OnBack}:
		l.cutOff(e, m)

	// And found again.
	case is{Away, OnKept}:
		l.rejoin(e.Number, m)
	case is{Rejoining, OnKept}:
		l.rejoinAnew(e.Number, m)
	case is{Away, OnBlank}:
		l.forget(e.Reason, m)
	case is{Fresh, OnTrim}, is{Preparing, OnTrim}, is{Soaking, OnTrim}, is{Heating, OnTrim}, is{Drawing, OnTrim}, is{Settling, OnTrim}, is{Leaving, OnTrim}, is{Parked, OnTrim}, is{Returning, OnTrim}, is{CutShort, OnTrim}, is{Paused, OnTrim}:
		l.keep(Entry{Kind: Trims, Trim: e.Trim}, m)
		if e.Reason != "" {
			l.do(Effect{Do: DoMark, Mark: heat.MarkTrim, Text: e.Reason})
			l.do(Effect{Do: DoTell, Text: e.Reason})
		}
		l.do(Effect{Do: DoShow})
	case is{Fresh, OnUntil}, is{Soaking, OnUntil}, is{Heating, OnUntil}, is{Drawing, OnUntil}, is{Settling, OnUntil}, is{Leaving, OnUntil}, is{Parked, OnUntil}, is{Returning, OnUntil}, is{CutShort, OnUntil}, is{Paused, OnUntil}:
		l.keep(Entry{Kind: Untils, Until: e.Until}, m)
		l.do(Effect{Do: DoShow})
	case is{Heating, OnThere}, is{Drawing, OnThere}:
		return l.there(m)
	case is{Rejoining, OnReplayed}:
		l.replayed(e, m)
	case is{Rejoining, OnTime}:
		l.askWhere(m)
	case is{Rejoining, OnCool}:
		l.coolMeanwhile(e.Reason, m)
	case is{Rejoining, OnDone}:
		l.compare(e, m)
	case is{Forgotten, OnTime}:
		l.coolBed(m)
	case is{Forgotten, OnPickUp}:
		return l.pickUp(*e.Plan, m)
	case is{Away, OnPickUp}, is{Rejoining, OnPickUp}:
		return l.notYet(m)

	default:
		if e.On == OnHalt && l.Stage() != Over {
			l.end(Stopped, "halted", m)
			return nil
		}
		return l.refuse(e.On)
	}
	return nil
}

// count follows the file's lines and the clock, whatever the stage.
func (l *Life) count(e Event, m Machine) {
	if l.Stage() == Over {
		return
	}
	switch e.On {
	case OnSaid:
		l.said++
		l.ledger.Said = max(l.ledger.Said, e.Number+1)
	case OnOther:
		l.ledger.Said = max(l.ledger.Said, e.Number+1)
		if l.record.State != Interrupted || l.Stage() == Rejoining {
			l.keep(Entry{Kind: Other, Number: e.Number, Text: e.Text}, m)
		}
	case OnTaken:
		l.record.Taken++
		l.ledger.Taken = e.Number
		if l.record.Laying.IsZero() && l.file.First > 0 && l.record.Taken >= l.file.First {
			l.keep(l.far(m.Wall), m)
		}
	case OnTime:
		if l.record.Taken != l.noted && m.Now-l.notedAt >= noteEvery {
			l.notedAt = m.Now
			l.keep(l.far(l.record.Laying), m)
		}
	case OnClock:
		for _, t := range []*time.Time{&l.record.Created, &l.record.Started, &l.record.Laying} {
			if !t.IsZero() {
				*t = t.Add(e.By)
			}
		}
		l.do(Effect{Do: DoShow})
	}
}

// far is an entry that tells how far the run has come, and when it laid its first
// plastic.
func (l *Life) far(laying time.Time) Entry {
	return Entry{Kind: Reached, Command: l.record.Taken, Number: l.ledger.Taken, Laying: laying}
}

// noteEvery is how often, at most, the journal is told how far the run has come.
const noteEvery = time.Second

// refuse says why what a person asked for is not done; other events that mean
// nothing in a stage are none of theirs.
func (l *Life) refuse(on On) error {
	switch on {
	case OnHold:
		if l.record.State == Interrupted {
			return fmt.Errorf("%w: it is interrupted; pick it up, or stop it to give it up", ErrState)
		}
		return fmt.Errorf("%w: the run is %s and cannot become %s", ErrState, l.record.State, Held)
	case OnResume:
		if l.record.State == Interrupted {
			return fmt.Errorf("%w: it is interrupted; it is picked up by a plan", ErrState)
		}
		return fmt.Errorf("%w: it is %s, not held", ErrState, l.record.State)
	case OnUntil:
		return fmt.Errorf("%w: it is %s", ErrState, l.record.State)
	case OnTrim:
		return fmt.Errorf("%w: it is %s, and its lines cannot be changed then", ErrState, l.record.State)
	case OnPickUp:
		return fmt.Errorf("%w: it is %s, not interrupted", ErrState, l.record.State)
	case OnStop:
		return fmt.Errorf("%w: it is %s", ErrState, l.record.State)
	}
	return nil
}

func (l *Life) do(e Effect) { l.out = append(l.out, e) }

// keep makes an entry, which changes the run and goes into its journal.
func (l *Life) keep(e Entry, m Machine) {
	e.At = m.Wall
	l.Tell(e)
	l.do(Effect{Do: DoKeep, Entry: e})
}

// enter is the one place where a run's stage, or its reason, changes.
func (l *Life) enter(s stage, reason string, m Machine) {
	was := l.record.State
	state := s.name().State()
	if o, is := s.(over); is {
		state = o.State
	}
	if l.Stage() == Soaking && s.name() != Soaking {
		l.do(Effect{Do: DoEndSoak})
	}
	l.keep(Entry{Kind: Becomes, Stage: kept{s}, State: state, Reason: reason, Command: l.record.Taken, Number: l.ledger.Taken, Started: l.record.Started, Laying: l.record.Laying}, m)
	l.do(Effect{Do: DoLane, Open: s.name().Open()})
	switch {
	case state == Held && was != Held && was != Interrupted:
		l.do(Effect{Do: DoMark, Mark: heat.MarkHold, Text: reason})
	case was == Held && (state == Warming || state == Running):
		l.do(Effect{Do: DoMark, Mark: heat.MarkResume, Text: l.file.Name})
	}
	l.do(Effect{Do: DoShow})
}

// say says a command of the run's own whose answer nobody waits for.
func (l *Life) say(command string) { l.do(Effect{Do: DoSay, Command: command}) }

// errand begins to say commands one after another.
func (l *Life) errand(commands []string) errand {
	e := errand{rest: commands}
	for _, c := range commands {
		if heats(c) {
			e.heating = append(e.heating, c)
		}
	}
	return l.next(e)
}

// next says the first of the commands that are left.
func (l *Life) next(e errand) errand {
	l.token++
	e.token = l.token
	if len(e.rest) > 0 {
		l.do(Effect{Do: DoSay, Command: e.rest[0], Token: e.token})
	}
	return e
}

// done carries an errand on if the event tells of it, and reports whether it does;
// it is at its end when nothing is left.
func (l *Life) done(e errand, with Event) (errand, bool) {
	if with.On != OnDone || with.Token != e.token || len(e.rest) == 0 {
		return e, false
	}
	e.rest = e.rest[1:]
	return l.next(e), true
}

// heats reports whether a command gives a heater a setpoint.
func heats(command string) bool {
	_, _, gives := SetpointOf(command)
	return gives
}

// because is why a run was cut off.
func because(e Event) string {
	if e.On == OnBack {
		return "the host went away"
	}
	return e.Reason
}
