package routine

import (
	"errors"
	"fmt"
	"regexp"
	"slices"
	"strings"
)

var name = regexp.MustCompile(`^[a-z][a-z0-9_]*$`)

// reserved are the names that mean something already.
var reserved = strings.Fields("all x y z size homed held ready is and or not true yes no with at most for else end limit setpoint run nozzle bed chamber mm s min none")

func (p *parser) routine() error {
	var version, safe bool
	for {
		some, err := p.next()
		switch {
		case err != nil:
			return err
		case !some:
			return errors.New("the text ends before its do")
		case p.gcode != "":
			return errors.New("a line for the printer stands behind do")
		}
		switch {
		case p.is("language"):
			v, err := p.number("the language's number")
			if err != nil {
				return err
			}
			if v != Version {
				return fmt.Errorf("%w: %g, and this host reads %d; nothing is wrong with it, a newer host reads it", ErrNewer, v, Version)
			}
			version = true
		case !version:
			return fmt.Errorf("a routine begins with its language: language %d", Version)
		case p.is("routine"):
			if p.out.Name, err = p.title(); err != nil {
				return err
			}
		case p.is("about"):
			if p.out.About, err = p.take(textToken, "a text between quotation marks"); err != nil {
				return err
			}
		case p.is("button"):
			if err := p.buttons(); err != nil {
				return err
			}
		case p.is("when"):
			if err := p.when(); err != nil {
				return err
			}
		case p.is("safe"):
			if err := p.safe(); err != nil {
				return err
			}
			safe = true
		case p.is("take"):
			if err := p.parameter(); err != nil {
				return err
			}
		case p.is("do"):
			switch {
			case p.out.Name == "":
				return errors.New("it has no name: routine \"…\" stands before do")
			case !safe:
				return errors.New("it names no safe state: safe heaters off, or safe heaters as before, stands before do")
			}
			if !p.out.Held {
				p.out.Idle = true
			}
			if err := p.end(); err != nil {
				return err
			}
			if p.out.steps, _, err = p.block("end"); err != nil {
				return err
			}
			if some, err = p.next(); some {
				return errors.New("nothing stands behind the routine's end")
			}
			return err
		default:
			return fmt.Errorf("language, routine, about, button, when, safe, take or do is expected%s", p.found())
		}
		if err := p.end(); err != nil {
			return err
		}
	}
}

var title = regexp.MustCompile(`^[\pL\pN][\pL\pN ,.()'+-]{0,59}$`)

func (p *parser) title() (string, error) {
	t, err := p.take(textToken, "a name between quotation marks")
	if err == nil && (!title.MatchString(t) || strings.TrimSpace(t) != t) {
		err = fmt.Errorf("%q is no name for a routine: up to 60 letters, digits and spaces, a letter or digit first", t)
	}
	return t, err
}

func (p *parser) buttons() error {
	for {
		place, err := p.take(wordToken, "bench, motion or phone")
		if err != nil {
			return err
		}
		if !slices.Contains([]Place{OnBench, OnMotion, OnPhone}, Place(place)) {
			return fmt.Errorf("a button is on bench, motion or phone, and not on %s", place)
		}
		p.out.Buttons = append(p.out.Buttons, Place(place))
		if !p.is(",") {
			return nil
		}
	}
}

func (p *parser) when() error {
	for {
		switch {
		case p.is("idle"):
			p.out.Idle = true
		case p.is("held"):
			p.out.Held = true
		default:
			return fmt.Errorf("idle or held is expected%s", p.found())
		}
		if !p.is("or") {
			return nil
		}
	}
}

func (p *parser) safe() error {
	switch {
	case p.is("heaters", "off"):
		p.out.Safe.HeatersOff = true
	case p.is("heaters", "as", "before"):
	default:
		return fmt.Errorf("heaters off, or heaters as before, is expected%s", p.found())
	}
	for p.is(",") {
		switch {
		case p.is("up"):
			mm, err := p.number("a number of millimetres")
			if err != nil {
				return err
			}
			if !p.is("mm") || mm <= 0 || mm > 100 {
				return errors.New("up is followed by a height of up to 100 mm: up 10 mm")
			}
			p.out.Safe.Up = mm
		case p.is("outputs", "off"):
			p.out.Safe.OutputsOff = true
		case p.is("motors", "off"):
			p.out.Safe.MotorsOff = true
		default:
			return fmt.Errorf("up 10 mm, outputs off or motors off is expected%s", p.found())
		}
	}
	return nil
}

// unit takes a unit if one is next.
func (p *parser) unit() string {
	for _, u := range [][]string{{"mm", "/", "s"}, {"mm"}, {"°C"}, {"min"}, {"s"}, {"%"}} {
		if p.is(u...) {
			return strings.Join(u, "")
		}
	}
	return ""
}

func (p *parser) parameter() error {
	n, err := p.take(wordToken, "a name")
	if err != nil {
		return err
	}
	out := Parameter{Name: n, line: p.at}
	switch {
	case !name.MatchString(n) || len(n) > 40 || isNozzle(n) || slices.Contains(reserved, n):
		return fmt.Errorf("%q is no name for a parameter: small letters, digits and _, and no word that means something already", n)
	case p.known(n) != nil:
		return fmt.Errorf("there is a parameter %s already", n)
	case len(p.out.Parameters) == mostNames:
		return fmt.Errorf("a routine has at most %d parameters", mostNames)
	case !p.is(":"):
		return fmt.Errorf("a colon and a type are expected behind %s%s", n, p.found())
	}
	switch {
	case p.is("number"):
		out.Type, out.Unit = Number, p.unit()
		if out.low, err = p.expr(); err != nil {
			return err
		}
		if !p.is("..") {
			return fmt.Errorf("two bounds with .. between are expected%s", p.found())
		}
		if out.high, err = p.expr(); err != nil {
			return err
		}
	case p.is("yes", "/", "no"):
		out.Type, out.Words = YesNo, []string{"yes", "no"}
	case p.is("spool"):
		out.Type = Spool
	case p.is("choice"):
		out.Type = Choice
		for {
			word, err := p.take(textToken, "a text between quotation marks")
			if err != nil {
				return err
			}
			if word == "" || slices.Contains(out.Words, word) {
				return fmt.Errorf("%q is there twice, or empty", word)
			}
			out.Words = append(out.Words, word)
			if !p.is(",") {
				break
			}
		}
	case p.is("heater"):
		out.Type = Heater
		for len(p.tokens) > 0 && p.tokens[0].text != "=" {
			h, err := p.take(wordToken, "a heater")
			if err != nil {
				return err
			}
			out.Words = append(out.Words, h)
			if !p.is(",") {
				break
			}
		}
	default:
		return fmt.Errorf("number, choice, yes/no, heater or spool is expected%s", p.found())
	}
	if p.is("=") {
		if err := p.standard(&out); err != nil {
			return err
		}
	}
	p.out.Parameters = append(p.out.Parameters, out)
	return nil
}

// standard reads a parameter's default.
func (p *parser) standard(out *Parameter) (err error) {
	switch out.Type {
	case Number:
		if out.of, err = p.expr(); err == nil && p.is(",", "held") {
			out.held, err = p.expr()
		}
		return err
	case Choice, Spool:
		out.Default, err = p.take(textToken, "a text between quotation marks")
	default:
		out.Default, err = p.take(wordToken, "a word")
	}
	if err == nil && len(out.Words) > 0 && !slices.Contains(out.Words, out.Default) {
		return fmt.Errorf("%s is not among %s", out.Default, strings.Join(out.Words, ", "))
	}
	return err
}

func (p *parser) known(name string) *Parameter {
	for i := range p.out.Parameters {
		if p.out.Parameters[i].Name == name {
			return &p.out.Parameters[i]
		}
	}
	return nil
}
