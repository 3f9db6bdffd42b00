package stock_test

import (
	"errors"
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"

	"diathermon/internal/core/gcode"
	"diathermon/internal/core/stock"
)

func TestLinesNameTheSlot(t *testing.T) {
	m := stock.Mapping{2, 0, 1}
	for line, want := range map[string]string{
		"T0": "T2", "T1": "T0", "t2": "T1", "T 0": "T2", "T3": "T3", "T0 S1": "T2 S1", "T-1": "T-1", "T?": "T?", "Tx": "Tx",
		"M104 T0 S210": "M104 T2 S210", "M104 S210 T1": "M104 S210 T0", "M109T0S210": "M109T2 S210", "m104 t0 s210": "m104 T2 s210",
		"M104 S210": "M104 S210", "M221 T1 S95": "M221 T0 S95", "M200 D1.75 T2": "M200 D1.75 T1", "M104 T9 S1": "M104 T9 S1", "M104 T0.5 S200": "M104 T0.5 S200",
		"M204 T1000 P500": "M204 P500 T1000", // in any order: a travel's acceleration
		"G1 X10 E1":       "G1 X10 E1", "M117 Tool T0": "M117 Tool T0", "M106 P1 S255": "M106 P1 S255", "M140 S60": "M140 S60", "": "", "T": "T",
	} {
		if strings.HasPrefix(line, "M204") {
			want = line
		}
		if got := m.Line(line); got != want {
			t.Errorf("%q becomes %q, want %q", line, got, want)
		}
		for _, same := range []stock.Mapping{nil, {}, {0, 1, 2}} {
			if got := same.Line(line); got != line {
				t.Errorf("%q becomes %q where nothing is mapped", line, got)
			}
		}
	}
}

// Whatever a line looks like, what comes of it is read as the same but for its tool.
func TestOnlyTheToolIsAnother(t *testing.T) {
	r := rand.New(rand.NewPCG(16, 2))
	pieces := []string{"T0", "T1", "T2", "M104", "M109", "M221", "M200", "M106", "G1", " ", " ", "S210", "S0", "R180", "X10", "E1.5", "D1.75", "t1", "m104", "N5", "*71", ".5", "-1", "\t"}
	m := stock.Mapping{1, 2, 0}
	read := func(line string) (code string, tool float64, others string) {
		var l gcode.Line
		if l.Parse([]byte(line)) != nil {
			return line, -1, ""
		}
		code = fmt.Sprint(string(rune(l.Letter)), l.Number, l.Sub)
		tool = -1
		if l.Letter == 'T' {
			code, tool = "T", float64(l.Number)
		}
		for _, letter := range "ABCDEFGHIJKLMNOPQRSUVWXYZ" {
			if v, has := l.Value(byte(letter)); has {
				others += fmt.Sprintf("%c%g ", letter, v)
			}
		}
		if v, has := l.Value('T'); has {
			tool = v
		}
		return code, tool, others
	}
	changed := 0
	for range 200_000 {
		var b strings.Builder
		for range 1 + r.IntN(6) {
			b.WriteString(pieces[r.IntN(len(pieces))])
		}
		line := string(gcode.Command([]byte(b.String())))
		became := m.Line(line)
		if became == line {
			continue
		}
		changed++
		c1, t1, o1 := read(line)
		c2, t2, o2 := read(became)
		if c1 != c2 || o1 != o2 || t1 < 0 || t1 > 2 || t2 != float64(m[int(t1)]) {
			t.Fatalf("%q becomes %q: %s %g %s, then %s %g %s", line, became, c1, t1, o1, c2, t2, o2)
		}
	}
	if changed < 1000 {
		t.Errorf("only %d lines were others", changed)
	}
}

func TestSlotsAreProposed(t *testing.T) {
	slots := []stock.Slot{
		{Number: 0, Loaded: true, Material: "PLA", Colour: "#ffffff"}, {Number: 1, Loaded: true, Material: "PETG", Colour: "#101010"},
		{Number: 2, Loaded: true, Material: "Silk PLA", Colour: "#c02020"}, {Number: 3},
	}
	for what, c := range map[string]struct {
		tools []stock.Want
		want  stock.Mapping
	}{
		"by material":                     {[]stock.Want{{Used: true, Material: "PETG"}}, stock.Mapping{1}},
		"by colour":                       {[]stock.Want{{Used: true, Material: "PLA", Colour: "#ff0000"}}, stock.Mapping{2}},
		"each from its own":               {[]stock.Want{{Used: true, Material: "PLA"}, {Used: true, Material: "PLA"}}, stock.Mapping{0, 2}},
		"one that is not used":            {[]stock.Want{{}, {Used: true, Material: "PLA", Colour: "#c02020"}}, stock.Mapping{0, 2}},
		"nothing known":                   {[]stock.Want{{Used: true}, {Used: true}}, stock.Mapping{0, 1}},
		"nothing that goes":               {[]stock.Want{{Used: true, Material: "ABS"}}, stock.Mapping{0}},
		"the nearest of two that do":      {[]stock.Want{{Used: true, Material: "PLA", Colour: "#e0e0e0"}}, stock.Mapping{0}},
		"two of one colour, enough slots": {[]stock.Want{{Used: true, Material: "PLA", Colour: "#c02020"}, {Used: true, Material: "PLA", Colour: "#c02020"}}, stock.Mapping{2, 0}},
	} {
		if got := stock.Propose(c.tools, slots); !slices.Equal(got, c.want) {
			t.Errorf("%s: %v, want %v", what, got, c.want)
		}
	}
	if err := (stock.Mapping{0, 1}).Check(1, 4); !errors.Is(err, stock.ErrMapping) || !strings.Contains(err.Error(), "tool 1") {
		t.Error(err)
	}
	if err := (stock.Mapping{4}).Check(1, 4); !errors.Is(err, stock.ErrMapping) || !strings.Contains(err.Error(), "slot 4") {
		t.Error(err)
	}
	if err := (stock.Mapping{3}).Check(0, 4); err != nil {
		t.Error(err)
	}
}
