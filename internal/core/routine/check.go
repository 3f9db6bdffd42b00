package routine

import (
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"diathermon/internal/core/gcode"
	"diathermon/internal/core/heat"
)

// Facts are what a routine may do, whatever its parameters, the printer and the person
// say.
type Facts struct {
	Heats     map[heat.Heater]float64 // to at most, °C
	To        [3]*Span                // mm, where X, Y and Z may be sent; nil: to no place
	By        [3]*Span                // mm, how far from where they stand
	Pushes    float64                 // mm of filament at most, all together
	Draws     float64
	Homes     bool
	MotorsOff bool
	Stores    bool // writes settings that outlast a restart
	SaysBed   bool
	Tunes     bool
	Outputs   []string
	Asks      bool
	Changes   []gcode.Code  // factors that it sets, which are given back at its end
	Longest   time.Duration // of waiting and asking, all together; moves not counted
}

// Check works out what a routine may do on a printer, or says what is wrong with it. Its
// error is an *Error.
func (r *Routine) Check(m Machine, library Library) (Facts, error) {
	c := &checker{machine: m, library: library, facts: Facts{Heats: map[heat.Heater]float64{}}, held: r.Held}
	s, err := r.open(&c.machine, nil, func(f Field) (value, error) { return f.all(), nil })
	if err != nil {
		return Facts{}, located(err, 1)
	}
	if r.Safe.MotorsOff && r.Held {
		return Facts{}, &Error{Line: 1, Why: "a held run would not find back with its motors off: safe … motors off does not go with when held"}
	}
	c.calls = []string{r.Name}
	c.facts.MotorsOff = r.Safe.MotorsOff
	if _, err := c.walk(r.steps, s, begun, nil); err != nil {
		return Facts{}, err
	}
	slices.Sort(c.facts.Outputs)
	c.facts.Outputs = slices.Compact(c.facts.Outputs)
	return c.facts, nil
}

func located(err error, line int) error {
	var known *Error
	if errors.As(err, &known) {
		return err
	}
	return &Error{Line: line, Why: err.Error(), err: err}
}

// A checker walks through everything that may happen.
type checker struct {
	machine Machine
	library Library
	facts   Facts
	held    bool
	steps   int
	calls   []string
}

// A track is where the axes may be after some steps, and how long waiting has taken.
type track struct {
	over     bool // it does not come to this
	relative bool
	at       [3]place
	waited   time.Duration
	pushed   float64
	drawn    float64
	flow     Span // by which filament is multiplied; M221
	speed    Span // and feeds; M220
}

// begun is the track on which a routine begins: with speed and flow as lines say them.
var begun = track{flow: one(1), speed: one(1)}

// A place is where an axis may be: sent there, or so far from where it stood.
type place struct {
	sent bool
	Span
}

// join is either of two tracks. Where an axis was sent in one of them alone, it may stand
// anywhere.
func (c *checker) join(a, b track) track {
	switch {
	case a.over:
		return b
	case b.over:
		return a
	}
	for i := range a.at {
		if a.at[i].sent != b.at[i].sent {
			a.at[i] = place{true, Span{0, c.machine.Size[i]}}
			continue
		}
		a.at[i].Span = a.at[i].join(b.at[i].Span)
	}
	a.flow, a.speed = a.flow.join(b.flow), a.speed.join(b.speed)
	a.waited, a.pushed, a.drawn = max(a.waited, b.waited), max(a.pushed, b.pushed), max(a.drawn, b.drawn)
	return a
}

// walk goes through steps; left gathers where leave leaves from.
func (c *checker) walk(steps []step, s *scope, t track, left *track) (track, error) {
	for i := range steps {
		if t.over {
			return t, nil
		}
		if c.steps++; c.steps > MostSteps {
			return t, &Error{Line: steps[i].line, Why: fmt.Sprintf("it comes to more than %d steps; repeat less", MostSteps)}
		}
		var err error
		if t, err = c.step(&steps[i], s, t, left); err != nil {
			return t, located(err, steps[i].line)
		}
	}
	return t, nil
}

func (c *checker) step(st *step, s *scope, t track, left *track) (track, error) {
	switch st.kind {
	case say:
		return c.say(st.gcode, s, t)
	case heatTo, tune:
		return t, c.heats(st, s)
	case cool:
		_, err := s.heaters(st.what)
		return t, err
	case set:
		level, err := s.span(st.amount)
		switch {
		case err != nil:
			return t, err
		case !slices.Contains(c.machine.Outputs, st.what):
			return t, fmt.Errorf("this printer has no output %q; it has %s", st.what, listed(c.machine.Outputs))
		case level.Low < 0 || level.High > 100:
			return t, fmt.Errorf("%s may be set to %s %%, and 0 to 100 go", st.what, level)
		}
		c.facts.Outputs = append(c.facts.Outputs, st.what)
	case lift:
		by, err := s.span(st.amount)
		if err == nil && (by.Low < 0 || by.High > 100) {
			err = fmt.Errorf("it may lift by %s mm, and 0 to 100 go", by)
		}
		if err != nil {
			return t, err
		}
		c.moved(&t, gcode.Z, Span{0, by.High})
	case park:
		for axis := range t.at {
			t.at[axis] = place{true, Span{0, c.machine.Size[axis]}}
			c.sent(gcode.Axis(axis), t.at[axis].Span)
		}
	case pause, until, ask:
		return c.wait(st, s, t, left)
	case branch:
		holds, err := s.holds(st.cond)
		if err != nil {
			return t, err
		}
		yes, no := track{over: true}, track{over: true}
		if holds.yes {
			if yes, err = c.walk(st.steps, s, t, left); err != nil {
				return t, err
			}
		}
		if holds.no {
			if no, err = c.walk(st.orElse, s, t, left); err != nil {
				return t, err
			}
		}
		return c.join(yes, no), nil
	case repeat:
		out := track{over: true}
		for range st.times {
			var err error
			if t, err = c.walk(st.steps, s, t, &out); err != nil || t.over {
				return out, err
			}
		}
		return c.join(out, t), nil
	case leave:
		*left = c.join(*left, t)
		return track{over: true}, nil
	case call:
		return c.call(st, s, t)
	case stop, done:
		c.end(t)
		return track{over: true}, nil
	case bedIs:
		if c.held {
			return t, errors.New("a routine for a held run cannot say how the bed is: the run lies on it")
		}
		c.facts.SaysBed = true
	case keepTuning:
		c.facts.Stores = c.facts.Stores || st.forGood
	}
	c.end(t)
	return t, nil
}

// end notes what has come together by here.
func (c *checker) end(t track) {
	c.facts.Longest = max(c.facts.Longest, t.waited)
	c.facts.Pushes, c.facts.Draws = max(c.facts.Pushes, t.pushed), max(c.facts.Draws, t.drawn)
}

func (c *checker) heats(st *step, s *scope) error {
	if st.kind == tune && c.held {
		return errors.New("nothing is tuned while a run is held: it does not go with when held")
	}
	heaters, err := s.heaters(st.what)
	if err != nil {
		return err
	}
	to, err := s.span(st.amount)
	if err != nil {
		return err
	}
	for _, h := range heaters {
		if limit := c.machine.Limits.Of(h); to.Low < 0 || !(to.High <= limit) {
			return fmt.Errorf("it may heat %s to %s °C, and 0 to %s go", h, to, decimal(limit))
		}
		c.facts.Heats[h] = max(c.facts.Heats[h], to.High)
	}
	c.facts.Tunes = c.facts.Tunes || st.kind == tune
	return nil
}

// mostWait is the longest that one step may wait.
const mostWait = 4 * time.Hour

func (c *checker) wait(st *step, s *scope, t track, left *track) (track, error) {
	limit := st.most
	if st.kind == pause {
		limit = st.amount
	}
	most, err := s.span(limit)
	if err == nil && (most.Low < 0 || !(most.High <= mostWait.Seconds())) {
		err = fmt.Errorf("it may wait for %s s, and up to %s go", most, mostWait)
	}
	if err != nil {
		return t, err
	}
	t.waited += time.Duration(most.High * float64(time.Second))
	c.end(t)
	switch st.kind {
	case until:
		_, err = s.holds(st.cond)
	case ask:
		c.facts.Asks = true
		out := track{over: true}
		for _, o := range st.options {
			after, err := c.walk(o.steps, s, t, left)
			if err != nil {
				return t, err
			}
			out = c.join(out, after)
		}
		return out, nil
	}
	return t, err
}

func (c *checker) call(st *step, s *scope, t track) (track, error) {
	if slices.Contains(c.calls, st.what) {
		return t, fmt.Errorf("%s calls itself in the end: %s", st.what, strings.Join(append(slices.Clone(c.calls), st.what), " calls "))
	}
	if len(c.calls) > mostDepth {
		return t, fmt.Errorf("routines call one another more than %d deep", mostDepth)
	}
	r, err := c.library(st.what)
	if err != nil {
		return t, err
	}
	if c.held && !r.Held {
		return t, fmt.Errorf("%s is not for a held run", r.Name)
	}
	inner, err := s.called(r, st.with)
	if err != nil {
		return t, err
	}
	c.calls = append(c.calls, st.what)
	t, err = c.walk(r.steps, inner, t, nil)
	c.calls = c.calls[:len(c.calls)-1]
	if err != nil {
		return t, &Error{Line: st.line, Why: r.Name + ", " + err.Error(), err: err}
	}
	return t, nil
}
