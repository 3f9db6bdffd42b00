package routine_test

import (
	"errors"
	"fmt"
	"slices"
	"strings"
	"testing"
	"time"

	"diathermon/internal/core/gcode"
	"diathermon/internal/core/heat"
	"diathermon/internal/core/routine"
)

var vesper = routine.Machine{
	Size: [3]float64{230, 230, 240}, Heaters: []heat.Heater{heat.Nozzle, heat.Bed}, Limits: heat.Limits{Nozzle: 285, Bed: 110}, Outputs: []string{"light", "part fan"},
}

// text is a routine of some steps.
func text(heading, steps string) string {
	return "language 1\nroutine \"Trial\"\nsafe heaters off\n" + heading + "\ndo\n" + steps + "\nend\n"
}

// library knows routines by the texts of their steps.
func library(texts map[string]string) routine.Library {
	return func(name string) (*routine.Routine, error) {
		source, ok := texts[name]
		if !ok {
			return nil, fmt.Errorf("there is no routine %q", name)
		}
		r, err := routine.Parse(source)
		return r, err
	}
}

func TestWhatIsWrongWithATextIsSaidWithItsLine(t *testing.T) {
	mutual := library(map[string]string{
		"One": strings.Replace(text("", `call "Two"`), "Trial", "One", 1),
		"Two": strings.Replace(text("", `call "Trial"`), "Trial", "Two", 1),
		"Pre": strings.Replace(text("take mm: number mm 1..5", `> G1 E{mm}`), "Trial", "Pre", 1),
		"Len": strings.Replace(text("take length: number mm 1..5", `> G1 E{length}`), "Trial", "Len", 1),
	})
	for _, c := range []struct{ heading, steps, want string }{
		{"", "hope", `line 6: a step is expected and not "hope"`},
		{"take x: number 1..2", "", "line 4: \"x\" is no name for a parameter"},
		{"take n: number 5..2", "", "line 4: n: its bounds are 5 to 2"},
		{"take n: number mm 0..2 = 1\ntake n: spool", "", "line 5: there is a parameter n already"},
		{"", "> M221 S99999", "S99999 of M221 multiplies or bounds all filament: 10 to 200 % go"},
		{"take f: number % 10..500", "> M221 S{f}", "S10 to 500 of M221"},
		{"", "> M900 K30", "K30 of M900"},
		{"", "> M221 S200\n> G1 E150", "it may move 300 mm of filament in one line, and 200 go"},
		{"", "> M220 S500\n> G1 E5 F9000", "with its speed of up to 500 %"},
		{"", "heat nozzle0 to 300", "line 6: it may heat nozzle0 to 300 °C, and 0 to 285 go"},
		{"take t: number °C 0..300", "heat nozzle0 to t", "line 6: it may heat nozzle0 to 0 to 300 °C, and 0 to 285 go"},
		{"take t: number °C 0..200", "heat nozzle0 to t + 90", "line 6: it may heat nozzle0 to 90 to 290 °C"},
		{"take h: heater", "heat h to 150", "line 6: it may heat bed to 150 °C, and 0 to 110 go"},
		{"", "heat nozzle0 to nozzle0 + 5", "line 6: it may heat nozzle0 to anything °C"},
		{"", "heat nozzle0 to 5 mm", "line 6: 5 is a number of mm, and °C is wanted"},
		{"", "heat nozzle1 to 100", "line 6: this printer has no nozzle1; it has nozzle0, bed"},
		{"", "heat oven to 100", "line 6: oven is no heater"},
		{"", "> M104 S200", "line 6: M104 is no line of a routine: write heat nozzle0 to 215"},
		{"", "> M109 S{5}", "line 6: M109 is no line of a routine: write heat"},
		{"", "> M303 E0 S210 C8", "line 6: M303 is no line of a routine: write tune"},
		{"", "> M0", "line 6: M0 is no line of a routine: write ask"},
		{"", "> M302 P1", "line 6: M302 is no line of a routine: it lets cold filament be pushed"},
		{"", "> M112", "line 6: M112 is no line of a routine"},
		{"", "> M82", "line 6: M82 is no line of a routine: filament is relative"},
		{"", "> M4711", "line 6: M4711 is no line of a routine: this host does not know"},
		{"", "> M42 P5 S255", "line 6: M42 is no line of a routine: name the output in Setup"},
		{"", "> G92 X0", "line 6: G92 has no X in a routine"},
		{"", "> G92", "line 6: every place is redefined by G92 without E"},
		{"", "> G10 P0 S200", "line 6: G10 has no P in a routine"},
		{"", "> M117 G28 first", "line 6: this line cannot be said: old firmwares find G28"},
		{"", "> G1 X300 F3000", "line 6: it may go to X 300, and this printer has 0 to 230 mm"},
		{"take to: number mm 0..230", "> G1 X{to + 1} F3000", "line 6: it may go to X 1 to 231"},
		{"", "> G1 X10 X20", "line 6:"},
		{"", "> G1 X10 #", "line 6:"},
		{"", "> G1 X{y", "line 6:"},
		{"", "> G1 X1e5", "line 6:"},
		{"", "> G1 E500 F100", "line 6: it may move 500 mm of filament in one line"},
		{"", "> G1 X5 F0", "line 6: its F may be 0"},
		{"take n: number 0..4", "> G1 X{10 / n} F100", "line 6: n may be 0, and nothing is divided by that"},
		{"", "> G4 S6000", "line 6: the printer may wait for 6000 s in one line"},
		{"", "repeat 5000 times\nend", "line 6: it is repeated 1 to 1000 times"},
		{"", "repeat 1000 times\nrepeat 1000 times\n> M400\nend\nend", "it comes to more than 20000 steps"},
		{"", "repeat 3 times\n> M400", "line 5: what begins here has no end"},
		{"", "leave", "line 6: leave stands in a repeat"},
		{"", "wait until nozzle0 > 100", "line 6: a time limit is expected"},
		{"", "wait until nozzle0 > 100 at most 9000 min", "line 6: it may wait for 540000 s"},
		{"", "wait until nozzle0 at most 1 min", "line 6: <, >, <=, >=, = or != is expected"},
		{"", "wait until nozzle0 > 5 mm at most 1 min", "line 6: nozzle0 is a number of °C, and 5 of mm"},
		{"", "ask \"Well?\" at most 5 min\nend", "line 7: a question has answers"},
		{"", "ask \"Well?\" at most 5 min, else \"Maybe\"\nanswer \"Yes\"\nend", "line 6: \"Maybe\" is none of its answers"},
		{"", "set oven to 50 %", "line 6: this printer has no output \"oven\"; it has light, part fan"},
		{"", "set light to 120 %", "line 6: light may be set to 120 %"},
		{"", "lift 200 mm", "line 6: it may lift by 200 mm"},
		{"", `call "Trial"`, "line 6: Trial calls itself in the end: Trial calls Trial"},
		{"", `call "One"`, "Trial calls One calls Two calls Trial"},
		{"", `call "Nowhere"`, "line 6: there is no routine \"Nowhere\""},
		{"", `call "Len"`, "line 6: this value does not go: length is not given"},
		{"", `call "Len" with length = 9`, "line 6: length may be 9, and Len takes 1 to 5 mm for it"},
		{"", `call "Len" with length = 2, width = 3`, "line 6: Len takes no width"},
		{"", `call "Pre" with mm = 2`, "\"mm\" is no name"},
		{"when held", "> G28", "line 6: G28 homes, and a held run would not find back"},
		{"when held", "tune nozzle0 at 200, 8 cycles", "line 6: nothing is tuned while a run is held"},
		{"take c: choice \"a\", \"b\"", "if c is \"d\"\nend", "line 6: c is never \"d\""},
		{"", "> M117 \"é", ""},
		{"", "show \"", "line 6: a text has no end"},
		{"", "show \"{nothing}\"", "line 6: nothing is no number that is known here"},
		{"", strings.Repeat("if homed\n", 40) + strings.Repeat("end\n", 40), "nested more than 16 deep"},
		{"", "if " + strings.Repeat("not ", 5000) + "homed\nend", "the condition is nested too deep"},
		{"", "lift " + strings.Repeat("(", 5000) + "1", "the expression is nested too deep"},
		{"", "end\n> M400", "line 7: nothing stands behind the routine's end"},
	} {
		r, err := routine.Parse(text(c.heading, c.steps))
		if err == nil {
			_, err = r.Check(vesper, mutual)
		}
		if c.want == "" && err == nil {
			continue
		}
		var known *routine.Error
		if err == nil || c.want == "" || !strings.Contains(err.Error(), c.want) || !errors.As(err, &known) {
			t.Errorf("%s / %s: %v, want %s", c.heading, c.steps, err, c.want)
		}
	}
	for source, want := range map[string]string{
		"":                                          "the text ends before its do",
		"routine \"A\"":                             "a routine begins with its language",
		"language 2\nroutine \"A\"":                 "newer language",
		"language 1\ndo\nend":                       "it has no name",
		"language 1\nroutine \"A\"\ndo\nend":        "it names no safe state",
		"language 1\nroutine \"../a\"\n":            "is no name for a routine",
		"language 1\nroutine \"A\"\nsafe\n":         "heaters off, or heaters as before, is expected",
		"language 1\n> G28":                         "a line for the printer stands behind do",
		strings.Repeat("#", routine.MostText+1):     "a routine has at most",
		"language 1\nroutine \"\xff\"":              "not UTF-8",
		"language 1\nroutine \"A\u009b2J\"":         "line 2: the text has a control character",
		"language 1\n# \x1b]0;x":                    "line 2: the text has a control character",
		"language 1\nroutine \"A\" \"B\"":           "nothing is expected behind that",
		"language 1\nsafe heaters off, up 500 mm\n": "up to 100 mm",
	} {
		if _, err := routine.Parse(source); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%.40q: %v, want %s", source, err, want)
		}
	}
	if _, err := routine.Parse("language 2\n"); !errors.Is(err, routine.ErrNewer) {
		t.Errorf("a newer language: %v", err)
	}
}

func TestWhatARoutineMayDoIsKnownBefore(t *testing.T) {
	parse := func(heading, steps string) routine.Facts {
		t.Helper()
		r, err := routine.Parse(text(heading, steps))
		if err != nil {
			t.Fatal(err)
		}
		f, err := r.Check(vesper, library(map[string]string{"Corner": strings.Replace(text("take a: number mm 0..230\ntake b: number mm 0..230", "> G1 X{a} Y{b} F3000"), "Trial", "Corner", 1)}))
		if err != nil {
			t.Fatal(err)
		}
		return f
	}
	f := parse("take t: number °C 180..nozzle0.limit = 215\ntake far: number mm 10..40 = 30", `
heat nozzle0 to t
if t > 250
  heat bed to 100
else
  heat bed to 60
end
> G28
> G1 X{far} Y{size.y - far} F{50 * 60}
> G91
repeat 3 times
  > G1 Z5 E{far} F600
  ask "More?" at most 2 min
  answer "Yes"
  answer "No"
    leave
  end
end
wait until nozzle0 is ready at most 10 min, else go on
> M500`)
	if f.Heats[heat.Nozzle] != 285 || f.Heats[heat.Bed] != 100 {
		t.Errorf("it heats to %v", f.Heats)
	}
	if *f.To[0] != (routine.Span{Low: 10, High: 40}) || *f.To[1] != (routine.Span{Low: 190, High: 220}) || f.By != [3]*routine.Span{} {
		t.Errorf("it moves to %v, %v, %v, by %v", f.To[0], f.To[1], f.To[2], f.By)
	}
	if f.Pushes != 120 || f.Draws != 0 || f.Longest != 16*time.Minute || !f.Asks || !f.Homes || !f.Stores || f.MotorsOff {
		t.Errorf("%+v", f)
	}
	f = parse("", "> G91\nrepeat 4 times\n> G1 Z-2\nend\n> G1 Z10\nlift 5 mm")
	if by := f.By[2]; f.To[2] != nil || by == nil || *by != (routine.Span{Low: -8, High: 7}) {
		t.Errorf("it moves Z by %v", f.By[2])
	}
	f = parse("", "call \"Corner\" with a = 30, b = 200\ncall \"Corner\" with a = 200, b = 30")
	if *f.To[0] != (routine.Span{Low: 30, High: 200}) {
		t.Errorf("the corners of X: %v", f.To[0])
	}
	f = parse("take lit: yes/no = yes", "if lit\nset light to 100 %\nelse\nset \"part fan\" to 20 %\nend")
	if !slices.Equal(f.Outputs, []string{"light", "part fan"}) {
		t.Errorf("outputs %v", f.Outputs)
	}
}

// A stage is a printer that does what it is told at once.
type stage struct {
	t     *testing.T
	world routine.World
	p     *routine.Performance
	said  []string
	shown []string
}

func perform(t *testing.T, source string, values map[string]string, w routine.World) *stage {
	t.Helper()
	r, err := routine.Parse(source)
	if err != nil {
		t.Fatal(err)
	}
	s := &stage{t: t, world: w}
	if s.world.Heaters == nil {
		s.world.Heaters = map[heat.Heater]routine.HeaterNow{heat.Nozzle: {Actual: 25}, heat.Bed: {Actual: 25}}
	}
	p, effects, err := routine.Begin(r, vesper, library(nil), values, s.world)
	if err != nil {
		t.Fatal(err)
	}
	s.p = p
	s.do(effects)
	return s
}

func (s *stage) do(effects []routine.Effect) {
	for len(effects) > 0 {
		e := effects[0]
		effects = effects[1:]
		switch e.Kind {
		case routine.Shown:
			s.shown = append(s.shown, e.Text)
			continue
		case routine.Heat:
			s.said = append(s.said, fmt.Sprintf("%s %g", e.Heater, e.To))
			s.world.Heaters[e.Heater] = routine.HeaterNow{Actual: 25, Setpoint: e.To}
		case routine.HeatersOff:
			s.said = append(s.said, "off")
		case routine.Output:
			s.said = append(s.said, fmt.Sprintf("%s %g", e.Output, e.To))
		case routine.Say:
			s.said = append(s.said, strings.Join(e.Lines, ", "))
		default:
			s.said = append(s.said, fmt.Sprint(e.Kind))
		}
		effects = append(effects, s.p.Done(s.world, e.Number, nil)...)
	}
}

func (s *stage) after(d time.Duration) {
	s.world.Now += d
	s.do(s.p.Tick(s.world))
}

func TestAPerformanceGoesThroughItsSteps(t *testing.T) {
	source := text("take t: number °C 170..285 = 215\ntake lit: yes/no = no\ntake who: spool", `
show "Heating to {t} °C for {who}."
heat nozzle0 to t
wait until nozzle0 is ready at most 10 min
if lit
  set light to 100 %
end
> G91
repeat 3 times
  > G1 E{t / 10} F{2 * 60}
  ask "Does it come out? {nozzle0} °C" at most 5 min, else "Yes"
  answer "No"
    lift 1 mm
  answer "Yes"
    leave
  end
end
wait 3 s`)
	s := perform(t, source, map[string]string{"who": "Amber", "t": "220 °C"}, routine.World{Homed: [3]bool{true, true, true}, To: [3]float64{0, 0, 239.5}})
	if s.p.State != routine.Waiting || s.shown[0] != "Heating to 220 °C for Amber." {
		t.Fatalf("%s, %v", s.p.State, s.shown)
	}
	s.after(time.Minute)
	s.world.Heaters[heat.Nozzle] = routine.HeaterNow{Actual: 219.8, Setpoint: 220, Ready: true}
	s.after(time.Second)
	q := s.p.Question
	if q == nil || q.Text != "Does it come out? 219.8 °C" || !slices.Equal(q.Answers, []string{"No", "Yes"}) {
		t.Fatalf("it asks %+v", q)
	}
	if _, err := s.p.Answer(s.world, q.Number, "Perhaps", "Mira"); !errors.Is(err, routine.ErrAnswer) {
		t.Errorf("an answer that is none: %v", err)
	}
	effects, err := s.p.Answer(s.world, q.Number, "No", "Mira")
	if err != nil {
		t.Fatal(err)
	}
	s.do(effects)
	if _, err := s.p.Answer(s.world, q.Number, "Yes", "Ivo"); !errors.Is(err, routine.ErrAnswer) {
		t.Errorf("the same question again: %v", err)
	}
	s.after(5 * time.Minute) // nobody answers: Yes
	if s.p.State != routine.Waiting {
		t.Fatalf("%s: %s", s.p.State, s.p.Why)
	}
	s.after(3 * time.Second)
	want := []string{"G90, M83", "nozzle0 220", "G91, M83", "G1 E22 F120", "G91, G1 Z0.5 F600, G91, M83", "G1 E22 F120", "G90, M82"}
	if s.p.State != routine.Finished || !slices.Equal(s.said, want) {
		t.Errorf("%s, %s: it said %q, want %q", s.p.State, s.p.Why, s.said, want)
	}
}

// What multiplies what lines say counts in what a routine is said to do, is as lines say it
// when it begins, and is given back however it ends.
func TestFactorsCountAndAreGivenBack(t *testing.T) {
	f := gcode.Code{Letter: 'M', Number: 221}
	speed, advance := gcode.Code{Letter: 'M', Number: 220}, gcode.Code{Letter: 'M', Number: 900}
	r, err := routine.Parse(text("", "> G1 E10\n> M221 S150\n> G1 E10\nrepeat 2 times\n> G1 E10\n> M221 S50\nend"))
	if err != nil {
		t.Fatal(err)
	}
	if facts, err := r.Check(vesper, nil); err != nil || facts.Pushes != 45 || !slices.Equal(facts.Changes, []gcode.Code{f}) {
		t.Errorf("it pushes %g, changes %v: %v; want 10, 15, 15 and 5", facts.Pushes, facts.Changes, err)
	}
	for name, c := range map[string]struct {
		steps string
		was   map[gcode.Code]float64
		want  []string
	}{
		"as it was":              {"> G1 E10", map[gcode.Code]float64{f: 100, speed: 100}, []string{"G90, M83", "G1 E10", "G90, M82"}},
		"more flow before":       {"> G1 E10", map[gcode.Code]float64{f: 150, speed: 100}, []string{"G90, M83, M221 S100", "G1 E10", "G90, M82, M221 S150"}},
		"it changes it":          {"> M221 S80\n> G1 E10", map[gcode.Code]float64{f: 97, speed: 100}, []string{"G90, M83, M221 S100", "M221 S80", "G1 E10", "G90, M82, M221 S97"}},
		"speed, and it is ended": {"> M220 S50\nstop \"no\"", map[gcode.Code]float64{f: 100, speed: 120}, []string{"G90, M83, M220 S100", "M220 S50", "off", "G90, M82, M220 S120"}},
		"advance that is known":  {"> M900 K0.1", map[gcode.Code]float64{f: 100, speed: 100, advance: 0.04}, []string{"G90, M83", "M900 K0.1", "G90, M82, M900 K0.04"}},
	} {
		s := perform(t, text("", c.steps), nil, routine.World{Factors: c.was})
		if !slices.Equal(s.said, c.want) {
			t.Errorf("%s: it said %q, want %q", name, s.said, c.want)
		}
	}
	r, _ = routine.Parse(text("", "> M900 K0.1"))
	if _, _, err := routine.Begin(r, vesper, nil, nil, routine.World{Factors: map[gcode.Code]float64{f: 100, speed: 100}}); !errors.Is(err, routine.ErrValue) || !strings.Contains(err.Error(), "M900 is set to now is not known") {
		t.Errorf("what is not known and could not be given back: %v", err)
	}
}

// In a held run what is usual is what the run has.
func TestWhatIsUsualInAHeldRunIsTheRunsOwn(t *testing.T) {
	r, err := routine.Parse(text("take t: number °C 170..285 = 210, held nozzle0.run", "heat nozzle0 to t"))
	if err != nil {
		t.Fatal(err)
	}
	for want, run := range map[string]map[heat.Heater]float64{"210": nil, "245": {heat.Nozzle: 245, heat.Bed: 80}, "285": {heat.Nozzle: 290}} {
		m := vesper
		m.Run = run
		fields, err := r.Fields(m)
		if err != nil || len(fields) != 1 || fields[0].Default != want {
			t.Errorf("with %v it is %+v, %v; want %s", run, fields, err, want)
		}
	}
}

func TestHoweverItEndsItIsSafe(t *testing.T) {
	homed := routine.World{Homed: [3]bool{true, true, true}, To: [3]float64{10, 10, 10}}
	steps := "heat nozzle0 to 200\nset light to 50\nwait until nozzle0 is ready at most 1 min\n> G1 E5"
	all := strings.Replace(text("", steps), "safe heaters off", "safe heaters off, up 10 mm, outputs off, motors off", 1)
	off := []string{"off", "G91, G1 Z10 F600, G90, M82", "light 0", "G90, M82, M84"}
	before := strings.Replace(text("", steps), "heaters off", "heaters as before", 1)
	for _, c := range []struct {
		what, source string
		end          func(*stage)
		state        routine.State
		want         []string
	}{
		{"a person", all, func(s *stage) { s.do(s.p.Stop(s.world, "Mira")) }, routine.Stopped, off},
		{"time", all, func(s *stage) { s.after(2 * time.Minute) }, routine.Stopped, off},
		{"a pulled cable", all, func(s *stage) {
			s.do(s.p.Cut(s.world, "the cable was pulled", true))
			if s.after(time.Minute); s.p.State != routine.Leaving {
				t.Errorf("while the cable is out: %s", s.p.State)
			}
			s.do(s.p.Back(s.world))
		}, routine.Broken, off},
		{"a reset", all, func(s *stage) { s.world.Homed = [3]bool{}; s.do(s.p.Cut(s.world, "it was reset", false)) }, routine.Broken, []string{"off", "light 0", "G90, M82, M84"}},
		{"as before", before, func(s *stage) { s.do(s.p.Stop(s.world, "Mira")) }, routine.Stopped, []string{"nozzle0 150", "G90, M82"}},
		{"nothing is heated again after a reset", before, func(s *stage) { s.do(s.p.Cut(s.world, "it was reset", false)) }, routine.Broken, []string{"nozzle0 0", "G90, M82"}},
	} {
		w := homed
		w.Heaters = map[heat.Heater]routine.HeaterNow{heat.Nozzle: {Actual: 150, Setpoint: 150}, heat.Bed: {}}
		s := perform(t, c.source, nil, w)
		n := len(s.said)
		c.end(s)
		if s.p.State != c.state || !slices.Equal(s.said[n:], c.want) {
			t.Errorf("%s: %s, %s, %q, want %q", c.what, s.p.State, s.p.Why, s.said[n:], c.want)
		}
	}
}

func TestWhatIsNotKnownIsNotMoved(t *testing.T) {
	for steps, want := range map[string]string{
		"> G1 X10 F600":                              "where X is is not known; home it first",
		"> G91\n> G1 Z-1":                            "where Z is is not known",
		"> G91\n> G1 Z4":                             "where Z is is not known",
		"if z > 10\n> M400\nend":                     "whether that holds is not known",
		"> G1 E{nozzle0.setpoint - nozzle0}":         "",
		"> G91\n> G1 Z{z + 1}":                       "line 7: it may go anything mm along Z",
		"wait until z > 3 at most 1 min, else go on": "",
	} {
		r, err := routine.Parse(text("", steps))
		if err == nil {
			_, err = r.Check(vesper, library(nil))
		}
		why := fmt.Sprint(err)
		if err == nil {
			s := perform(t, text("", steps), nil, routine.World{})
			s.after(2 * time.Minute)
			why = s.p.Why
			if s.p.State == routine.Broken && !slices.Contains(s.said, "off") {
				t.Errorf("%s: it ends with %q", steps, s.said)
			}
		}
		if want == "" && why != "" && !strings.Contains(why, "filament") || !strings.Contains(why, want) {
			t.Errorf("%s: %q, want %q", steps, why, want)
		}
	}
}

func TestValuesAreTypedAndBounded(t *testing.T) {
	r, err := routine.Parse(text("take t: number °C 170..285\ntake c: choice \"fast\", \"slow\" = \"slow\"\ntake h: heater = nozzle0\ntake of: spool = \"Amber\"\ntake lit: yes/no = no", ""))
	if err != nil {
		t.Fatal(err)
	}
	for _, c := range []struct{ name, value, want string }{
		{"", "", "t is not given"}, {"t", "NaN", "has to be a number of °C"}, {"t", "inf", "has to be a number"}, {"t", "300", "t is 300; 170 to 285 °C go"}, {"t", "200 mm", "has to be a number"},
		{"c", "medium", "choose one of fast, slow"}, {"h", "chamber", "choose one of nozzle0, bed"}, {"lit", "true", "choose one of yes, no"}, {"of", "a\nb", "the name of a spool"}, {"q", "1", "Trial takes no q"},
	} {
		values := map[string]string{"t": "200"}
		if values[c.name] = c.value; c.name == "" {
			values = nil
		}
		if _, _, err := routine.Begin(r, vesper, library(nil), values, routine.World{}); !errors.Is(err, routine.ErrValue) || !strings.Contains(err.Error(), c.want) {
			t.Errorf("%s = %q: %v, want %s", c.name, c.value, err, c.want)
		}
	}
	p, _, err := routine.Begin(r, vesper, library(nil), map[string]string{"t": "200"}, routine.World{})
	if err != nil || p.Values["c"] != "slow" || p.Values["t"] != "200" || p.Values["of"] != "Amber" {
		t.Errorf("%v, %v", p.Values, err)
	}
}

func TestWhatCannotBeAsBeforeIsOff(t *testing.T) {
	w := routine.World{Heaters: map[heat.Heater]routine.HeaterNow{heat.Nozzle: {Actual: 150, Setpoint: 150}}}
	s := perform(t, strings.Replace(text("", "heat nozzle0 to 200\nwait 1 min"), "heaters off", "heaters as before", 1), nil, w)
	effects := s.p.Break(s.world, "a guard has raised an alarm")
	if len(effects) != 1 || effects[0].To != 150 {
		t.Fatalf("it wants %+v", effects)
	}
	effects = s.p.Failed(s.world, effects[0].Number, "the heater has an alarm")
	if len(effects) != 1 || effects[0].Kind != routine.Heat || effects[0].To != 0 {
		t.Fatalf("behind that it wants %+v", effects)
	}
	s.p.Back(s.world) // what was under way is said once more, and its late answer means nothing
	late := s.p.Done(s.world, effects[0].Number, nil)
	if late != nil || s.p.State != routine.Leaving {
		t.Errorf("a late answer leads to %+v, %s", late, s.p.State)
	}
}
