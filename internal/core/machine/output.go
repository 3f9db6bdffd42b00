package machine

import (
	"fmt"
	"math"
	"regexp"
	"strings"

	"diathermon/internal/core/gcode"
)

// An Output is something that is switched, or set to a level: a fan, a light, a pin.
type Output struct {
	Name   string     `toml:"name"`
	Kind   OutputKind `toml:"kind"`
	Number int        `toml:"number"` // of the fan or the pin, as the firmware counts
	Levels bool       `toml:"levels"` // it has levels between off and full
}

// An OutputKind says by which command an output is set.
type OutputKind string

// The kinds.
const (
	Fan   OutputKind = "fan"   // M106
	Light OutputKind = "light" // M355
	Pin   OutputKind = "pin"   // M42
)

// PartFan is the fan that every printer has.
var PartFan = Output{Name: "part fan", Kind: Fan, Levels: true}

// Command is the line that sets an output to a level, 0 to 100 %.
func (o Output) Command(level float64) string {
	if !o.Levels && level > 0 {
		level = 100
	}
	of255 := int(math.Round(level * 2.55))
	switch {
	case o.Kind == Light && o.Levels:
		return fmt.Sprintf("M355 S%d P%d", min(of255, 1), of255)
	case o.Kind == Light:
		return fmt.Sprintf("M355 S%d", min(of255, 1))
	case o.Kind == Pin:
		return fmt.Sprintf("M42 P%d S%d", o.Number, of255)
	case o.Number > 0:
		return fmt.Sprintf("M106 P%d S%d", o.Number, of255)
	}
	return fmt.Sprintf("M106 S%d", of255)
}

// Sets reports to what level, 0 to 100 %, a line sets an output; false if it does not.
func (o Output) Sets(l *gcode.Line) (float64, bool) {
	number := func() int { p, _ := l.Value('P'); return int(p) }
	share := func(letter byte, otherwise float64) float64 {
		v, given := l.Value(letter)
		if !given {
			v = otherwise
		}
		return min(max(v/2.55, 0), 100)
	}
	switch {
	case o.Kind == Fan && l.Is('M', 106) && number() == o.Number && !l.Has('T'):
		return share('S', 255), true
	case o.Kind == Fan && l.Is('M', 107) && number() == o.Number:
		return 0, true
	case o.Kind == Pin && l.Is('M', 42) && number() == o.Number && l.Has('S'):
		return share('S', 0), true
	case o.Kind == Light && l.Is('M', 355) && (l.Has('S') || l.Has('P')):
		if on, given := l.Value('S'); given && on == 0 {
			return 0, true
		}
		return share('P', 255), true
	}
	return 0, false
}

// named is what the name of an output may look like.
var named = regexp.MustCompile(`^[\pL\pN][\pL\pN _-]{0,29}$`)

// checkOutputs says what is wrong with the outputs.
func (p Printer) checkOutputs() error {
	names := map[string]bool{}
	for _, o := range p.Outputs {
		switch name := strings.ToLower(o.Name); {
		case !named.MatchString(o.Name):
			return fmt.Errorf("printer.outputs: %q is no name: up to 30 letters, digits and spaces", o.Name)
		case names[name]:
			return fmt.Errorf("printer.outputs: %q is there twice", o.Name)
		case o.Kind != Fan && o.Kind != Light && o.Kind != Pin:
			return fmt.Errorf("printer.outputs: the kind of %q is %q: use fan, light or pin", o.Name, o.Kind)
		case o.Number < 0 || o.Number > 255:
			return fmt.Errorf("printer.outputs: the number of %q is %d: use 0 to 255", o.Name, o.Number)
		default:
			names[name] = true
		}
	}
	return nil
}
