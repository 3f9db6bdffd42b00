package machine_test

import (
	"math"
	"testing"

	"diathermon/internal/core/gcode"
	"diathermon/internal/core/machine"
)

func TestAnOutputIsReadAsItIsSet(t *testing.T) {
	outputs := []machine.Output{
		machine.PartFan, {Name: "enclosure", Kind: machine.Fan, Number: 2, Levels: true}, {Name: "light", Kind: machine.Light, Levels: true}, {Name: "lamp", Kind: machine.Light},
		{Name: "relay", Kind: machine.Pin, Number: 5}, {Name: "strip", Kind: machine.Pin, Number: 6, Levels: true},
	}
	for i, o := range outputs {
		for level := 0.0; level <= 100; level++ {
			var l gcode.Line
			if err := l.Parse([]byte(o.Command(level))); err != nil {
				t.Fatal(err)
			}
			want := level
			if !o.Levels && level > 0 {
				want = 100
			}
			for j, other := range outputs {
				got, sets := other.Sets(&l)
				same := i == j || o.Kind == machine.Light && other.Kind == machine.Light
				if sets != same || i == j && math.Abs(got-want) > 0.5 {
					t.Errorf("%s for %s to %g: %s reads %g, %v", o.Command(level), o.Name, level, other.Name, got, sets)
				}
			}
		}
	}
	for line, want := range map[string]float64{"M106": 100, "M107": 0, "M106 S300": 100, "M106 S51": 20} {
		var l gcode.Line
		if err := l.Parse([]byte(line)); err != nil {
			t.Fatal(err)
		}
		if got, sets := machine.PartFan.Sets(&l); !sets || got != want {
			t.Errorf("%s: %g, %v", line, got, sets)
		}
	}
}
