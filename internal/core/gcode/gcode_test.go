package gcode_test

import (
	"errors"
	"math"
	"math/rand/v2"
	"slices"
	"testing"

	"diathermon/internal/core/gcode"
)

func TestCommandIsWhatThePrinterShouldReceive(t *testing.T) {
	for _, c := range []struct{ raw, want string }{
		{"", ""},
		{"   \t\r\n", ""},
		{"; only a comment", ""},
		{"G1 X5 ; to the right\r\n", "G1 X5"},
		{"G1 X5 (slowly) Y6", "G1 X5  Y6"},
		{"(nothing but this)", ""},
		{"G1 X5 (a (nested) one)", "G1 X5"},
		{"N12 G1 X5*97", "G1 X5"},
		{"n3G28*12", "G28"},
		{"N7 M117 5*3 is fifteen*99", "M117 5*3 is fifteen"},
		{"M117 Dust cap (32 mm)", "M117 Dust cap (32 mm)"},
		{"M117 done ; and dusted", "M117 done"},
		{"  G0\tX1  ", "G0\tX1"},
		{"START_OF_PART BED=60", "START_OF_PART BED=60"},
		{"N", "N"},
	} {
		if got := string(gcode.Command([]byte(c.raw))); got != c.want {
			t.Errorf("Command(%q) = %q, want %q", c.raw, got, c.want)
		}
	}
}

func TestParseReadsWords(t *testing.T) {
	var l gcode.Line
	if err := l.Parse([]byte("g1x-5.25 Y+.5E12 F 3000 S")); err != nil {
		t.Fatal(err)
	}
	if !l.Is('G', 1) {
		t.Errorf("got %c%d, want G1", l.Letter, l.Number)
	}
	for letter, want := range map[byte]float64{'X': -5.25, 'Y': 0.5, 'E': 12, 'F': 3000} {
		if got, ok := l.Value(letter); !ok || got != want {
			t.Errorf("%c is %v, %v, want %v", letter, got, ok, want)
		}
	}
	if !l.Has('S') || l.Has('Z') {
		t.Error("S stands there without a number and Z does not")
	}
	if _, ok := l.Value('S'); ok {
		t.Error("S has no number")
	}
	if err := l.Parse([]byte("G29.1 X2")); err != nil || l.Number != 29 || l.Sub != 1 {
		t.Errorf("got G%d.%d, %v, want G29.1", l.Number, l.Sub, err)
	}
	if err := l.Parse([]byte("M117 Hello X5?")); err != nil || string(l.Text) != "Hello X5?" || l.Has('X') {
		t.Errorf("M117's text is %q, %v", l.Text, err)
	}
	for _, bad := range []string{"hello", "solid cube", "G", "Gx", "1234", "G1 X5 #7", "\x89PNG"} {
		if err := l.Parse([]byte(bad)); err == nil {
			t.Errorf("%q was taken for G-code", bad)
		}
	}
}

func TestAWordThatIsAbsentHasNoNumberOfAnEarlierLine(t *testing.T) {
	var l gcode.Line
	for _, line := range []string{"G2 X1 I2 J3 S9", "M106 S255"} {
		if err := l.Parse([]byte(line)); err != nil {
			t.Fatal(err)
		}
	}
	if err := l.Parse([]byte("G4 P500")); err != nil || l.Dwell() != 0.5 {
		t.Errorf("G4 P500 behind M106 S255 waits %g s, %v", l.Dwell(), err)
	}
	for letter := byte('A'); letter <= 'Z'; letter++ {
		if v, ok := l.Value(letter); v != 0 && letter != 'P' || ok != (letter == 'P') {
			t.Errorf("%c is %g, %v", letter, v, ok)
		}
	}
	if err := l.Parse([]byte("G4 S2 P500")); err != nil || l.Dwell() != 2 {
		t.Errorf("of S and P, S goes first: %g s, %v", l.Dwell(), err)
	}
	_, moves := through(t, "G1 X10 Y0", "G3 X0 Y10 I-10 J5", "G1 X10 Y0", "G3 X0 Y10 I-10")
	if got := moves[len(moves)-1].Centre; got != [2]float64{0, 0} {
		t.Errorf("an arc with I alone has its middle at %v", got)
	}
}

func TestWhatFirmwaresReadDifferentlyIsNotPlain(t *testing.T) {
	for _, line := range []string{
		"M104 S300 #", "M104,S300", "M104*S300", "M104 \"x S300", "M104S300~", "M104 S300\u2028", "M104 S 3 00", "M104 S200 S300", "M104 S2E2", "M104 S0x12C", "M104 S1 e9", "M104 S0 X12C",
		"M 1 0 4 S20", "M1 04 S20", "G90 G1 X5", "M105 M104 S20", "T1 M104 S20", "G1 T1 X5", "X10 Y5", "G1 X1.2.3", "G1 X--5", "G1 X5 x6", "N5 N6 G1 X1*1", "M0000104 S20", "G1 E1e-05",
	} {
		var l gcode.Line
		if err := l.Parse(gcode.Command([]byte(line))); !errors.Is(err, gcode.ErrUncertain) || l.Letter != 0 || l.Has('S') {
			t.Errorf("%q was read as %s, %v", line, l.Code(), err)
		}
	}
	var l gcode.Line
	if err := l.Parse([]byte("G1 X99999999999")); !errors.Is(err, gcode.ErrImpossible) {
		t.Errorf("a hundred thousand kilometres: %v", err)
	}
}

func TestAGuessFindsEveryCommand(t *testing.T) {
	for line, want := range map[string]gcode.Code{
		"m#104 s300": {'M', 104, 0}, "x M104 S300": {'M', 104, 0}, "M 1 0 4 S3": {'M', 104, 0}, "M1.04e2S300": {'M', 104, 0}, "G0x1C": {'G', 28, 0}, "aG0028b": {'G', 28, 0},
		"M105 M190 S60": {'M', 190, 0}, "PRINT5": {'T', 5, 0},
	} {
		if got := gcode.GuessAt([]byte(line)); !slices.Contains(got.Codes, want) {
			t.Errorf("%q could be %v, want %s in it", line, got.Codes, want)
		}
	}
	for line, want := range map[string]gcode.Traits{"M109S200": gcode.Awaits, "m190 s60 #": gcode.Awaits, "G28X": gcode.Slow, "M400": gcode.Slow} {
		if gcode.TraitsOf([]byte(line))&want == 0 {
			t.Errorf("%q lacks a trait", line)
		}
	}
}

func TestTheEmergencyStopIsKnownHoweverItIsWritten(t *testing.T) {
	for _, line := range []string{"M112", "m112", "M112 S1", " M112 ;now", "N5 M112*35", "N5M112*35", "M112*35", "M 112", "M0112", "\"M112", "M112 #", "G1 X5 M112", "M11 2", "M112\r\n"} {
		if !gcode.IsHalt([]byte(line)) {
			t.Errorf("%q is not taken for the emergency stop", line)
		}
	}
	for _, line := range []string{"M117 do not press M112", "; M112", "M1120", "M11", "M105", "hello", ""} {
		if gcode.IsHalt([]byte(line)) {
			t.Errorf("%q is taken for the emergency stop", line)
		}
	}
}

func TestNumberedLinesCarryTheTradesChecksum(t *testing.T) {
	// The exclusive or of "N3 T0" is 57: the worked example of the convention.
	if got := string(gcode.AppendNumbered(nil, 3, []byte("T0"))); got != "N3 T0*57\n" {
		t.Errorf("got %q, want %q", got, "N3 T0*57\n")
	}
}

// through applies a program and returns the state and the moves it leads to.
func through(t *testing.T, program ...string) (gcode.State, []gcode.Move) {
	t.Helper()
	var s gcode.State
	var l gcode.Line
	var moves []gcode.Move
	for _, p := range program {
		if err := l.Parse(gcode.Command([]byte(p))); err != nil {
			t.Fatal(err)
		}
		if m, ok := s.Apply(&l); ok {
			moves = append(moves, m)
		}
	}
	return s, moves
}

func TestModesStayInForce(t *testing.T) {
	for name, c := range map[string]struct {
		program []string
		want    gcode.Position
		feed    float64
	}{
		"absolute":             {[]string{"G1 X10 Y5 Z1 E2 F1200", "G1 X20"}, gcode.Position{20, 5, 1, 2}, 20},
		"relative":             {[]string{"G91", "G1 X10 E1", "G1 X10 E1"}, gcode.Position{20, 0, 0, 2}, 0},
		"relative extruder":    {[]string{"M83", "G1 X10 E1", "G1 X20 E1"}, gcode.Position{20, 0, 0, 2}, 0},
		"G90 makes E absolute": {[]string{"M83", "G90", "G1 E5", "G1 E6"}, gcode.Position{0, 0, 0, 6}, 0},
		"inches":               {[]string{"G20", "G1 X1 F60"}, gcode.Position{25.4, 0, 0, 0}, 25.4},
		"redefined":            {[]string{"G1 E50", "G92 E0", "G1 E2"}, gcode.Position{0, 0, 0, 2}, 0},
		"homed":                {[]string{"G1 X10 Y10 Z10", "G28 X"}, gcode.Position{0, 10, 10, 0}, 0},
	} {
		s, _ := through(t, c.program...)
		if s.At != c.want || math.Abs(s.Feed-c.feed) > 1e-9 {
			t.Errorf("%s: at %v with %v mm/s, want %v with %v", name, s.At, s.Feed, c.want, c.feed)
		}
	}
	if s, _ := through(t, "G1 X10 Z5", "G92 X0 Z1", "G28", "G1 X3 Z2"); s.Machine() != (gcode.Position{3, 0, 2, 0}) {
		t.Errorf("homed, a frame of before stays: the machine is taken to be at %v", s.Machine())
	}
	for line, homed := range map[string]bool{"M84 E": true, "M84 E X": false, "M84 X": false, "M18": false} {
		if s, _ := through(t, "G28", line); s.Homed[0] != homed {
			t.Errorf("behind %s X counts as homed: %v", line, s.Homed[0])
		}
	}
	s, _ := through(t, "G1 E50", "G92 E0", "G1 E2", "G28", "M106 S127.5", "T1")
	if s.Homed != [3]bool{true, true, true} || s.Fan != 0.5 || s.Tool != 1 {
		t.Errorf("homed %v, fan %v, tool %d", s.Homed, s.Fan, s.Tool)
	}
	if s, _ := through(t, "G28", "M84"); s.Homed != [3]bool{} {
		t.Error("motors that are off are not homed")
	}
}

func TestArcsHaveTheirLength(t *testing.T) {
	for program, want := range map[string]float64{
		"G3 X0 Y10 I-10 J0":  math.Pi * 5,               // a quarter of a circle of 10 mm
		"G2 X0 Y10 I-10 J0":  math.Pi * 15,              // the other three
		"G3 X10 Y0 I-10":     math.Pi * 20,              // a whole one
		"G3 X0 Y10 R10":      math.Pi * 5,               // the same quarter by its radius
		"G3 X0 Y10 R-10":     math.Pi * 15,              // and the longer way
		"G1 X20 Y0":          10,                        //
		"G1 X10 Y0 Z3 E4":    3,                         //
		"G1 E7":              7,                         // filament alone
		"G3 X-10 Y0 Z4 I-10": math.Hypot(10*math.Pi, 4), // half a turn of a helix
	} {
		_, moves := through(t, "G1 X10 Y0", program)
		if got := moves[len(moves)-1].Length(); math.Abs(got-want) > 1e-6 {
			t.Errorf("%s: %v mm, want %v", program, got, want)
		}
	}
}

func TestAnArcsBoxIsAsFarAsItBulges(t *testing.T) {
	rng := rand.New(rand.NewPCG(3, 3))
	for range 300 {
		m := gcode.Move{Arc: true, Clock: rng.IntN(2) == 0, Plane: gcode.Plane(rng.IntN(3)), Centre: [2]float64{rng.Float64() * 100, rng.Float64() * 100}}
		radius, from, sweep := 1+rng.Float64()*50, rng.Float64()*7, 0.01+rng.Float64()*6.2
		at := func(share float64) (x, y float64) { // walked along, another way to the same
			angle := from + sweep*share
			if m.Clock {
				angle = from - sweep*share
			}
			return m.Centre[0] + radius*math.Cos(angle), m.Centre[1] + radius*math.Sin(angle)
		}
		u, v := [3][2]int{{0, 1}, {2, 0}, {1, 2}}[m.Plane][0], [3][2]int{{0, 1}, {2, 0}, {1, 2}}[m.Plane][1]
		m.From[u], m.From[v] = at(0)
		m.To[u], m.To[v] = at(1)
		low, high := m.Box()
		for i := range 3 {
			want := [2]float64{math.Inf(1), math.Inf(-1)}
			for step := range 5001 {
				x, y := at(float64(step) / 5000)
				place := [3]float64{}
				place[u], place[v] = x, y
				want = [2]float64{min(want[0], place[i]), max(want[1], place[i])}
			}
			if math.Abs(low[i]-want[0]) > 0.001 || math.Abs(high[i]-want[1]) > 0.001 {
				t.Fatalf("axis %d of %+v: %g to %g, want %v", i, m, low[i], high[i], want)
			}
		}
	}
}

func TestCurvesLeadToTheirEnds(t *testing.T) {
	state, moves := through(t, "G92 X10 Y20", "G5 X30 Y20 I0 J15 P0 Q15 E2 F1200", "G91", "G20", "G5 X1 Y0 P1", "G5.1 X5 Y5 I1 J1")
	if state.At[gcode.X] != 30+25.4 || state.At[gcode.Y] != 20 || len(moves) != 2 {
		t.Fatalf("it is at %v after %d moves", state.At, len(moves))
	}
	// A quarter of the way down de Casteljau's ladder, and half of it.
	m := moves[0]
	if low, high := m.Box(); math.Abs(high[1]-(20+0.75*15)) > 1e-9 || low[1] != 20 || high[0] != 30 || m.At(0.5)[gcode.E] != 1 || m.At(1) != m.To {
		t.Errorf("its box is %v to %v", low, high)
	}
	if got := m.At(0.25); math.Abs(got[gcode.X]-13.125) > 1e-9 || math.Abs(got[gcode.Y]-28.4375) > 1e-9 {
		t.Errorf("a quarter leads to %v", got)
	}
	long := 0.0 // by its derivative
	for s := 0.0005; s < 1; s += 0.001 {
		long += 0.001 * math.Hypot(120*s*(1-s), 45*(1-2*s))
	}
	if math.Abs(m.Length()-long) > 0.01 {
		t.Errorf("it is %g mm long, want %g", m.Length(), long)
	}
}

func TestAnArcIsInThePlaneThatWasChosen(t *testing.T) {
	state, moves := through(t, "G18", "G2 X10 Z0 I5 K0", "G19", "G3 Y10 Z0 R5", "G17", "G2 X0 Y10 I-5 J0")
	for i, want := range []gcode.Position{{5, 0, -5, 0}, {10, 5, -5, 0}, {5, 5, 0, 0}} { // half-way
		got := moves[i].At(0.5)
		for axis := range got {
			if math.Abs(got[axis]-want[axis]) > 1e-9 {
				t.Errorf("arc %d leads by %v, want %v", i, got, want)
				break
			}
		}
	}
	if state.Plane != gcode.XY {
		t.Errorf("the plane is %d", state.Plane)
	}
}

func FuzzLine(f *testing.F) {
	for _, seed := range []string{"N5 G1 X1.5 Y-2 E.04 F1800*33", "M117 (hello) ; you", "G2 X1 I2 J3 (arc)", "G1 X99999999999999999999", "T1", "M23 /a*b.g", "G1 X5 \"quoted", "((("} {
		f.Add([]byte(seed))
	}
	f.Fuzz(func(t *testing.T, raw []byte) {
		command := gcode.Command(raw)
		var l gcode.Line
		var s gcode.State
		if l.Parse(command) == nil && l.Letter != 0 {
			s.Apply(&l)
		}
		if again := gcode.Command(command); len(again) > len(command) {
			t.Errorf("Command(%q) grew to %q", command, again)
		}
	})
}

func BenchmarkParse(b *testing.B) {
	line := []byte("G1 X123.456 Y78.901 E1234.56789 F4800 ; infill")
	var l gcode.Line
	b.ReportAllocs()
	for b.Loop() {
		if err := l.Parse(gcode.Command(line)); err != nil {
			b.Fatal(err)
		}
	}
}
