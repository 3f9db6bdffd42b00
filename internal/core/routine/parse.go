package routine

import (
	"errors"
	"fmt"
	"math"
	"slices"
	"strconv"
	"strings"
	"unicode/utf8"

	"diathermon/internal/core/legible"
)

// Parse reads a text. Its error is an *Error, or wraps ErrNewer.
func Parse(source string) (*Routine, error) {
	switch {
	case len(source) > MostText:
		return nil, &Error{Line: 1, Why: fmt.Sprintf("the text has %d bytes; a routine has at most %d", len(source), MostText)}
	case !utf8.ValidString(source):
		return nil, &Error{Line: 1, Why: "the text is not UTF-8"}
	}
	if at := strings.IndexFunc(source, obeyed); at >= 0 {
		return nil, &Error{Line: 1 + strings.Count(source[:at], "\n"), Why: fmt.Sprintf("the text has a control character: %.4q; a terminal or the printer could obey it", source[at:])}
	}
	p := &parser{lines: strings.Split(source, "\n"), out: &Routine{Text: source}}
	err := p.routine()
	if err != nil {
		var known *Error
		if !errors.As(err, &known) {
			err = &Error{Line: min(p.at, len(p.lines)), Why: err.Error(), err: errors.Unwrap(err)}
		}
		return nil, err
	}
	return p.out, nil
}

// obeyed reports whether a character is none of a text but one that terminals obey.
func obeyed(r rune) bool { return legible.Obeyed(r) && r != '\r' }

// A parser is at one line of a text, and at one token of it.
type parser struct {
	lines   []string
	at      int // of the next line
	tokens  []token
	gcode   string // of a line that begins with >
	nesting int
	loops   int
	out     *Routine
}

// next goes to the next line that says something.
func (p *parser) next() (bool, error) {
	for p.at < len(p.lines) {
		line := strings.TrimSpace(p.lines[p.at])
		p.at++
		p.gcode = ""
		if rest, ok := strings.CutPrefix(line, ">"); ok {
			p.tokens, p.gcode = nil, strings.TrimSpace(rest)
			return true, nil
		}
		tokens, wrong := lex(line)
		if wrong != "" {
			return false, errors.New(wrong)
		}
		if len(tokens) > 0 {
			p.tokens = tokens
			return true, nil
		}
	}
	p.tokens, p.gcode = nil, ""
	return false, nil
}

// is takes words or signs if they are next.
func (p *parser) is(words ...string) bool {
	if len(p.tokens) < len(words) {
		return false
	}
	for i, w := range words {
		if t := p.tokens[i]; t.text != w || t.kind != wordToken && t.kind != signToken {
			return false
		}
	}
	p.tokens = p.tokens[len(words):]
	return true
}

func (p *parser) take(kind tokenKind, wanted string) (string, error) {
	if len(p.tokens) == 0 || p.tokens[0].kind != kind {
		return "", fmt.Errorf("%s is expected%s", wanted, p.found())
	}
	t := p.tokens[0].text
	p.tokens = p.tokens[1:]
	return t, nil
}

func (p *parser) found() string {
	if len(p.tokens) == 0 {
		return " at the end of the line"
	}
	return fmt.Sprintf(" and not %q", p.tokens[0].text)
}

func (p *parser) end() error {
	if len(p.tokens) > 0 {
		return fmt.Errorf("nothing is expected behind that%s", p.found())
	}
	return nil
}

func (p *parser) number(wanted string) (float64, error) {
	minus := p.is("-")
	t, err := p.take(numberToken, wanted)
	if err != nil {
		return 0, err
	}
	v, err := strconv.ParseFloat(t, 64)
	if err != nil || v > 1e9 {
		return 0, fmt.Errorf("%s is no number that goes", t)
	}
	if minus {
		v = -v
	}
	return v, nil
}

// block reads steps until one of some words, which is returned, taken.
func (p *parser) block(ends ...string) ([]step, string, error) {
	var out []step
	begun := p.at
	if p.nesting++; p.nesting > mostNesting {
		return nil, "", fmt.Errorf("it is nested more than %d deep", mostNesting)
	}
	defer func() { p.nesting-- }()
	for {
		some, err := p.next()
		if err != nil {
			return nil, "", err
		}
		if !some {
			return nil, "", &Error{Line: begun, Why: "what begins here has no end"}
		}
		for _, end := range ends {
			if p.gcode == "" && p.is(end) {
				return out, end, nil
			}
		}
		s, err := p.step()
		if err != nil {
			return nil, "", err
		}
		if err := p.end(); err != nil {
			return nil, "", err
		}
		out = append(out, s)
	}
}

func (p *parser) step() (s step, err error) {
	s.line = p.at
	switch {
	case p.gcode != "":
		s.kind = say
		s.gcode, err = p.template(p.gcode)
	case p.is("heat"):
		s.kind = heatTo
		if s.what, err = p.heater(); err != nil {
			return s, err
		}
		s.amount, err = p.behind("to", "a temperature", "°C")
	case p.is("cool"):
		s.kind = cool
		s.what, err = p.heater("all")
	case p.is("set"):
		s.kind = set
		if len(p.tokens) > 0 && p.tokens[0].kind == textToken {
			s.what, p.tokens = p.tokens[0].text, p.tokens[1:]
		} else if s.what, err = p.take(wordToken, "an output"); err != nil {
			return s, err
		}
		s.amount, err = p.behind("to", "0 to 100 %", "%")
	case p.is("lift"):
		s.kind = lift
		s.amount, err = p.in("mm")
	case p.is("park"):
		s.kind = park
	case p.is("show"):
		s.kind = show
		s.text, err = p.shown()
	case p.is("wait", "until"):
		s.kind = until
		if s.cond, err = p.cond(); err == nil {
			err = p.within(&s, "go", "on")
		}
	case p.is("wait"):
		s.kind = pause
		s.amount, err = p.in("s")
	case p.is("ask"):
		s, err = p.ask(s)
	case p.is("if"):
		s, err = p.branch(s)
	case p.is("repeat"):
		s.kind = repeat
		n, wrong := p.number("how many times")
		if err = wrong; err != nil {
			return s, err
		}
		if s.times = int(n); n != math.Trunc(n) || n < 1 || n > mostRepeats || !p.is("times") {
			return s, fmt.Errorf("it is repeated 1 to %d times: repeat 5 times", mostRepeats)
		}
		if err = p.end(); err != nil {
			return s, err
		}
		p.loops++
		s.steps, _, err = p.block("end")
		p.loops--
	case p.is("leave"):
		s.kind = leave
		if p.loops == 0 {
			return s, errors.New("leave stands in a repeat, and there is none around it")
		}
	case p.is("call"):
		s, err = p.call(s)
	case p.is("stop"):
		s.kind = stop
		if len(p.tokens) > 0 {
			s.text, err = p.shown()
		}
	case p.is("done"):
		s.kind = done
	case p.is("tune"):
		s, err = p.tune(s)
	case p.is("keep", "tuning"):
		s.kind, s.forGood = keepTuning, p.is("for", "good")
	case p.is("bed", "is"):
		s.kind = bedIs
		if s.what, err = p.take(wordToken, "clear or occupied"); err == nil && s.what != "clear" && s.what != "occupied" {
			err = fmt.Errorf("a bed is clear or occupied, and not %q", s.what)
		}
	default:
		return s, fmt.Errorf("a step is expected%s: > and a line for the printer, heat, cool, set, lift, park, show, wait, ask, if, repeat, leave, call, tune, keep tuning, bed is, stop or done", p.found())
	}
	return s, err
}

// heater takes a heater's name or a parameter's.
func (p *parser) heater(or ...string) (string, error) {
	h, err := p.take(wordToken, "a heater")
	if err != nil {
		return "", err
	}
	if slices.Contains(or, h) || p.heats(h) {
		return h, nil
	}
	return "", fmt.Errorf("%s is no heater: nozzle0, bed, chamber, or a parameter that is one", h)
}

// heats reports whether a word is a heater, or a parameter that is one.
func (p *parser) heats(w string) bool {
	known := p.known(w)
	return isHeater(w) || known != nil && known.Type == Heater
}

func isHeater(w string) bool { return isNozzle(w) || w == "bed" || w == "chamber" }

// isNozzle reports whether a word names a nozzle.
func isNozzle(w string) bool {
	rest, ok := strings.CutPrefix(w, "nozzle")
	if !ok || rest == "" {
		return ok
	}
	n, err := strconv.Atoi(rest)
	return err == nil && n >= 0 && n < 16
}

// behind reads an expression behind a word; wanted names it for who left it out.
func (p *parser) behind(word, wanted, unit string) (*expr, error) {
	if !p.is(word) {
		return nil, fmt.Errorf("%s and %s are expected%s", word, wanted, p.found())
	}
	return p.in(unit)
}

// in reads an expression that has a unit, or none.
func (p *parser) in(unit string) (*expr, error) {
	e, err := p.expr()
	if err != nil {
		return nil, err
	}
	if unit == "s" && e.unit == "min" {
		return &expr{op: '*', left: e, right: &expr{op: 'n', value: 60}, unit: "s"}, nil
	}
	if e.unit != "" && e.unit != unit {
		return nil, fmt.Errorf("%s is a number of %s, and %s is wanted", e, e.unit, unit)
	}
	return e, nil
}

// within reads at most TIME, and behind else stop, other, or one of the answers.
func (p *parser) within(s *step, other ...string) (err error) {
	if !p.is("at", "most") {
		return fmt.Errorf("a time limit is expected%s: at most 10 min", p.found())
	}
	if s.most, err = p.in("s"); err != nil {
		return err
	}
	p.is(",")
	switch {
	case p.is("else", "stop"):
	case len(other) > 0 && p.is(append([]string{"else"}, other...)...):
		s.otherwise = strings.Join(other, " ")
	case len(other) == 0 && p.is("else"):
		s.otherwise, err = p.take(textToken, "stop, or one of the answers,")
	}
	return err
}

func (p *parser) ask(s step) (step, error) {
	s.kind = ask
	var err error
	if s.text, err = p.shown(); err != nil {
		return s, err
	}
	if err = p.within(&s); err != nil {
		return s, err
	}
	if err = p.end(); err != nil {
		return s, err
	}
	line := p.at
	none, ended, err := p.block("answer", "end")
	if err == nil && (len(none) > 0 || ended == "end") {
		err = errors.New("a question has answers, each behind answer, and nothing before the first")
	}
	for err == nil && ended == "answer" {
		var o option
		if o.text, err = p.take(textToken, "an answer between quotation marks"); err != nil {
			return s, err
		}
		if o.text == "" || len(s.options) == 8 || s.answers(o.text) {
			return s, fmt.Errorf("up to eight answers go, each with words of its own, and %q is one too many", o.text)
		}
		if err = p.end(); err != nil {
			return s, err
		}
		o.steps, ended, err = p.block("answer", "end")
		s.options = append(s.options, o)
	}
	if err == nil && s.otherwise != "" && !s.answers(s.otherwise) {
		err = &Error{Line: line, Why: fmt.Sprintf("%q is none of its answers", s.otherwise)}
	}
	return s, err
}

// answers reports whether a question has an answer.
func (s *step) answers(text string) bool {
	return slices.ContainsFunc(s.options, func(o option) bool { return o.text == text })
}

func (p *parser) branch(s step) (step, error) {
	s.kind = branch
	var err error
	if s.cond, err = p.cond(); err != nil {
		return s, err
	}
	if err = p.end(); err != nil {
		return s, err
	}
	var ended string
	if s.steps, ended, err = p.block("else", "end"); err != nil || ended == "end" {
		return s, err
	}
	if p.is("if") {
		if p.nesting++; p.nesting > mostNesting {
			return s, fmt.Errorf("it is nested more than %d deep", mostNesting)
		}
		other, err := p.branch(step{line: p.at})
		p.nesting--
		s.orElse = []step{other}
		return s, err
	}
	if err = p.end(); err != nil {
		return s, err
	}
	s.orElse, _, err = p.block("end")
	return s, err
}

func (p *parser) call(s step) (step, error) {
	s.kind = call
	var err error
	if s.what, err = p.title(); err != nil || !p.is("with") {
		return s, err
	}
	for {
		var a assignment
		if a.name, err = p.take(wordToken, "a parameter of "+s.what); err != nil {
			return s, err
		}
		if !p.is("=") {
			return s, fmt.Errorf("= and a value are expected%s", p.found())
		}
		switch {
		case len(p.tokens) > 0 && p.tokens[0].kind == textToken, p.wordy():
			a.word, p.tokens = p.tokens[0].text, p.tokens[1:]
		default:
			if a.expr, err = p.expr(); err != nil {
				return s, err
			}
		}
		s.with = append(s.with, a)
		if !p.is(",") {
			return s, nil
		}
	}
}

// wordy reports whether what is next is a word that stands for a value alone, and no
// number: an answer, a heater, a parameter that is none.
func (p *parser) wordy() bool {
	if len(p.tokens) == 0 || p.tokens[0].kind != wordToken || len(p.tokens) > 1 && p.tokens[1].text != "," {
		return false
	}
	w := p.tokens[0].text
	known := p.known(w)
	return w == "yes" || w == "no" || isHeater(w) || known != nil && known.Type != Number
}

func (p *parser) tune(s step) (step, error) {
	s.kind = tune
	var err error
	if s.what, err = p.heater(); err != nil {
		return s, err
	}
	if s.amount, err = p.behind("at", "a temperature", "°C"); err != nil {
		return s, err
	}
	if !p.is(",") {
		return s, fmt.Errorf("a comma and a number of cycles are expected%s", p.found())
	}
	n, err := p.number("a number of cycles")
	if s.times = int(n); err == nil && (n != math.Trunc(n) || n < 3 || n > 20 || !p.is("cycles")) {
		err = errors.New("3 to 20 cycles go: , 8 cycles")
	}
	return s, err
}
