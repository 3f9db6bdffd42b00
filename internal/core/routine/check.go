package routine

import (
	"errors"
	"fmt"
	"math"
	"slices"
	"strings"
	"time"

	"diathermon/internal/core/bounds"
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
	Tunes     bool
	Outputs   []string
	Asks      bool
	Longest   time.Duration // of waiting and asking, all together; moves not counted
}

// may are the commands that a routine's lines may be, and what is not allowed of them.
var may = map[gcode.Code]string{
	{Letter: 'G', Number: 0}: "", {Letter: 'G', Number: 1}: "", {Letter: 'G', Number: 4}: "",
	{Letter: 'G', Number: 10}: "PRSTXYZL", {Letter: 'G', Number: 11}: "", {Letter: 'G', Number: 12}: "", {Letter: 'G', Number: 21}: "",
	{Letter: 'G', Number: 28}: "", {Letter: 'G', Number: 29}: "", {Letter: 'G', Number: 34}: "",
	{Letter: 'G', Number: 90}: "", {Letter: 'G', Number: 91}: "", {Letter: 'G', Number: 92}: "XYZABCUVW",
	{Letter: 'M', Number: 17}: "", {Letter: 'M', Number: 18}: "", {Letter: 'M', Number: 84}: "S", {Letter: 'M', Number: 83}: "",
	{Letter: 'M', Number: 105}: "", {Letter: 'M', Number: 106}: "", {Letter: 'M', Number: 107}: "", {Letter: 'M', Number: 114}: "", {Letter: 'M', Number: 115}: "",
	{Letter: 'M', Number: 117}: "", {Letter: 'M', Number: 118}: "", {Letter: 'M', Number: 119}: "", {Letter: 'M', Number: 220}: "", {Letter: 'M', Number: 221}: "",
	{Letter: 'M', Number: 300}: "", {Letter: 'M', Number: 400}: "", {Letter: 'M', Number: 401}: "", {Letter: 'M', Number: 402}: "", {Letter: 'M', Number: 412}: "",
	{Letter: 'M', Number: 420}: "", {Letter: 'M', Number: 500}: "", {Letter: 'M', Number: 503}: "", {Letter: 'M', Number: 900}: "", {Letter: 'M', Number: 150}: "",
}

// instead says what to write in place of a command that may not be a routine's line.
func instead(code gcode.Code) string {
	traits := code.Traits()
	switch {
	case traits&gcode.Gives != 0:
		return "write heat nozzle0 to 215, and wait until nozzle0 is ready at most 10 min"
	case code.Is('M', 303):
		return "write tune nozzle0 at 215, 8 cycles"
	case traits&gcode.Pauses != 0:
		return "write ask, so that the person is asked on every console"
	case code.Is('M', 42) || code.Is('M', 355):
		return "name the output in Setup, and write set NAME to 100 %"
	case code.Is('M', 82):
		return "filament is relative in a routine: E10 pushes 10 mm"
	case code.Is('M', 300):
		return ""
	case traits == 0:
		return "this host does not know what it does"
	}
	return "it " + code.Look().Does
}

// mostFilament is what one line may move of it, and mostFeed how fast anything may go.
const (
	mostFilament = 200.0   // mm
	mostFeed     = 30_000. // mm/min
	mostDwell    = 600.    // s
	mostWait     = 4 * time.Hour
)

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
	if _, err := c.walk(r.steps, s, track{}, nil); err != nil {
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
}

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

// say judges a line for the printer.
func (c *checker) say(g template, s *scope, t track) (track, error) {
	not, allowed := may[g.code]
	if !allowed {
		return t, fmt.Errorf("%s is no line of a routine: %s", g.code, instead(g.code))
	}
	if g.text != "" {
		return t, bounds.Situation{Machine: bounds.Machine{Size: c.machine.Size, Limits: c.machine.Limits}}.Typed(g.code.String() + " " + g.text)
	}
	spans := map[byte]Span{}
	for _, w := range g.words {
		if slices.Contains([]byte(not), w.letter) {
			return t, fmt.Errorf("%s has no %c in a routine: its place is not to be redefined, nor what a tool is", g.code, w.letter)
		}
		if w.expr == nil {
			continue
		}
		span, err := s.span(w.expr)
		if err != nil {
			return t, err
		}
		if !(math.Abs(span.Low) <= 1e6 && math.Abs(span.High) <= 1e6) && (s.world != nil || !measured(w.expr)) {
			return t, fmt.Errorf("%c may be %s, and no number of a line is that large", w.letter, span)
		}
		spans[w.letter] = span
	}
	if c.held && (g.code.Traits()&gcode.Unsettles != 0) {
		return t, fmt.Errorf("%s %s, and a held run would not find back: it does not go with when held", g.code, g.code.Look().Does)
	}
	switch {
	case g.code.Is('G', 0), g.code.Is('G', 1):
		return c.move(spans, t)
	case g.code.Is('G', 4):
		if spans['S'].High > mostDwell || spans['P'].High > 1000*mostDwell {
			return t, fmt.Errorf("the printer may wait for %s s in one line; up to %s go", spans['S'], decimal(mostDwell))
		}
		t.waited += time.Duration((max(spans['S'].High, 0) + max(spans['P'].High, 0)/1000) * float64(time.Second))
	case g.code.Is('G', 90), g.code.Is('G', 91):
		t.relative = g.code.Number == 91
	case g.code.Is('G', 92) && len(g.words) == 0:
		return t, errors.New("every place is redefined by G92 without E; write G92 E0")
	case g.code.Is('G', 28), g.code.Is('G', 29), g.code.Is('G', 34):
		c.facts.Homes = c.facts.Homes || g.code.Is('G', 28)
		for axis := range t.at {
			t.at[axis] = place{true, Span{0, c.machine.Size[axis]}}
		}
	case g.code.Is('M', 18), g.code.Is('M', 84):
		c.facts.MotorsOff = true
		t.at = [3]place{}
	case g.code.Is('M', 500):
		c.facts.Stores = true
	}
	c.end(t)
	return t, nil
}

// measured reports whether an expression depends on what the printer reports, whose
// range is found out when it is performed.
func measured(e *expr) bool {
	switch e.op {
	case 'n':
		return false
	case 'v':
		return e.name != "size" && e.part != "limit"
	}
	return measured(e.left) || measured(e.right)
}

func (c *checker) move(spans map[byte]Span, t track) (track, error) {
	if f, given := spans['F']; given && (f.Low <= 0 || f.High > mostFeed) {
		return t, fmt.Errorf("its F may be %s, and more than 0 and up to %s mm/min go", f, decimal(mostFeed))
	}
	if e, given := spans['E']; given {
		if !(e.Low >= -mostFilament && e.High <= mostFilament) {
			return t, fmt.Errorf("it may move %s mm of filament in one line, and %s go", e, decimal(mostFilament))
		}
		t.pushed += max(e.High, 0)
		t.drawn += max(-e.Low, 0)
	}
	for axis, letter := range []byte("XYZ") {
		to, given := spans[letter]
		size := c.machine.Size[axis]
		switch {
		case !given:
		case t.relative:
			if !(to.Low >= -size && to.High <= size) {
				return t, fmt.Errorf("it may go %s mm along %c, and this printer has %s mm", to, letter, decimal(size))
			}
			c.moved(&t, gcode.Axis(axis), to)
		default:
			if !math.IsInf(to.Low, 0) && !(to.Low >= 0 && to.High <= size) {
				return t, fmt.Errorf("it may go to %c %s, and this printer has 0 to %s mm", letter, to, decimal(size))
			}
			t.at[axis] = place{true, to}
			c.sent(gcode.Axis(axis), to)
		}
	}
	c.end(t)
	return t, nil
}

func (c *checker) sent(axis gcode.Axis, to Span) {
	to = Span{max(to.Low, 0), min(to.High, c.machine.Size[axis])}
	if known := c.facts.To[axis]; known != nil {
		to = known.join(to)
	}
	c.facts.To[axis] = &to
}

func (c *checker) moved(t *track, axis gcode.Axis, by Span) {
	size := c.machine.Size[axis]
	at := t.at[axis].plus(by)
	if t.at[axis].sent {
		at = Span{max(at.Low, 0), min(at.High, size)}
		t.at[axis].Span = at
		c.sent(axis, at)
		return
	}
	at = Span{max(at.Low, -size), min(at.High, size)}
	t.at[axis].Span = at
	at = at.join(Span{})
	if known := c.facts.By[axis]; known != nil {
		at = known.join(at)
	}
	c.facts.By[axis] = &at
}
