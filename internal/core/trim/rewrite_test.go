package trim_test

import (
	"fmt"
	"math"
	"math/rand/v2"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"testing"

	"diathermon/internal/core/gcode"
	"diathermon/internal/core/heat"
	"diathermon/internal/core/trim"
)

// rewritten is what becomes of a file.
func rewritten(f trim.File, s trim.Schedule, lines []string) []string {
	r := trim.New(f, s)
	out := make([]string, len(lines))
	for i, l := range lines {
		out[i] = r.Line(l)
	}
	return out
}

func always(t trim.Trim) trim.Schedule { return trim.Schedule{{Trim: t}} }

func TestALineBecomesWhatIsWanted(t *testing.T) {
	for name, c := range map[string]struct {
		trim    trim.Trim
		in, out string
	}{
		"nothing":               {trim.Trim{}, "G1 X10 E1 F600|M104 S200", "G1 X10 E1 F600|M104 S200"},
		"slower":                {trim.Trim{Numbers: trim.Numbers{Speed: 50}}, "G1 X10 E1 F600|G1 X20 E2|G0 X0 F9000|G1 X5 E3|G1 X9 E4", "G1 X10 E1 F300|G1 X20 E2|G0 X0 F9000|G1 X5 E3 F4500|G1 X9 E4"},
		"a travel without feed": {trim.Trim{Numbers: trim.Numbers{Speed: 200}}, "G1 X10 E1 F600|G1 X20|G1 E0.5|G1 X30 E2", "G1 X10 E1 F1200|G1 X20 F600|G1 E0.5|G1 X30 E2 F1200"},
		"a feed alone":          {trim.Trim{Numbers: trim.Numbers{Speed: 50}}, "G1 F1200|G1 X10 E1", "G1 F1200|G1 X10 E1 F600"},
		"more, absolute":        {trim.Trim{Numbers: trim.Numbers{Flow: 110}}, "G1 X10 E10|G1 E8|G1 E10|G1 X20 E20|G92 E0|G1 X0 E10", "G1 X10 E11|G1 E9|G1 E11|G1 X20 E22|G92 E0|G1 X0 E11"},
		"more, relative":        {trim.Trim{Numbers: trim.Numbers{Flow: 90}}, "M83|G1 X10 E10|G1 E-2|G1 E2|G1 X5 Y5 E-1|G1 X0 E10", "M83|G1 X10 E9|G1 E-2|G1 E2|G1 X5 Y5 E-1|G1 X0 E9"},
		"glued and small":       {trim.Trim{Numbers: trim.Numbers{Flow: 50}}, "g1x10y5e.2|M83|G1X0E.00001", "g1x10y5e0.1|M83|G1X0E0.00001"},
		"higher":                {trim.Trim{Numbers: trim.Numbers{Height: 0.05}}, "G28|G1 Z0.2 F600|G1 X10 E1|G1 Z5|G91|G1 Z1|G90|G28|G1 Z3", "G28|G1 Z0.25 F600|G1 X10 E1|G1 Z5.05|G91|G1 Z1|G90|G28|G1 Z3.05"},
		"lower and not through": {trim.Trim{Numbers: trim.Numbers{Height: -0.1}}, "G28|G1 Z0|G1 Z0.3|G1 Z-1", "G28|G1 Z0|G1 Z0.2|G1 Z-1"},
		"a new frame":           {trim.Trim{Numbers: trim.Numbers{Height: 0.1}}, "G28|G1 Z2|G92 Z10|G1 Z11|G1 X5 E1", "G28|G1 Z2.1|G92 Z10|G1 Z11|G1 X5 E1"},
		"in inches":             {trim.Trim{Numbers: trim.Numbers{Height: 0.254, Flow: 200}}, "G28|G20|G1 Z1|G1 X1 E1", "G28|G20|G1 Z1.01|G1 X1 E2"},
		"hotter":                {trim.Trim{Heaters: map[heat.Heater]float64{heat.Nozzle: 5, heat.Bed: -10}}, "M104 S200|M109 R210|M140 S60|M190 S60|M104 S0|M104 T1 S200|T1|M104 S190", "M104 S205|M109 R215|M140 S50|M190 S50|M104 S0|M104 T1 S200|T1|M104 S190"},
		"draughty":              {trim.Trim{Numbers: trim.Numbers{FanLeast: 20, FanMost: 50}}, "M106 S255|M106|M106 S10|M106 S0|M107|M106 P1 S255|M106 S100", "M106 S127|M106 S127|M106 S51|M106 S0|M107|M106 P1 S255|M106 S100"},
		"gentle":                {trim.Trim{Numbers: trim.Numbers{Acceleration: 800}}, "M204 P1500 R3000 T500|M204 S900|M201 X3000 Y500 Z100 E9000", "M204 P800 R800 T500|M204 S800|M201 X800 Y500 Z100 E9000"},
		"arcs":                  {trim.Trim{Numbers: trim.Numbers{Speed: 50, Flow: 200, Height: 1}}, "G28|G1 X10 Z1 F600|G2 X0 I-5 E1|G1 X5 E2", "G28|G1 X10 Z2 F600|G2 X0 I-5 E2 F300|G1 X5 E4"},
		"what it is not for":    {trim.Trim{Numbers: trim.Numbers{Speed: 50, Flow: 200}}, "G10|G11|M117 G1 E5|G4 S1|M220 S100|G1 X1 E1 M104|BED_MESH X=1", "G10|G11|M117 G1 E5|G4 S1|M220 S100|G1 X1 E1 M104|BED_MESH X=1"},
	} {
		got := strings.Join(rewritten(trim.File{}, always(c.trim), strings.Split(c.in, "|")), "|")
		if got != c.out {
			t.Errorf("%s: %s became\n\t%s, want\n\t%s", name, c.in, got, c.out)
		}
	}
}

func TestTheFirstLayerIsHotterAndThenNotAnyMore(t *testing.T) {
	f := trim.File{Second: 3, Setpoints: map[heat.Heater]float64{heat.Nozzle: 200, heat.Bed: 60}}
	r := trim.New(f, always(trim.Trim{First: map[heat.Heater]float64{heat.Nozzle: 10}}))
	for i, line := range []string{"M104 S200", "G1 X1 E1", "G1 X2 E2", "G1 Z0.4", "M104 S200"} {
		want := [][]string{nil, nil, nil, {"M104 T0 S200"}, nil}[i]
		if got := r.Between(); fmt.Sprint(got) != fmt.Sprint(want) {
			t.Errorf("before command %d: %q, want %q", i, got, want)
		}
		if got, want := r.Line(line), []string{"M104 S210", "G1 X1 E1", "G1 X2 E2", "G1 Z0.4", "M104 S200"}[i]; got != want {
			t.Errorf("command %d is %q, want %q", i, got, want)
		}
	}
}

func TestATrimHasBounds(t *testing.T) {
	f := trim.File{Setpoints: map[heat.Heater]float64{heat.Nozzle: 250, heat.Bed: 60}, Lowest: 0.2, Highest: 239.5, Room: 240}
	limits := heat.Limits{Nozzle: 260, Bed: 110}
	for want, tr := range map[string]trim.Trim{
		"speed":                                 {Numbers: trim.Numbers{Speed: 301}},
		"flow":                                  {Numbers: trim.Numbers{Flow: 5}},
		"cannot be NaN":                         {Numbers: trim.Numbers{Speed: math.NaN()}},
		"fan at least":                          {Numbers: trim.Numbers{FanLeast: 101}},
		"60 % at least":                         {Numbers: trim.Numbers{FanLeast: 60, FanMost: 40}},
		"-2":                                    {Numbers: trim.Numbers{Height: -2}},
		"in the bed":                            {Numbers: trim.Numbers{Height: -0.19}},
		"has 240 mm":                            {Numbers: trim.Numbers{Height: 0.6}},
		"acceleration":                          {Numbers: trim.Numbers{Acceleration: 1}},
		"cannot be 51 K: it can be -50 to 50 K": {Heaters: map[heat.Heater]float64{heat.Bed: 51}},
		"cannot be NaN K":                       {First: map[heat.Heater]float64{heat.Bed: math.NaN()}},
		"limit of 260":                          {Heaters: map[heat.Heater]float64{heat.Nozzle: 11}},
		"limit of 260 °C":                       {Heaters: map[heat.Heater]float64{heat.Nozzle: 6}, First: map[heat.Heater]float64{heat.Nozzle: 6}},
		`"chamber" no setp`:                     {Heaters: map[heat.Heater]float64{heat.Chamber: 5}},
	} {
		if err := tr.Check(f, limits); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%+v: %v, want %q", tr, err, want)
		}
	}
	for _, tr := range []trim.Trim{{}, {Numbers: trim.Numbers{Speed: 10, Flow: 150, FanLeast: 100, Height: -0.18, Acceleration: 50}}, {Heaters: map[heat.Heater]float64{heat.Nozzle: 10}}} {
		if err := tr.Check(f, limits); err != nil {
			t.Errorf("%+v: %v", tr, err)
		}
	}
}

// A reader is a printer's own reading of lines, written apart from gcode's: what it makes
// of a file is what must be as it was asked for.
type reader struct {
	at       [4]float64 // X, Y, Z, E as the lines say them
	physical [4]float64
	feed     float64
	rel      bool
	relE     bool
	fan      float64
	set      map[string]float64
	strokes  []stroke
}

type stroke struct {
	from, to [3]float64
	e, feed  float64
	fan      float64
	command  int
}

var word = regexp.MustCompile(`([A-Z])([-+]?[0-9]*\.?[0-9]*)`)

func (r *reader) read(n int, line string) {
	words := map[string]float64{}
	code := ""
	for i, m := range word.FindAllStringSubmatch(strings.ToUpper(line), -1) {
		if i == 0 {
			code = m[1] + m[2]
			continue
		}
		v, _ := strconv.ParseFloat(m[2], 64)
		words[m[1]] = v
	}
	switch code {
	case "G0", "G1":
		if f, ok := words["F"]; ok {
			r.feed = f
		}
		before, e := r.physical, 0.0
		for i, letter := range []string{"X", "Y", "Z", "E"} {
			v, ok := words[letter]
			if !ok {
				continue
			}
			if !(r.rel && i < 3 || r.relE && i == 3) {
				v -= r.at[i]
			}
			r.at[i] += v
			r.physical[i] += v
			if i == 3 {
				e = v
			}
		}
		r.strokes = append(r.strokes, stroke{[3]float64(before[:3]), [3]float64(r.physical[:3]), e, r.feed, r.fan, n})
	case "G28":
		for i := range 3 {
			r.at[i], r.physical[i] = 0, 0
		}
	case "G90", "G91":
		r.rel = code == "G91"
		r.relE = r.rel
	case "M82", "M83":
		r.relE = code == "M83"
	case "G92":
		for i, letter := range []string{"X", "Y", "Z", "E"} {
			if v, ok := words[letter]; ok {
				r.at[i] = v
			}
		}
	case "M104", "M140":
		r.set[code] = words["S"]
	case "M106":
		r.fan = words["S"]
	case "M107":
		r.fan = 0
	}
}

// Any file under any trims, changed at any commands, is what was asked for and else as it
// was.
func TestAnyFileUnderAnyTrim(t *testing.T) {
	for seed := range uint64(3000) {
		random := rand.New(rand.NewPCG(seed, 11))
		lines := anyFile(random)
		var s trim.Schedule
		for from := random.IntN(3) * random.IntN(20); from < len(lines); from += 1 + random.IntN(len(lines)) {
			s = append(s, trim.Change{From: from, Trim: anyTrim(random)})
			if random.IntN(4) == 0 {
				s[len(s)-1].Trim = trim.Trim{}
			}
		}
		var lead gcode.State
		for n, line := range lines {
			if len(s) > 0 && s[0].From == n {
				s[0].Lead = lead
			}
			var l gcode.Line
			if l.Parse([]byte(line)) == nil {
				lead.Apply(&l)
			}
		}
		lead = gcode.State{}
		became := rewritten(trim.File{}, s, lines)
		again := trim.New(trim.File{}, nil) // as they are made while it runs
		left := s
		raised := 0.0 // by the trims of the last line that moved the nozzle up or laid something
		is, was := &reader{set: map[string]float64{}}, &reader{set: map[string]float64{}}
		for n, line := range lines {
			now := trim.Trim{}
			for _, c := range s {
				if c.From <= n {
					now = c.Trim
				}
			}
			for len(left) > 0 && left[0].From == n {
				c := again.Next(left[0].Trim, lead)
				if c.Lead != left[0].Lead || c.From != n {
					t.Fatalf("seed %d: it begins at %+v, want %+v", seed, c, left[0])
				}
				again.Take(c, nil)
				left = left[1:]
			}
			var l gcode.Line
			if l.Parse([]byte(line)) == nil {
				lead.Apply(&l)
			}
			if live := again.Line(line); live != became[n] {
				t.Fatalf("seed %d, command %d: %q while it runs, %q read again", seed, n, live, became[n])
			}
			if len(became[n]) > gcode.MaxLine || strings.ContainsAny(became[n], "\n;") || became[n] == "" {
				t.Fatalf("seed %d: %q became %q", seed, line, became[n])
			}
			was.read(n, line)
			is.read(n, became[n])
			fail := func(what string, got, want any) {
				t.Fatalf("seed %d, command %d, %+v: %q became %q: %s %v, want %v\n%s", seed, n, now, line, became[n], what, got, want, strings.Join(lines[:n+1], "|"))
			}
			if strings.HasPrefix(line, "G28") {
				raised = 0
			}
			if strings.HasPrefix(line, "G0") || strings.HasPrefix(line, "G1 ") {
				a, b := was.strokes[len(was.strokes)-1], is.strokes[len(is.strokes)-1]
				lays := a.e > 0 && (a.from[0] != a.to[0] || a.from[1] != a.to[1])
				feed, e := a.feed, a.e
				if lays {
					feed *= factor(now.Speed)
					e *= factor(now.Flow)
				}
				if math.Abs(b.feed-feed) > 0.01 {
					fail("feed", b.feed, feed)
				}
				if math.Abs(b.e-e) > 2.1e-5 {
					fail("filament", b.e, e)
				}
				if math.Abs(a.to[0]-b.to[0])+math.Abs(a.to[1]-b.to[1]) > 1e-6 {
					fail("place", b.to, a.to)
				}
				if strings.Contains(line, "Z") || lays {
					raised = now.Height
				}
				if want := a.to[2] + raised; math.Abs(b.to[2]-want) > 2e-4 && a.to[2] > 1.2 {
					fail("height", b.to[2], want)
				}
			}
			for code, h := range map[string]heat.Heater{"M104": heat.Nozzle, "M140": heat.Bed} {
				if strings.HasPrefix(line, code) {
					want := was.set[code]
					if want > 0 {
						want = max(want+now.Heaters[h], 0)
					}
					if math.Abs(is.set[code]-want) > 0.06 {
						fail("setpoint", is.set[code], want)
					}
				}
			}
		}
		if total := sum(is.strokes) - sum(was.strokes); len(s) == 1 && s[0].Trim.Flow == 0 && math.Abs(total) > 1e-4 {
			t.Fatalf("seed %d: %g mm of filament more than the file's", seed, total)
		}
	}
}

func sum(strokes []stroke) (mm float64) {
	for _, s := range strokes {
		mm += s.e
	}
	return mm
}

func factor(percent float64) float64 {
	if percent == 0 {
		return 1
	}
	return percent / 100
}

func anyTrim(random *rand.Rand) trim.Trim {
	pick := func(of ...float64) float64 { return of[random.IntN(len(of))] }
	return trim.Trim{Heaters: map[heat.Heater]float64{heat.Nozzle: pick(0, 5, -12.5), heat.Bed: pick(0, 10)}, Numbers: trim.Numbers{Speed: pick(0, 50, 100, 133, 300), Flow: pick(0, 90, 107.5, 150), Height: pick(0, 0, 0.05, -0.12, 1)}}
}

// anyFile is a file that does whatever a slicer may, from a height at which nothing is
// clipped on.
func anyFile(random *rand.Rand) []string {
	lines := []string{"G28", "G1 Z5 F300"}
	number := func(scale float64) string {
		return strconv.FormatFloat(math.Round(random.Float64()*scale*1e3)/1e3, 'f', -1, 64)
	}
	relative, relativeE := false, false
	z, e := 5.0, 0.0
	for range 20 + random.IntN(60) {
		feed := ""
		if random.IntN(3) == 0 {
			feed = " F" + number(9000)
		}
		filament := func(mm float64) string {
			if e += mm; relativeE {
				return fmt.Sprintf(" E%.5f", mm)
			}
			return fmt.Sprintf(" E%.5f", e)
		}
		switch random.IntN(14) {
		case 0, 1, 2, 3, 4:
			lines = append(lines, "G1 X"+number(200)+" Y"+number(200)+filament(random.Float64()*5)+feed)
		case 5:
			lines = append(lines, "G0 X"+number(200)+feed)
		case 6:
			lines = append(lines, "G1"+filament(-random.Float64())+feed)
		case 7:
			up := random.Float64()
			if z += up; relative {
				lines = append(lines, fmt.Sprintf("G1 Z%.3f", up)+feed)
			} else {
				lines = append(lines, fmt.Sprintf("G1 Z%.3f", z)+feed)
			}
		case 8:
			relative = random.IntN(2) == 0
			relativeE = relative
			lines = append(lines, map[bool]string{true: "G91", false: "G90"}[relative])
		case 9:
			relativeE = random.IntN(2) == 0
			lines = append(lines, map[bool]string{true: "M83", false: "M82"}[relativeE])
		case 10:
			e = 0
			lines = append(lines, "G92 E0")
		case 11:
			lines = append(lines, "M104 S"+number(280))
		case 12:
			lines = append(lines, "M140 S"+number(100))
		case 13:
			lines = append(lines, "M117 it goes on")
		}
	}
	return lines
}

func BenchmarkLine(b *testing.B) {
	lines := []string{"G1 X100.123 Y50.321 E0.04321", "G1 X101.5 Y51.7 E0.0211 F2400", "G1 X99.9 Y50 E0.031"}
	for name, s := range map[string]trim.Schedule{"none": nil, "everything": always(trim.Trim{Numbers: trim.Numbers{Speed: 90, Flow: 95, Height: 0.02, FanMost: 50}})} {
		b.Run(name, func(b *testing.B) {
			r := trim.New(trim.File{}, s)
			r.Line("M83")
			for i := 0; b.Loop(); i++ {
				r.Line(lines[i%len(lines)])
			}
		})
	}
}

func TestWhatWasGivenAlreadyIsGivenAnew(t *testing.T) {
	r := trim.New(trim.File{Second: 4}, nil)
	r.Line("M140 S60")
	r.Line("M104 S200")
	given := map[heat.Heater]float64{heat.Nozzle: 200, heat.Bed: 60, heat.Chamber: 0}
	turn := func(tr trim.Trim) string {
		return strings.Join(r.Take(r.Next(tr, gcode.State{Modes: gcode.Modes{Fan: 1}}), given), "|")
	}
	more := map[heat.Heater]float64{heat.Nozzle: 5, heat.Bed: -10}
	if got := turn(trim.Trim{Heaters: more, First: map[heat.Heater]float64{heat.Nozzle: 2}, Numbers: trim.Numbers{FanMost: 40}}); got != "M140 S50|M104 T0 S207|M106 S102" {
		t.Errorf("said at once is %q", got)
	}
	given = map[heat.Heater]float64{heat.Nozzle: 207, heat.Bed: 50}
	if got := turn(trim.Trim{Heaters: more, Numbers: trim.Numbers{FanMost: 40}}); got != "M104 T0 S205" {
		t.Errorf("then %q", got)
	}
	given[heat.Nozzle] = 205
	if got := turn(trim.Trim{}); got != "M140 S60|M104 T0 S200|M106 S255" {
		t.Errorf("and back %q", got)
	}
	given[heat.Nozzle] = 225 // by hand: a change is told against what the file has
	if got := turn(trim.Trim{Heaters: map[heat.Heater]float64{heat.Nozzle: 10}}); got != "M104 T0 S210" {
		t.Errorf("after somebody has set it by hand %q", got)
	}
	given[heat.Nozzle] = 0
	if got := turn(trim.Trim{Heaters: map[heat.Heater]float64{heat.Nozzle: 15}}); got != "" {
		t.Errorf("a heater that was turned off is told %q", got)
	}
	r.Line("M104 S0")
	given[heat.Nozzle] = 200
	if got := turn(trim.Trim{}); got != "" {
		t.Errorf("where the file has turned it off it says %q", got)
	}
	if r.At() != 3 {
		t.Errorf("%d commands", r.At())
	}
}

func TestAChangeBehindThatTheRunHasNotComeToIsNoneAnyMore(t *testing.T) {
	lines := func(r *trim.Rewriter, from int) (out []string) {
		for n := from; n < 8; n++ {
			out = append(out, r.Line(fmt.Sprintf("G1 X%d E%d F600", n, n)))
		}
		return out
	}
	file := trim.File{Highest: 10, Room: 100}
	then := trim.Schedule{{From: 6, Trim: trim.Trim{Numbers: trim.Numbers{Speed: 50}}}} // which the host before had said, and the printer has not taken
	r := trim.New(file, then)
	var lead gcode.State
	for n := range 3 {
		r.Line(fmt.Sprintf("G1 X%d E%d F600", n, n))
		lead.At[gcode.X], lead.At[gcode.E], lead.Feed = float64(n), float64(n), 10
	}
	c := r.Next(trim.Trim{Numbers: trim.Numbers{Speed: 200}}, lead)
	r.Take(c, nil)
	got := lines(r, 3)
	for n, line := range got {
		if want := fmt.Sprintf("G1 X%d E%d F1200", n+3, n+3); line != want {
			t.Errorf("behind the change it says %q, want %q", line, want)
		}
	}
	if again := lines(trim.New(file, then.And(c)), 0)[3:]; !slices.Equal(again, got) {
		t.Errorf("told again it says %q, and said %q", again, got)
	}
}

func TestSetpointsAreKnownBehindAnyCommand(t *testing.T) {
	lines := []string{"M140 S60", "M104 T1 S210", "T1", "M109 S215", "G1 X1 E1", "M104 S0"}
	s := trim.Schedule{
		{From: 1, Trim: trim.Trim{First: map[heat.Heater]float64{"nozzle1": 4}}},
		{From: 3, Trim: trim.Trim{Heaters: map[heat.Heater]float64{"nozzle1": 5, heat.Bed: -5}, First: map[heat.Heater]float64{"nozzle1": 4}}},
	}
	for commands, want := range []string{"map[]", "map[bed:60]", "map[bed:60 nozzle1:214]", "map[bed:55 nozzle1:219]", "map[bed:55 nozzle1:224]", "map[bed:55 nozzle1:220]", "map[bed:55 nozzle1:0]"} {
		r := trim.New(trim.File{Second: 5}, s)
		n := 0
		next := r.Through(func() (string, bool) { n++; return lines[n-1], true })
		for range commands {
			next()
		}
		if got := fmt.Sprint(r.Setpoints()); got != want {
			t.Errorf("behind %d commands %s, want %s", commands, got, want)
		}
	}
}

// A printer that accelerates more than a trim has it is told so, also where the file says
// nothing, and told again what it had; after a restart the same.
func TestAccelerationsAreCappedWhereTheFileSaysNothing(t *testing.T) {
	file := trim.File{Has: trim.Accel{Print: 1500, Travel: 2000}}
	r := trim.New(file, nil)
	cap := func(most float64) (trim.Change, string) {
		c := r.Next(trim.Trim{Numbers: trim.Numbers{Acceleration: most}}, gcode.State{})
		return c, strings.Join(r.Take(c, nil), "; ")
	}
	first, said := cap(1000)
	if said != "M204 P1000 T1000" || r.Anew() != said || r.Leave() != "M204 P1500 T2000" {
		t.Errorf("it says %q, anew %q, and at the end %q", said, r.Anew(), r.Leave())
	}
	if got := r.Line("M204 P800 T3000"); got != "M204 P800 T1000" || r.Leave() != "M204 P800 T3000" {
		t.Errorf("the file's line becomes %q, and at the end %q is said", got, r.Leave())
	}
	if _, said := cap(900); said != "M204 P800 T900" {
		t.Errorf("lower, it says %q", said)
	}
	again := trim.New(trim.File{}, trim.Schedule{first}) // by a host that does not know the printer's
	if again.Line("G28"); again.Leave() != "M204 P1500 T2000" || again.Anew() != "M204 P1000 T1000" {
		t.Errorf("after a restart it says %q, and at the end %q", again.Anew(), again.Leave())
	}
	if _, said := cap(0); said != "M204 P800 T3000" || r.Leave() != "" || r.Anew() != "" {
		t.Errorf("as it was, it says %q, then %q", said, r.Leave())
	}
	late := trim.New(file, nil) // what the file has said before anything was changed counts
	late.Line("M204 S700")
	if said := late.Take(late.Next(trim.Trim{Numbers: trim.Numbers{Acceleration: 600}}, gcode.State{}), nil); strings.Join(said, "; ") != "M204 P600 T600" || late.Leave() != "M204 P700 T700" {
		t.Errorf("late it says %q, and at the end %q", said, late.Leave())
	}
	unknown := trim.New(trim.File{}, nil)
	if said := unknown.Take(unknown.Next(trim.Trim{Numbers: trim.Numbers{Acceleration: 600}}, gcode.State{}), nil); len(said) != 0 || unknown.Leave() != "" {
		t.Errorf("of a printer that is not known it says %q", said)
	}
}
