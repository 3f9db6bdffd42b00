package routine

import (
	"errors"
	"fmt"
	"math"
	"slices"
	"time"

	"diathermon/internal/core/bounds"
	"diathermon/internal/core/gcode"
)

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
)

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
	if err := c.factor(g.code, spans, &t); err != nil {
		return t, err
	}
	switch {
	case g.code.Is('G', 0), g.code.Is('G', 1):
		return c.move(spans, t)
	case g.code.Is('G', 10):
		t.drawn += mostDrawn
	case g.code.Is('G', 11):
		t.pushed += mostDrawn
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

// mostDrawn is what G10 may draw back at the most, and G11 push, mm of filament: what the
// printer is set to is not known here.
const mostDrawn = 35

// factor judges what a line multiplies from then on.
func (c *checker) factor(code gcode.Code, spans map[byte]Span, t *track) error {
	for _, f := range code.Factors() {
		for _, letter := range []byte(f.Letters) {
			span, given := spans[letter]
			if !given {
				continue
			}
			if err := f.Holds(letter, span.Low, span.High); err != nil {
				return err
			}
			switch share := (Span{span.Low / 100, span.High / 100}); {
			case code.Is('M', 221):
				t.flow = share
			case code.Is('M', 220):
				t.speed = share
			}
			if !slices.Contains(c.facts.Changes, code) {
				c.facts.Changes = append(c.facts.Changes, code)
			}
		}
	}
	return nil
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
	if f, given := spans['F']; given && (f.Low <= 0 || f.High*t.speed.High > mostFeed) {
		return t, fmt.Errorf("its F may be %s, and more than 0 and up to %s mm/min go, with its speed of up to %s %%", f, decimal(mostFeed), decimal(100*t.speed.High))
	}
	if e, given := spans['E']; given {
		e = corners(e, t.flow, func(a, b float64) float64 { return a * b })
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
