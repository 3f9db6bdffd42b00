package routine

import (
	"errors"
	"fmt"
	"slices"
	"strings"
)

// expr reads sums of products.
func (p *parser) expr() (*expr, error) {
	if p.nesting++; p.nesting > 4*mostNesting {
		return nil, errors.New("the expression is nested too deep")
	}
	defer func() { p.nesting-- }()
	left, err := p.product()
	for err == nil {
		op := byte(0)
		switch {
		case p.is("+"):
			op = '+'
		case p.is("-"):
			op = '-'
		default:
			return left, nil
		}
		var right *expr
		if right, err = p.product(); err == nil {
			left, err = joined(op, left, right)
		}
	}
	return nil, err
}

func (p *parser) product() (*expr, error) {
	left, err := p.factor()
	for err == nil {
		op := byte(0)
		switch {
		case p.is("*"):
			op = '*'
		case p.is("/"):
			op = '/'
		default:
			return left, nil
		}
		var right *expr
		if right, err = p.factor(); err == nil {
			left, err = joined(op, left, right)
		}
	}
	return nil, err
}

// joined is an operation, with the unit that comes of it.
func joined(op byte, a, b *expr) (*expr, error) {
	out := &expr{op: op, left: a, right: b}
	switch {
	case op == '+' || op == '-':
		out.unit = a.unit
		if a.unit == "" {
			out.unit = b.unit
		}
		if a.unit != "" && b.unit != "" && a.unit != b.unit {
			return nil, fmt.Errorf("%s is a number of %s, and %s of %s", a, a.unit, b, b.unit)
		}
	case b.unit == "":
		out.unit = a.unit
	case a.unit == "" && op == '*':
		out.unit = b.unit
	}
	return out, nil
}

func (p *parser) factor() (*expr, error) {
	switch {
	case p.is("("):
		e, err := p.expr()
		if err == nil && !p.is(")") {
			err = fmt.Errorf("a ) is expected%s", p.found())
		}
		return e, err
	case p.is("-"):
		e, err := p.factor()
		if err != nil {
			return nil, err
		}
		return joined('-', &expr{op: 'n', unit: e.unit}, e)
	case len(p.tokens) > 0 && p.tokens[0].kind == numberToken:
		v, err := p.number("a number")
		return &expr{op: 'n', value: v, unit: p.unit()}, err
	}
	n, err := p.take(wordToken, "a number or a name")
	if err != nil {
		return nil, err
	}
	out := &expr{op: 'v', name: n}
	if p.is(".") {
		if out.part, err = p.take(wordToken, "setpoint, limit, run, or x, y or z"); err != nil {
			return nil, err
		}
	}
	known := p.known(n)
	switch {
	case p.heats(n) && (out.part == "" || out.part == "setpoint" || out.part == "limit" || out.part == "run"):
		out.unit = "°C"
	case n == "size" && slices.Contains(axes, out.part), out.part == "" && slices.Contains(axes, n):
		out.unit = "mm"
	case known != nil && known.Type == Number && out.part == "":
		out.unit = known.Unit
	default:
		return nil, fmt.Errorf("%s is no number that is known here", out)
	}
	return out, nil
}

func (p *parser) cond() (*cond, error) {
	if p.nesting++; p.nesting > 4*mostNesting {
		return nil, errors.New("the condition is nested too deep")
	}
	defer func() { p.nesting-- }()
	left, err := p.every()
	for err == nil && p.is("or") {
		var right *cond
		if right, err = p.every(); err == nil {
			left = &cond{op: '|', left: left, right: right}
		}
	}
	return left, err
}

func (p *parser) every() (*cond, error) {
	left, err := p.single()
	for err == nil && p.is("and") {
		var right *cond
		if right, err = p.single(); err == nil {
			left = &cond{op: '&', left: left, right: right}
		}
	}
	return left, err
}

func (p *parser) single() (*cond, error) {
	switch {
	case p.is("not"):
		if p.nesting++; p.nesting > 4*mostNesting {
			return nil, errors.New("the condition is nested too deep")
		}
		defer func() { p.nesting-- }()
		c, err := p.single()
		return &cond{op: '!', left: c}, err
	case p.is("homed"):
		return &cond{op: 'h'}, nil
	case p.is("held"):
		return &cond{op: 'p'}, nil
	}
	if len(p.tokens) > 0 && p.tokens[0].kind == wordToken {
		n := p.tokens[0].text
		known := p.known(n)
		if len(p.tokens) > 2 && p.tokens[1].text == "is" {
			if c, taken, err := p.named(n, known); taken {
				return c, err
			}
		}
		if known != nil && known.Type == YesNo {
			p.tokens = p.tokens[1:]
			return &cond{op: 'i', name: n, word: "yes"}, nil
		}
	}
	a, err := p.expr()
	if err != nil {
		return nil, err
	}
	for sign, op := range map[string]byte{"<": '<', ">": '>', "<=": '{', ">=": '}', "=": '=', "!=": '~'} {
		if !p.is(sign) {
			continue
		}
		b, err := p.expr()
		if err == nil {
			_, err = joined('-', a, b)
		}
		switch op {
		case '>':
			return &cond{op: '<', a: b, b: a}, err
		case '}':
			return &cond{op: '{', a: b, b: a}, err
		}
		return &cond{op: op, a: a, b: b}, err
	}
	return nil, fmt.Errorf("<, >, <=, >=, = or != is expected%s", p.found())
}

// named reads NAME is ready, and NAME is "a word".
func (p *parser) named(n string, known *Parameter) (*cond, bool, error) {
	to := p.tokens[2]
	p.tokens = p.tokens[3:]
	switch {
	case p.heats(n) && to.text == "ready":
		return &cond{op: 'r', name: n}, true, nil
	case known == nil || known.Type == Number:
		return nil, true, fmt.Errorf("%s is no parameter with words", n)
	case len(known.Words) > 0 && !slices.Contains(known.Words, to.text):
		return nil, true, fmt.Errorf("%s is never %q: it is %s", n, to.text, strings.Join(known.Words, ", "))
	}
	return &cond{op: 'i', name: n, word: to.text}, true, nil
}
