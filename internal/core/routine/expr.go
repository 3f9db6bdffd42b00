package routine

import (
	"fmt"
	"math"
	"slices"
	"strconv"

	"diathermon/internal/core/heat"
)

// A Span is a range of numbers, both ends included.
type Span struct{ Low, High float64 }

func one(v float64) Span { return Span{v, v} }

// anything is the range of what is not known.
var anything = Span{math.Inf(-1), math.Inf(1)}

func (s Span) join(o Span) Span { return Span{min(s.Low, o.Low), max(s.High, o.High)} }

// has reports whether a number lies within.
func (s Span) has(v float64) bool { return v >= s.Low && v <= s.High }

func (s Span) plus(o Span) Span { return Span{s.Low + o.Low, s.High + o.High} }

// corners is the range of an operation that is monotonic in each of its operands.
func corners(a, b Span, f func(a, b float64) float64) Span {
	out := Span{math.Inf(1), math.Inf(-1)}
	for _, x := range []float64{a.Low, a.High} {
		for _, y := range []float64{b.Low, b.High} {
			v := f(x, y)
			if math.IsNaN(v) { // of what is not known
				return anything
			}
			out = out.join(one(v))
		}
	}
	return out
}

// An expr is a number: op is one of + - * /, 'n' a number, 'v' what has a name.
type expr struct {
	op          byte
	left, right *expr
	value       float64
	name, part  string // part: setpoint, limit, run, or an axis of size
	unit        string
}

// A value is what a parameter may be.
type value struct {
	span  Span
	words []string // of what is no number: all that it may be
}

// A scope is where names are looked up: when a routine is checked, in all that may be;
// when it is performed, in what is.
type scope struct {
	values  map[string]value
	machine *Machine
	world   *World // nil: it is checked
}

// number is an expression's only value.
func (s *scope) number(e *expr) (float64, error) {
	span, err := s.span(e)
	if err != nil {
		return 0, err
	}
	if span.Low != span.High || math.IsInf(span.Low, 0) {
		return 0, fmt.Errorf("%s is not known", e)
	}
	return span.Low, nil
}

// span is the range of an expression.
func (s *scope) span(e *expr) (Span, error) {
	switch e.op {
	case 'n':
		return one(e.value), nil
	case 'v':
		return s.look(e)
	}
	a, err := s.span(e.left)
	if err != nil {
		return a, err
	}
	b, err := s.span(e.right)
	if err != nil {
		return b, err
	}
	switch e.op {
	case '+':
		return a.plus(b), nil
	case '-':
		return Span{a.Low - b.High, a.High - b.Low}, nil
	case '*':
		return corners(a, b, func(a, b float64) float64 { return a * b }), nil
	}
	if b.has(0) {
		return a, fmt.Errorf("%s may be 0, and nothing is divided by that", e.right)
	}
	return corners(a, b, func(a, b float64) float64 { return a / b }), nil
}

// look is the range of what has a name.
func (s *scope) look(e *expr) (Span, error) {
	if i := slices.Index(axes, e.name); i >= 0 {
		if s.world == nil || !s.world.Placed {
			return anything, nil
		}
		return one(s.world.At[i]), nil
	}
	if e.name == "size" {
		return one(s.machine.Size[slices.Index(axes, e.part)]), nil
	}
	v, parameter := s.values[e.name]
	if parameter && v.words == nil {
		return v.span, nil
	}
	var out *Span
	heaters, err := s.heaters(e.name)
	for _, h := range heaters {
		got := s.heater(h, e.part)
		if out == nil {
			out = &got
		} else {
			*out = out.join(got)
		}
	}
	if err != nil {
		return anything, err
	}
	return *out, nil
}

var axes = []string{"x", "y", "z"}

// heater is the range of what is known of a heater.
func (s *scope) heater(h heat.Heater, part string) Span {
	switch own, known := s.machine.Run[h]; {
	case part == "limit":
		return one(s.machine.Limits.Of(h))
	case part == "run" && known:
		return one(own)
	case part == "run":
		return anything
	}
	if s.world == nil {
		return anything
	}
	now, known := s.world.Heaters[h]
	switch {
	case !known:
		return anything
	case part == "setpoint":
		return one(now.Setpoint)
	}
	return one(now.Actual)
}

// heaters are those that a name may mean: one heater's own, that of a parameter, or all.
func (s *scope) heaters(name string) ([]heat.Heater, error) {
	if name == "all" {
		return s.machine.Heaters, nil
	}
	names := []string{name}
	if v, ok := s.values[name]; ok {
		names = v.words
	}
	var out []heat.Heater
	for _, n := range names {
		h := heat.Heater(n)
		if n == "nozzle" {
			h = heat.Nozzle
		}
		if !s.machine.has(h) {
			return nil, fmt.Errorf("this printer has no %s; it has %s", n, listed(s.machine.Heaters))
		}
		out = append(out, h)
	}
	return out, nil
}

func (e *expr) String() string {
	switch {
	case e.op == 'n':
		return strconv.FormatFloat(e.value, 'f', -1, 64)
	case e.op != 'v':
		return e.left.String() + " " + string(e.op) + " " + e.right.String()
	case e.part != "":
		return e.name + "." + e.part
	}
	return e.name
}

// A cond is a condition: op is one of & | !, '<' and '{' (less, or equal), '=' and '~'
// (equal, not), 'i' (a name is a word), 'r' (a heater is ready), 'h' (homed), 'p' (held).
type cond struct {
	op          byte
	left, right *cond
	a, b        *expr
	name, word  string
}

// truth is what a condition may be.
type truth struct{ yes, no bool }

func (t truth) not() truth { return truth{t.no, t.yes} }

func sure(yes bool) truth { return truth{yes, !yes} }

// open is the truth of what is not known.
var open = truth{true, true}

// holds is what a condition may be.
func (s *scope) holds(c *cond) (truth, error) {
	switch c.op {
	case '&', '|', '!':
		a, err := s.holds(c.left)
		if err != nil || c.op == '!' {
			return a.not(), err
		}
		b, err := s.holds(c.right)
		if c.op == '&' {
			return truth{a.yes && b.yes, a.no || b.no}, err
		}
		return truth{a.yes || b.yes, a.no && b.no}, err
	case 'i':
		words := s.values[c.name].words
		return truth{slices.Contains(words, c.word), len(words) > 1 || !slices.Contains(words, c.word)}, nil
	case 'r':
		heaters, err := s.heaters(c.name)
		if err != nil || s.world == nil {
			return open, err
		}
		for _, h := range heaters {
			now, known := s.world.Heaters[h]
			if !known || now.Setpoint <= 0 || !now.Ready {
				return sure(false), nil
			}
		}
		return sure(true), nil
	case 'h', 'p':
		if s.world == nil {
			return open, nil
		}
		return sure(c.op == 'h' && s.world.Homed == [3]bool{true, true, true} || c.op == 'p' && s.world.Held), nil
	}
	a, err := s.span(c.a)
	if err != nil {
		return open, err
	}
	b, err := s.span(c.b)
	if err != nil {
		return open, err
	}
	switch c.op {
	case '<':
		return truth{a.Low < b.High, a.High >= b.Low}, nil
	case '{':
		return truth{a.Low <= b.High, a.High > b.Low}, nil
	}
	equal := truth{a.Low <= b.High && b.Low <= a.High, a != b || a.Low != a.High}
	if c.op == '~' {
		return equal.not(), nil
	}
	return equal, nil
}
