package gcode

import (
	"cmp"
	"maps"
	"slices"
)

// Catalogue lists every command that is known, by letter and number.
func Catalogue() []Code {
	return slices.SortedFunc(maps.Keys(commands), func(a, b Code) int {
		return cmp.Or(cmp.Compare(a.Letter, b.Letter), cmp.Compare(a.Number, b.Number), cmp.Compare(a.Sub, b.Sub))
	})
}

// typical is a value that a person could write, by its unit.
var typical = map[Unit]string{
	Celsius: "200", Millimetres: "10", Feed: "1500", Speed: "50", Acceleration: "1000", Volume: "10", Seconds: "2", Milliseconds: "500", Percent: "100",
	Byte: "128", Hertz: "440", Degrees: "90", Milliamperes: "800", Steps: "80", Baud: "115200", Index: "0", Count: "5", Number: "1", Switch: "1",
}

// Example is how a command could be written: with its first words, flags left out.
func (c Code) Example() string {
	out := c.String()
	if c.Look().Traits&Text != 0 {
		return out + " in words"
	}
	words := 0
	for _, p := range c.Parameters() {
		if p.Of != "" && words > 0 {
			continue // one setpoint is enough
		}
		if v := typical[p.Unit]; v != "" && words < 3 {
			if p.Of == Bed {
				v = "60"
			}
			out += " " + string(p.Letter) + v
			words++
		}
	}
	return out
}

// Beware names why one thinks twice before a command is said.
func (c Code) Beware() []string {
	out := []string{}
	for _, t := range []struct {
		Traits
		word string
	}{{Heats, "heats"}, {Moves, "moves"}, {Stores, "stores"}, {Sets, "sets"}, {Stops, "stops"}, {Counts, "counts"}, {Pauses, "pauses"}, {Prints, "prints"}} {
		if c.Traits()&t.Traits != 0 {
			out = append(out, t.word)
		}
	}
	return out
}
