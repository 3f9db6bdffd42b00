package routine

import (
	"errors"
	"fmt"
	"math"
	"regexp"
	"strconv"
	"strings"

	"diathermon/internal/core/gcode"
)

// shown reads a text for a person, with expressions between braces.
func (p *parser) shown() (text, error) {
	t, err := p.take(textToken, "a text between quotation marks")
	if err != nil {
		return nil, err
	}
	if len(t) > 400 || t == "" {
		return nil, errors.New("a text for a person has 1 to 400 bytes")
	}
	var out text
	for t != "" {
		plain, rest, braced := strings.Cut(t, "{")
		if plain != "" {
			out = append(out, piece{plain: plain})
		}
		if !braced {
			break
		}
		inner, after, closed := strings.Cut(rest, "}")
		if !closed {
			return nil, errors.New("a { has no }")
		}
		if known := p.known(strings.TrimSpace(inner)); known != nil && known.Type != Number {
			out = append(out, piece{name: known.Name})
		} else {
			e, err := p.inner(inner)
			if err != nil {
				return nil, err
			}
			out = append(out, piece{expr: e})
		}
		t = after
	}
	return out, nil
}

// inner reads an expression that stands between braces.
func (p *parser) inner(source string) (*expr, error) {
	tokens, wrong := lex(source)
	if wrong != "" {
		return nil, errors.New(wrong)
	}
	outer := p.tokens
	defer func() { p.tokens = outer }()
	p.tokens = tokens
	e, err := p.expr()
	if err == nil {
		err = p.end()
	}
	return e, err
}

var templateWord = regexp.MustCompile(`^([A-Za-z])(?:\{([^{}]*)\}|([+-]?(?:[0-9]+\.?[0-9]*|\.[0-9]+)))?$`)

// template reads a line for the printer: a command, and words with numbers or
// expressions.
func (p *parser) template(source string) (template, error) {
	plain := string(gcode.Command([]byte(source)))
	head, rest, _ := strings.Cut(strings.TrimSpace(plain), " ")
	var l gcode.Line
	if err := l.Parse([]byte(head)); err != nil {
		return template{}, err
	}
	out := template{code: l.Code()}
	if out.code.Traits()&gcode.Text != 0 {
		out.text = strings.TrimSpace(rest)
		return out, l.Parse([]byte(plain))
	}
	sample := head
	for _, field := range braced(rest) {
		m := templateWord.FindStringSubmatch(field)
		if m == nil {
			return out, fmt.Errorf("%q is no word of a line: a letter and a number, or a letter and {an expression}", field)
		}
		w := word{letter: m[1][0] &^ 0x20}
		switch {
		case strings.HasSuffix(field, "}"):
			e, err := p.inner(m[2])
			if err != nil {
				return out, err
			}
			w.expr = e
		case m[3] != "":
			v, err := strconv.ParseFloat(m[3], 64)
			if err != nil || math.Abs(v) > 1e6 {
				return out, fmt.Errorf("%s is no number that goes", m[3])
			}
			w.expr = &expr{op: 'n', value: v}
		}
		sample += " " + string(w.letter)
		if w.expr != nil {
			sample += "1"
		}
		out.words = append(out.words, w)
	}
	return out, l.Parse([]byte(sample)) // no letter twice, and nothing that a firmware reads in two ways
}

// braced splits at spaces that are not between braces.
func braced(s string) []string {
	depth := 0
	return strings.FieldsFunc(s, func(r rune) bool {
		switch r {
		case '{':
			depth++
		case '}':
			depth--
		}
		return depth == 0 && (r == ' ' || r == '\t')
	})
}
