package routine

import (
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"diathermon/internal/core/gcode"
	"diathermon/internal/core/heat"
)

// A State is how a performance stands:
//
//	going ◀──▶ waiting, asking ──▶ leaving ──▶ finished, stopped, broken
//
// While it is leaving it makes what its routine names as safe; with the printer out of
// reach that waits until it is back.
type State string

// The states.
const (
	Going    State = "going"
	Waiting  State = "waiting"
	Asking   State = "asking"
	Leaving  State = "leaving"
	Finished State = "finished"
	Stopped  State = "stopped" // by a person, by the routine, or for want of an answer
	Broken   State = "broken"  // by the printer, or by what is wrong with it
	None     State = "none"    // nothing was performed yet
)

// Over reports whether nothing happens any more.
func (s State) Over() bool { return s == Finished || s == Stopped || s == Broken }

// A World is what a performance knows of the printer at one moment.
type World struct {
	Now              time.Duration // of a clock that never jumps
	Homed            [3]bool
	Placed           bool       // the printer has told where it is
	At               [3]float64 // mm
	To               [3]float64 // mm, where the lines lead that it has taken
	Shift            [3]float64 // mm, from where lines count to where the machine does
	Held             bool       // a run is held
	Heaters          map[heat.Heater]HeaterNow
	Relative         bool // the modes that lines are read in
	RelativeExtruder bool
	Factors          map[gcode.Code]float64 // what speed (M220), flow (M221) and advance (M900) are set to, as far as it is known
}

// A HeaterNow is what a heater reports, °C.
type HeaterNow struct {
	Actual, Setpoint float64
	Ready            bool // it is steady at its setpoint
}

// An Effect is something that is to be done. All but Shown are answered by Done or
// Failed with their number.
type Effect struct {
	Number int
	Kind   EffectKind
	Lines  []string    // of Say, one after another
	Moves  bool        // they are done when nothing moves any more
	Heater heat.Heater // of Heat and Tune
	To     float64     // °C of these, % of Output
	Output string
	Cycles int // of Tune
	Good   bool
	Text   string // of Shown; of SayBed clear or occupied
}

// An EffectKind is what is to be done.
type EffectKind int

// The kinds.
const (
	Say        EffectKind = iota
	Heat                  // give a heater its setpoint
	HeatersOff            // all of them, and a wait for heat broken off
	Output                // set one
	Park                  // lift the nozzle and take it to a corner
	Shown                 // tell everyone
	Tune
	KeepTuning
	SayBed
)

// A Question is put to persons.
type Question struct {
	Number    int
	Text      string
	Answers   []string
	Until     time.Duration // World's clock
	Otherwise string        // what is taken for the answer then; empty: it is stopped
}

// An Entry is one line of what a performance did.
type Entry struct {
	At   time.Duration // since it began
	Kind EntryKind
	Text string
}

// An EntryKind is what an entry tells.
type EntryKind string

// The kinds of entries.
const (
	Said    EntryKind = "said"
	Replied EntryKind = "replied"
	Did     EntryKind = "did"
	Asked   EntryKind = "asked"
	Told    EntryKind = "told" // by a person
	Ended   EntryKind = "ended"
)

// mostEntries are kept of a performance; what comes then is only counted.
const mostEntries = 2000

// A Performance is a routine that is being performed.
type Performance struct {
	Routine  *Routine
	Values   map[string]string // as they were given, or usual
	State    State
	Why      string // it ended, in words
	Question *Question
	Until    time.Duration // World's clock, while it waits
	Entries  []Entry
	Left     int // entries that were not kept

	machine  Machine
	library  Library
	begun    time.Duration
	before   World
	factors  []gcode.Code // that are given back
	stack    []frame
	steps    int
	number   int // of the last effect or question
	pending  int // the effect that is under way; 0: none
	waiting  *step
	relative bool
	raised   map[heat.Heater]bool
	switched []string // outputs
	ending   State    // what it comes to when it has left
	leaving  []Effect // still to be done
	last     Effect   // of these
	away     bool     // the printer is out of reach
	cut      bool     // it was
	asked    time.Duration
}

// A frame is a list of steps and how far it has come.
type frame struct {
	steps []step
	at    int
	again int  // times that it is repeated after this one
	loop  bool // leave ends it
	whole bool // a routine's
	scope *scope
}

// Begin begins a routine with values for its parameters and returns what is to be done.
// Its error is what Check says, or wraps ErrValue.
func Begin(r *Routine, m Machine, library Library, values map[string]string, w World) (*Performance, []Effect, error) {
	library = remembered(library)
	w.Heaters = maps.Clone(w.Heaters)
	facts, err := r.Check(m, library)
	if err != nil {
		return nil, nil, err
	}
	p := &Performance{Routine: r, State: Going, Values: map[string]string{}, machine: m, library: library, begun: w.Now, before: w, raised: map[heat.Heater]bool{}, factors: facts.Changes}
	lines := []string{"G90", "M83"}
	for _, f := range given { // what it pushes, and how fast, is what its lines say
		if v, known := w.Factors[f.code]; known && f.plain > 0 && v != f.plain {
			lines = append(lines, f.line(f.plain))
			p.factors = append(p.factors, f.code)
		}
	}
	for _, code := range facts.Changes {
		if _, known := w.Factors[code]; !known {
			return nil, nil, fmt.Errorf("%w: what %s is set to now is not known, and could not be given back: say it once by hand", ErrValue, code)
		}
	}
	names := map[string]bool{}
	s, err := r.open(&p.machine, &w, func(f Field) (value, error) {
		names[f.Name] = true
		v, err := f.read(values[f.Name])
		if p.Values[f.Name] = decimal(v.span.Low); v.words != nil {
			p.Values[f.Name] = v.words[0]
		}
		return v, err
	})
	for n := range values {
		if err == nil && !names[n] {
			err = fmt.Errorf("%w: %s takes no %s", ErrValue, r.Name, n)
		}
	}
	if err != nil {
		return nil, nil, err
	}
	p.stack = []frame{{steps: r.steps, scope: s, whole: true}}
	first := p.effect(Effect{Kind: Say, Lines: lines})
	return p, []Effect{first}, nil
}

// given are the factors that a routine gives back.
var given = []factor{{gcode.Code{Letter: 'M', Number: 220}, 'S', 100}, {gcode.Code{Letter: 'M', Number: 221}, 'S', 100}, {gcode.Code{Letter: 'M', Number: 900}, 'K', 0}}

// A factor is what is multiplied by a command's parameter.
type factor struct {
	code   gcode.Code
	letter byte
	plain  float64 // with which lines mean what they say; 0: any
}

func (f factor) line(v float64) string { return f.code.String() + " " + string(f.letter) + decimal(v) }

// remembered is a library that gives the same routine whenever it is asked: what is
// called is what was checked, whatever is stored meanwhile.
func remembered(library Library) Library {
	had := map[string]*Routine{}
	return func(name string) (*Routine, error) {
		if r := had[name]; r != nil {
			return r, nil
		}
		r, err := library(name)
		if err == nil {
			had[name] = r
		}
		return r, err
	}
}

func (p *Performance) effect(e Effect) Effect {
	p.number++
	e.Number = p.number
	if e.Kind != Shown {
		p.pending = e.Number
	}
	return e
}

func (p *Performance) note(w *World, kind EntryKind, text string) {
	if len(p.Entries) >= mostEntries && kind != Ended {
		p.Left++
		return
	}
	p.Entries = append(p.Entries, Entry{w.Now - p.begun, kind, text})
}

// Done tells that an effect is done, and what the printer said.
func (p *Performance) Done(w World, number int, reply []string) []Effect {
	if number != p.pending || p.State.Over() {
		return nil
	}
	for _, line := range reply {
		p.note(&w, Replied, line)
	}
	p.pending = 0
	return p.on(&w)
}

// Failed tells that an effect could not be done.
func (p *Performance) Failed(w World, number int, why string) []Effect {
	if number != p.pending || p.State.Over() {
		return nil
	}
	p.pending = 0
	if p.State == Leaving {
		p.note(&w, Did, "not done: "+why)
		if p.last.Kind == Heat && p.last.To > 0 { // off goes whatever is wrong
			p.leaving = append([]Effect{{Kind: Heat, Heater: p.last.Heater}}, p.leaving...)
		}
		return p.on(&w)
	}
	return p.end(w, Broken, why)
}

// Tick lets time pass.
func (p *Performance) Tick(w World) []Effect {
	if p.pending != 0 || p.State.Over() {
		return nil
	}
	return p.on(&w)
}

// ErrAnswer means that what was answered was not asked.
var ErrAnswer = errors.New("this is no answer")

// Answer answers a question.
func (p *Performance) Answer(w World, number int, answer, by string) ([]Effect, error) {
	q := p.Question
	switch {
	case q == nil || q.Number != number:
		return nil, fmt.Errorf("%w: the question was answered already, or taken back", ErrAnswer)
	case !slices.Contains(q.Answers, answer):
		return nil, fmt.Errorf("%w: %q is none of %s", ErrAnswer, answer, strings.Join(q.Answers, ", "))
	}
	p.note(&w, Told, by+": "+answer)
	p.take(answer)
	return p.on(&w), nil
}

// take goes on with the steps of an answer.
func (p *Performance) take(answer string) {
	st, scope := p.waiting, p.stack[len(p.stack)-1].scope
	p.Question, p.waiting, p.State = nil, nil, Going
	for _, o := range st.options {
		if o.text == answer {
			p.stack = append(p.stack, frame{steps: o.steps, scope: scope})
		}
	}
}

// Stop ends it, into its safe state.
func (p *Performance) Stop(w World, why string) []Effect { return p.end(w, Stopped, why) }

// Break ends it as broken, into its safe state.
func (p *Performance) Break(w World, why string) []Effect { return p.end(w, Broken, why) }

// Cut tells that the printer is out of reach, or has begun anew.
func (p *Performance) Cut(w World, why string, away bool) []Effect {
	if p.State.Over() {
		return nil
	}
	p.pending, p.cut, p.away = 0, true, away
	if p.State == Leaving {
		p.leaving = p.safe()
		return p.on(&w)
	}
	return p.end(w, Broken, why)
}

// Back tells that the printer answers again. What was being made safe is made so once
// more: nobody knows what of it was lost.
func (p *Performance) Back(w World) []Effect {
	p.away = false
	if p.State == Leaving {
		p.pending, p.leaving = 0, p.safe()
	}
	return p.Tick(w)
}

// on goes on as far as it comes.
func (p *Performance) on(w *World) []Effect {
	var out []Effect
	for p.pending == 0 && !p.State.Over() {
		if p.State == Leaving {
			if p.away {
				break
			}
			if e, some := p.next(w); some {
				return append(out, e)
			}
			continue
		}
		effect, waits, err := p.advance(w)
		if err != nil {
			p.leave(Broken, err.Error())
			continue
		}
		if effect != nil {
			out = append(out, *effect)
		}
		if waits {
			break
		}
	}
	return out
}

// told notes an effect.
func (p *Performance) told(w *World, e Effect) {
	switch e.Kind {
	case Say:
		for _, line := range e.Lines {
			p.note(w, Said, line)
		}
	case Heat:
		p.note(w, Did, fmt.Sprintf("%s to %s °C", e.Heater, decimal(e.To)))
	case HeatersOff:
		p.note(w, Did, "heaters off")
	case Output:
		p.note(w, Did, fmt.Sprintf("%s to %s %%", e.Output, decimal(e.To)))
	case Park:
		p.note(w, Did, "park")
	case Shown:
		p.note(w, Did, "shown: "+e.Text)
	case Tune:
		p.note(w, Did, fmt.Sprintf("tune %s at %s °C", e.Heater, decimal(e.To)))
	case KeepTuning:
		p.note(w, Did, "keep what tuning has found")
	}
}

// up are lines that lift the nozzle, as far as there is room; nil: there is none.
func (p *Performance) up(w *World, mm float64) []string {
	if mm = min(mm, p.machine.Size[gcode.Z]-w.To[gcode.Z]); !w.Homed[gcode.Z] || mm < 1e-3 {
		return nil // nothing is moved that is not known to have room
	}
	return []string{"G91", "G1 Z" + decimal(mm) + " F600"}
}

// A Record is what is kept of a performance.
type Record struct {
	ID      string
	Routine string
	Text    string // as it was performed
	Values  map[string]string
	By      string
	State   State
	Why     string
	Begun   time.Time
	Ended   time.Time // zero while it goes on
	Entries []Entry
	Left    int // entries that were not kept
}
