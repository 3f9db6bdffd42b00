package routine

import (
	"errors"
	"fmt"
	"slices"
	"time"

	"diathermon/internal/core/gcode"
	"diathermon/internal/core/heat"
)

// advance takes one step. It reports an effect, if there is one, and whether it waits.
func (p *Performance) advance(w *World) (*Effect, bool, error) {
	if p.waiting != nil {
		return p.wait(w)
	}
	top := &p.stack[len(p.stack)-1]
	top.scope.world = w
	if top.at == len(top.steps) {
		if top.again > 0 {
			top.again--
			top.at = 0
			return nil, false, nil
		}
		p.stack = p.stack[:len(p.stack)-1]
		if len(p.stack) == 0 {
			p.leave(Finished, "")
		}
		return nil, false, nil
	}
	if p.steps++; p.steps > MostSteps {
		return nil, false, fmt.Errorf("it has come to more than %d steps", MostSteps)
	}
	st := &top.steps[top.at]
	top.at++
	effect, waits, err := p.step(st, top.scope, w)
	if err != nil {
		err = fmt.Errorf("line %d: %w", st.line, err)
	}
	if effect != nil {
		p.told(w, *effect)
		*effect = p.effect(*effect)
	}
	return effect, waits, err
}

func (p *Performance) step(st *step, s *scope, w *World) (*Effect, bool, error) {
	c := &checker{machine: p.machine, held: p.Routine.Held, facts: Facts{Heats: map[heat.Heater]float64{}}}
	switch st.kind {
	case say:
		return p.say(c, st.gcode, s, w)
	case heatTo, tune:
		if err := c.heats(st, s); err != nil {
			return nil, false, err
		}
		h, err := s.heaters(st.what)
		if err != nil {
			return nil, false, err
		}
		to, err := s.number(st.amount)
		e := &Effect{Kind: Heat, Heater: h[0], To: to}
		if st.kind == tune {
			e.Kind, e.Cycles = Tune, st.times
		}
		if err == nil && (to > p.before.Heaters[h[0]].Setpoint || st.kind == tune) {
			p.raised[h[0]] = true
		}
		return e, false, err
	case cool:
		if st.what == "all" {
			return &Effect{Kind: HeatersOff}, false, nil
		}
		h, err := s.heaters(st.what)
		if err != nil {
			return nil, false, err
		}
		return &Effect{Kind: Heat, Heater: h[0]}, false, nil
	case set:
		if _, err := c.step(st, s, begun, nil); err != nil {
			return nil, false, err
		}
		to, err := s.number(st.amount)
		if !slices.Contains(p.switched, st.what) {
			p.switched = append(p.switched, st.what)
		}
		return &Effect{Kind: Output, Output: st.what, To: to}, false, err
	case lift:
		if _, err := c.step(st, s, begun, nil); err != nil {
			return nil, false, err
		}
		mm, err := s.number(st.amount)
		if err != nil {
			return nil, false, err
		}
		lines := p.up(w, mm)
		if lines == nil { // there is no room, or it is not known
			return nil, false, nil
		}
		return &Effect{Kind: Say, Lines: append(lines, p.reading()...), Moves: true}, false, nil
	case park:
		return &Effect{Kind: Park, Lines: p.reading()}, false, nil
	case show:
		return &Effect{Kind: Shown, Text: st.text.in(s)}, false, nil
	case pause, until, ask:
		return p.begin(st, s, w)
	case branch:
		holds, err := s.holds(st.cond)
		switch {
		case err != nil:
			return nil, false, err
		case holds.yes && holds.no:
			return nil, false, errors.New("whether that holds is not known: the printer has not told enough")
		case holds.yes:
			p.stack = append(p.stack, frame{steps: st.steps, scope: s})
		default:
			p.stack = append(p.stack, frame{steps: st.orElse, scope: s})
		}
	case repeat:
		p.stack = append(p.stack, frame{steps: st.steps, scope: s, again: st.times - 1, loop: true})
	case leave:
		for !p.stack[len(p.stack)-1].loop {
			p.stack = p.stack[:len(p.stack)-1]
		}
		p.stack = p.stack[:len(p.stack)-1]
	case call:
		r, err := p.library(st.what)
		if err != nil {
			return nil, false, err
		}
		inner, err := s.called(r, st.with)
		if err != nil {
			return nil, false, err
		}
		p.stack = append(p.stack, frame{steps: r.steps, scope: inner, whole: true})
	case stop:
		p.leave(Stopped, st.text.in(s))
	case done:
		for !p.stack[len(p.stack)-1].whole {
			p.stack = p.stack[:len(p.stack)-1]
		}
		top := &p.stack[len(p.stack)-1]
		top.at, top.again = len(top.steps), 0
	case bedIs:
		return &Effect{Kind: SayBed, Text: st.what}, false, nil
	case keepTuning:
		return &Effect{Kind: KeepTuning, Good: st.forGood}, false, nil
	}
	return nil, false, nil
}

// reading are the modes that a routine's lines are read in.
func (p *Performance) reading() []string {
	if p.relative {
		return []string{"G91", "M83"}
	}
	return []string{"G90", "M83"}
}

// say makes the lines of a template, if they may be said where things stand.
func (p *Performance) say(c *checker, g template, s *scope, w *World) (*Effect, bool, error) {
	t := begun
	t.relative = p.relative
	if _, err := c.say(g, s, t); err != nil {
		return nil, false, err
	}
	line, err := g.line(s)
	if err != nil {
		return nil, false, err
	}
	e := &Effect{Kind: Say, Lines: []string{line}}
	switch {
	case g.code.Is('G', 90), g.code.Is('G', 91):
		p.relative = g.code.Number == 91
		e.Lines = append(e.Lines, "M83")
	case g.code.Is('G', 0), g.code.Is('G', 1):
		e.Moves = true
		for _, word := range g.words {
			axis := slices.Index([]byte("XYZ"), word.letter)
			if axis < 0 || word.expr == nil {
				continue
			}
			by, err := s.number(word.expr)
			if err != nil {
				return nil, false, err
			}
			to, size := by+w.Shift[axis], p.machine.Size[axis]
			if p.relative {
				to = by + w.To[axis]
			}
			switch {
			case !w.Homed[axis]:
				return nil, false, fmt.Errorf("%s is not said: where %c is is not known; home it first", line, word.letter)
			case to < -1e-3 || to > size+1e-3:
				return nil, false, fmt.Errorf("%s is not said: it leads to %c %s, and this printer has 0 to %s mm", line, word.letter, decimal(to), decimal(size))
			}
		}
	case g.code.Traits()&gcode.Moves != 0:
		e.Moves = true
	}
	return e, false, nil
}

// begin begins to wait.
func (p *Performance) begin(st *step, s *scope, w *World) (*Effect, bool, error) {
	limit := st.most
	if st.kind == pause {
		limit = st.amount
	}
	seconds, err := s.number(limit)
	if err != nil {
		return nil, false, err
	}
	if seconds < 0 || seconds > mostWait.Seconds() {
		return nil, false, fmt.Errorf("it cannot wait for %s s", decimal(seconds))
	}
	p.waiting, p.State, p.Until = st, Waiting, w.Now+time.Duration(seconds*float64(time.Second))
	if st.kind == ask {
		p.number++
		q := &Question{Number: p.number, Text: st.text.in(s), Until: p.Until, Otherwise: st.otherwise}
		for _, o := range st.options {
			q.Answers = append(q.Answers, o.text)
		}
		p.State, p.Question = Asking, q
		p.note(w, Asked, q.Text)
	}
	return p.wait(w)
}

// wait looks whether what it waits for has come.
func (p *Performance) wait(w *World) (*Effect, bool, error) {
	st, s := p.waiting, p.stack[len(p.stack)-1].scope
	s.world = w
	over := w.Now >= p.Until
	switch {
	case st.kind == until:
		holds, err := s.holds(st.cond)
		if err != nil {
			return nil, false, err
		}
		if holds.yes && !holds.no {
			break
		}
		if over && st.otherwise != goOn {
			p.leave(Stopped, fmt.Sprintf("line %d: what it waited for has not come", st.line))
			return nil, false, nil
		}
		if !over {
			if placed(st.cond) && w.Now-p.asked >= time.Second {
				p.asked = w.Now
				e := p.effect(Effect{Kind: Say, Lines: []string{"M114"}})
				return &e, true, nil
			}
			return nil, true, nil
		}
		p.note(w, Did, "what it waited for has not come; it goes on")
	case !over:
		return nil, true, nil
	case st.kind == ask && st.otherwise == "":
		p.note(w, Told, "nobody answered")
		p.leave(Stopped, "nobody answered: "+p.Question.Text)
		return nil, false, nil
	case st.kind == ask:
		p.note(w, Told, "nobody answered, so: "+st.otherwise)
		p.take(st.otherwise)
		return nil, false, nil
	}
	p.waiting, p.State = nil, Going
	return nil, false, nil
}

// placed reports whether a condition asks where the head is.
func placed(c *cond) bool {
	if c == nil {
		return false
	}
	return placed(c.left) || placed(c.right) || axial(c.a) || axial(c.b)
}

func axial(e *expr) bool {
	return e != nil && (e.op == 'v' && slices.Contains(axes, e.name) || axial(e.left) || axial(e.right))
}
