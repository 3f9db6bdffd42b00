package routine

import (
	"fmt"
	"math"
	"slices"
	"strconv"
	"strings"
	"unicode"
)

// A Field is a parameter as a person fills it in on one printer.
type Field struct {
	Parameter
	Low, High float64
}

// Fields are a routine's parameters on a printer.
func (r *Routine) Fields(m Machine) ([]Field, error) {
	s := &scope{machine: &m, values: map[string]value{}}
	var out []Field
	for _, p := range r.Parameters {
		f, err := s.field(p)
		if err != nil {
			return nil, &Error{Line: p.line, Why: p.Name + ": " + err.Error()}
		}
		out = append(out, f)
	}
	return out, nil
}

func (s *scope) field(p Parameter) (f Field, err error) {
	f.Parameter = p
	switch p.Type {
	case Number:
		if f.Low, err = s.number(p.low); err != nil {
			return f, err
		}
		if f.High, err = s.number(p.high); err != nil {
			return f, err
		}
		if f.Low > f.High {
			return f, fmt.Errorf("its bounds are %s to %s, the wrong way round", decimal(f.Low), decimal(f.High))
		}
		if p.of != nil {
			v, err := s.number(p.of)
			if err != nil {
				return f, err
			}
			if p.held != nil && s.machine.Run != nil {
				if own, err := s.number(p.held); err == nil && own > 0 {
					v = own
				}
			}
			f.Default = decimal(min(max(v, f.Low), f.High))
		}
	case Heater:
		if len(p.Words) == 0 {
			for _, h := range s.machine.Heaters {
				f.Words = append(f.Words, string(h))
			}
		}
		for _, w := range f.Words {
			if _, err := s.heaters(w); err != nil {
				return f, err
			}
		}
	}
	return f, nil
}

// all is everything that a parameter may be.
func (f Field) all() value {
	switch f.Type {
	case Number:
		return value{span: Span{f.Low, f.High}}
	case Spool:
		return value{words: []string{"", f.Default}}
	}
	return value{words: f.Words}
}

// read reads a value as a person gives it; empty stands for the default.
func (f Field) read(given string) (value, error) {
	given = strings.TrimSpace(given)
	if given == "" {
		given = f.Default
	}
	switch {
	case given == "":
		return value{}, fmt.Errorf("%w: %s is not given, and there is nothing that it usually is", ErrValue, f.Name)
	case f.Type == Spool:
		if len(given) > 80 || strings.ContainsFunc(given, unicode.IsControl) {
			return value{}, fmt.Errorf("%w: %s is the name of a spool, of up to 80 bytes", ErrValue, f.Name)
		}
		return value{words: []string{given}}, nil
	case f.Type != Number:
		if !slices.Contains(f.Words, given) {
			return value{}, fmt.Errorf("%w: %s is %q; choose one of %s", ErrValue, f.Name, given, strings.Join(f.Words, ", "))
		}
		return value{words: []string{given}}, nil
	}
	v, err := strconv.ParseFloat(strings.TrimSpace(strings.TrimSuffix(given, f.Unit)), 64)
	switch {
	case err != nil || math.IsNaN(v) || math.IsInf(v, 0):
		return value{}, fmt.Errorf("%w: %s is %q and has to be a number%s", ErrValue, f.Name, given, f.of())
	case v < f.Low || v > f.High:
		return value{}, fmt.Errorf("%w: %s is %s; %s to %s%s go", ErrValue, f.Name, decimal(v), decimal(f.Low), decimal(f.High), f.unit())
	}
	return value{span: one(v)}, nil
}

func (f Field) unit() string {
	if f.Unit == "" {
		return ""
	}
	return " " + f.Unit
}

func (f Field) of() string {
	if f.Unit == "" {
		return ""
	}
	return " of " + f.Unit
}

// open is the scope of a routine's steps, given what its parameters may be.
func (r *Routine) open(m *Machine, world *World, give func(Field) (value, error)) (*scope, error) {
	fields, err := r.Fields(*m)
	if err != nil {
		return nil, err
	}
	s := &scope{machine: m, world: world, values: map[string]value{}}
	for _, f := range fields {
		if s.values[f.Name], err = give(f); err != nil {
			return nil, err
		}
	}
	return s, nil
}

// called is the scope of a routine that another calls.
func (s *scope) called(r *Routine, with []assignment) (*scope, error) {
	given := map[string]assignment{}
	for _, a := range with {
		if _, twice := given[a.name]; twice {
			return nil, fmt.Errorf("%s is given twice", a.name)
		}
		given[a.name] = a
	}
	inner, err := r.open(s.machine, s.world, func(f Field) (value, error) {
		a, ok := given[f.Name]
		delete(given, f.Name)
		if !ok {
			return f.read("")
		}
		v := value{words: []string{a.word}}
		if a.expr != nil {
			span, err := s.span(a.expr)
			if err != nil {
				return v, err
			}
			v = value{span: span}
		} else if outer, ok := s.values[a.word]; ok && outer.words != nil {
			v = outer
		}
		switch {
		case (a.expr != nil) != (f.Type == Number):
			return v, fmt.Errorf("%s is a %s", f.Name, f.Type)
		case a.expr != nil && !(v.span.Low >= f.Low && v.span.High <= f.High):
			return v, fmt.Errorf("%s may be %s, and %s takes %s to %s%s for it", f.Name, v.span, r.Name, decimal(f.Low), decimal(f.High), f.unit())
		case f.Type == Choice || f.Type == Heater || f.Type == YesNo:
			for _, w := range v.words {
				if !slices.Contains(f.Words, w) {
					return v, fmt.Errorf("%s may be %s, and %s takes %s for it", f.Name, w, r.Name, strings.Join(f.Words, ", "))
				}
			}
		}
		return v, nil
	})
	if err != nil {
		return nil, err
	}
	for n := range given {
		return nil, fmt.Errorf("%s takes no %s", r.Name, n)
	}
	return inner, nil
}

func (s Span) String() string {
	switch {
	case math.IsInf(s.Low, 0) || math.IsInf(s.High, 0):
		return "anything"
	case s.Low == s.High:
		return decimal(s.Low)
	}
	return decimal(s.Low) + " to " + decimal(s.High)
}

// listed names things one after another.
func listed[T ~string](names []T) string {
	if len(names) == 0 {
		return "none"
	}
	out := string(names[0])
	for _, n := range names[1:] {
		out += ", " + string(n)
	}
	return out
}
