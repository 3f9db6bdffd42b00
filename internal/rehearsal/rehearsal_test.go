package rehearsal_test

import (
	"bytes"
	"context"
	"fmt"
	"math"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"
	"time"

	"diathermon/internal/core/bounds"
	"diathermon/internal/core/gcode"
	"diathermon/internal/core/heat"
	"diathermon/internal/core/machine"
	"diathermon/internal/core/motion"
	"diathermon/internal/core/run"
	"diathermon/internal/core/toolpath"
	"diathermon/internal/rehearsal"
	"diathermon/internal/samples"
	"diathermon/internal/simprinter"
)

var began = time.Date(2026, 3, 1, 20, 0, 0, 0, time.UTC)

// vesper is the observatory's printer, of which nothing has been learned.
func vesper() rehearsal.Printer {
	return rehearsal.Printer{
		Machine: machine.Printer{Name: "Vesper", Width: 230, Depth: 230, Height: 240, Tools: 1, Limits: heat.Limits{Nozzle: 285, Bed: 110}, Nozzle: 0.4, Filament: 1.75, Density: 1.24},
		Motion:  motion.Ordinary, Baud: 115200,
	}
}

// play rehearses a text.
func play(t *testing.T, p rehearsal.Printer, text string) rehearsal.Report {
	t.Helper()
	facts, err := toolpath.Scan(strings.NewReader(text), toolpath.Options{Limits: p.Motion})
	if err != nil {
		t.Fatal(err)
	}
	begun := time.Now()
	r, err := rehearsal.Play(context.Background(), strings.NewReader(text), toolpath.File{Size: int64(len(text)), Summary: facts}, p, began, func(rehearsal.Progress) {})
	if err != nil {
		t.Fatal(err)
	}
	t.Logf("%d commands, %s of the printer's in %s", r.Commands, r.Took, time.Since(begun))
	return r
}

// learned is what is learned of a printer's heaters in some warm-ups and a print.
func learned(c simprinter.Config) map[heat.Heater]rehearsal.Heater {
	plant := simprinter.NewPlant(c)
	out := map[heat.Heater]rehearsal.Heater{}
	learners := map[heat.Heater]*heat.Learner{heat.Nozzle: {}, heat.Bed: {}}
	now, scale := time.Duration(0), heat.DutyScale{}
	pass := func(d time.Duration) {
		for end := now + d; now < end; {
			now += time.Second
			for _, line := range plant.Hear() {
				readings := heat.ParseReport(line)
				for _, r := range readings {
					scale.Note(&r)
					l := learners[r.Heater]
					l.Note(now, r, heat.Conditions{Fan: plant.Fan})
					if climbs := l.Unfitted(); climbs != nil {
						l.Fit(heat.ShapeOf(climbs))
					}
				}
			}
		}
	}
	for range 4 {
		plant.Start(c.Ambient, c.Ambient)
		now += time.Hour
		plant.Set(0, 0)
		pass(10 * time.Second)
		plant.Set(0, 60)
		pass(8 * time.Minute)
		plant.Set(215, 60)
		pass(20 * time.Minute)
		plant.Fan = 1
		pass(10 * time.Minute)
		plant.Fan = 0
		plant.Set(0, 0)
		pass(20 * time.Minute)
	}
	for h, l := range learners {
		out[h] = rehearsal.Heater{Model: l.Model(), Shape: l.Shape, Climbs: l.Climbs}
	}
	return out
}

func TestItWarmsUpAsThePrinterDoes(t *testing.T) {
	const warmUp = "M190 S80\nM109 S240\n" // which none of its warm-ups were to
	sum, seeds := 0.0, 16
	for seed := range uint64(seeds) {
		c := simprinter.Rough(seed)
		p := vesper()
		p.Heaters = learned(c)
		var plain time.Duration
		for _, pace := range []float64{1, 8} {
			p.Pace = pace
			if pace != 1 {
				p.Heaters = hurried(p.Heaters, pace)
			}
			want, got := took(c, warmUp), play(t, p, warmUp).Took
			off := got.Seconds()/want.Seconds() - 1
			t.Logf("seed %d, pace %g: %s, rehearsed %s, %+.0f %%", seed, pace, want.Round(time.Second), got.Round(time.Second), 100*off)
			if math.Abs(off) > 0.35 {
				t.Errorf("seed %d, pace %g: it takes %s, rehearsed were %s", seed, pace, want, got)
			}
			if sum += math.Abs(off); plain == 0 {
				plain = got
			}
			if d := (got - plain).Seconds() / plain.Seconds(); math.Abs(d) > 0.01 {
				t.Errorf("seed %d: by a clock that runs %g times faster it takes %s, by its own %s", seed, pace, got, plain)
			}
		}
	}
	if mean := sum / float64(2*seeds); mean > 0.075 {
		t.Errorf("it is %.0f %% off", 100*mean)
	}
}

// took is how long a printer takes for a program.
func took(c simprinter.Config, program string) time.Duration {
	board := simprinter.NewBoard(c)
	board.Output()
	for line := range strings.Lines(program) {
		board.Receive([]byte(line))
		for !strings.Contains(string(board.Output()), "ok") {
			board.Advance(max(board.Next(), board.Now()) + time.Microsecond)
		}
	}
	return board.Now()
}

// hurried is what would have been learned by a clock that runs more slowly than the
// printer's.
func hurried(of map[heat.Heater]rehearsal.Heater, pace float64) map[heat.Heater]rehearsal.Heater {
	out := map[heat.Heater]rehearsal.Heater{}
	for name, h := range of {
		m, s := &h.Model, &h.Shape
		m.Rise, m.RiseError, m.Loss, m.FanLoss, m.Melt = m.Rise*pace, m.RiseError*pace, m.Loss*pace, m.FanLoss*pace, m.Melt*pace
		m.Dead, m.Seconds = time.Duration(float64(m.Dead)/pace), m.Seconds/pace
		s.A, s.B, s.K, s.Dead, s.Tau = s.A*pace, s.B*pace, s.K*pace, s.Dead/pace, s.Tau/pace
		h.Climbs = append([]heat.Climb(nil), h.Climbs...)
		for i := range h.Climbs {
			h.Climbs[i].Took /= pace
		}
		out[name] = h
	}
	return out
}

const start = "G28\nM190 S60\nM109 S215\nG90\nM83\n"

func TestWhatIsFound(t *testing.T) {
	fine := start + "G1 X10 Y10 Z0.2 F6000\nG91\n" + strings.Repeat(strings.Repeat("G1 X0.0202 Y0.0001 E0.00166 F9000\n", 5000)+strings.Repeat("G1 X-0.0202 Y-0.0001 E0.00166 F9000\n", 5000), 2)
	for name, c := range map[string]struct {
		text  string
		want  string // of the problems; empty: there is none
		line  int
		level bounds.Level
	}{
		"nothing":              {start + "G1 X50 Y50 F6000\nG1 X60 E1\nM104 S0\nM140 S0\n", "", 0, ""},
		"cold":                 {"G28\nG90\nM83\nM104 S215\nG1 X50 Y50 F6000\nG1 X60 E1\n", "firmwares do not", 6, bounds.Warn},
		"beyond an axis":       {start + "G1 X50 Y50 F6000\nG1 X260\n", "beyond the end of an axis", 7, bounds.Warn},
		"a person":             {start + "M0 Put the nut in\nG1 X50\n", "asks for a person", 6, bounds.Note},
		"nobody's command":     {start + "M9911\n", "M9911 is no command", 6, bounds.Note},
		"not rehearsed":        {start + "G29\nG29\n", "passes over G29, which measures the bed", 6, bounds.Note},
		"it never gets there":  {"M190 S109\nG28\n", "waits for heat that does not come: the bed at", 1, bounds.Block},
		"it never cools there": {"M190 R10\nG28\n", "waits for heat that does not come", 1, bounds.Block},
		"halted":               {start + "G1 X5\nM112\nG1 X6\n", "the printer halts: Printer halted", 7, bounds.Block},
		"its own reports":      {start + "M155 S0\nM154 S0.000001\nG4 S600\nM155 S0.000001\nG4 S600\nG1 X5\nM104 S0\nM140 S0\n", "", 0, ""},
		"a tuning that fails":  {start + "M303 E0 S999\n", "PID Autotune failed", 6, bounds.Warn},
		"a slow cable":         {fine, "lines come faster than the cable", 7, bounds.Warn},
	} {
		p := vesper()
		if strings.Contains(name, "gets there") {
			weak := learned(simprinter.Config{Bed: simprinter.Heater{Power: 90, Capacity: 640, Element: 90, Coupling: 18, Loss: 1.35, SensorLag: time.Second, Noise: 0.03, Quantum: 0.05, Max: 120, KP: 0.3, KI: 0.006, Functional: 10}, Ambient: 20})
			p.Heaters = weak
		}
		r := play(t, p, c.text)
		if readings := heat.Sum(r.Heat[heat.Bed]).Count; math.Abs(float64(readings)-r.Took.Seconds()) > 3 {
			t.Errorf("%s: %d reports in %s", name, readings, r.Took)
		}
		if c.want == "" {
			if len(r.Problems) > 0 {
				t.Errorf("%s: %v", name, r.Problems)
			}
			continue
		}
		i := slices.IndexFunc(r.Problems, func(f toolpath.Finding) bool { return strings.Contains(f.Title, c.want) })
		if i < 0 {
			t.Errorf("%s: %v, want %q", name, r.Problems, c.want)
			continue
		}
		if f := r.Problems[i]; c.line > 0 && f.Line != c.line || f.Level != c.level {
			t.Errorf("%s: %v in line %d, want %v in line %d", name, f.Level, f.Line, c.level, c.line)
		}
		switch name {
		case "halted":
			if r.Commands != 6 {
				t.Errorf("halted: %d commands were carried out", r.Commands)
			}
		case "a slow cable":
			if r.Starved < time.Second {
				t.Errorf("a slow cable: it stood for %s", r.Starved)
			}
			p.Baud = 0
			if free := play(t, p, c.text); free.Starved != 0 || free.Took >= r.Took {
				t.Errorf("a cable of no rate: it stood for %s, took %s", free.Starved, free.Took)
			}
		case "it never gets there", "it never cools there":
			if r.Commands != 2 || r.Took > 5*time.Hour {
				t.Errorf("%s: %d commands in %s", name, r.Commands, r.Took)
			}
		}
	}
}

func TestTimesAreThoseOfTheMoves(t *testing.T) {
	part := samples.Parts()[0]
	var b bytes.Buffer
	if err := part.Write(&b); err != nil {
		t.Fatal(err)
	}
	for name, limits := range map[string]motion.Limits{"ordinary": motion.Ordinary, "jerk": {Feed: gcode.Position{150, 150, 8, 40}, Acceleration: gcode.Position{1500, 1200, 80, 3000}, Print: 800, Travel: 1200, Retract: 1000, Jerk: gcode.Position{10, 10, 0.3, 4}, Ring: 16, Told: true}} {
		p := vesper()
		p.Motion = limits
		r := play(t, p, b.String())
		facts, err := toolpath.Scan(&b, toolpath.Options{Limits: limits})
		if err != nil {
			t.Fatal(err)
		}
		part.Write(&b)
		moves := (r.States[1].Took - r.Homing).Seconds()
		if r.States[1].State != run.Running || math.Abs(moves/facts.Duration.Seconds()-1) > 0.01 {
			t.Errorf("%s: %+v, %s homing; its moves take %s", name, r.States, r.Homing, facts.Duration)
		}
		total := time.Duration(0)
		for _, s := range r.States {
			total += s.Took
		}
		if d := total - r.Took; d.Abs() > time.Second || r.Laying <= r.States[0].Took || r.Laying > r.Took/2 {
			t.Errorf("%s: %s in all its states of %s; plastic after %s", name, total, r.Took, r.Laying)
		}
		for h, spans := range r.Heat {
			if n := int(r.Took / r.Step); len(spans) < n-2 || len(spans) > 2400 {
				t.Errorf("%s: %d spans of %s for the %s", name, len(spans), r.Step, h)
			}
		}
	}
}

// TestAnythingIsRehearsed lets seeds write files of what printers know and what they do
// not: whatever they hold, a rehearsal comes to its end, or to that of its context.
func TestAnythingIsRehearsed(t *testing.T) {
	codes := strings.Fields("G0 G1 G1 G1 G2 G3 G4 G5 G10 G11 G17 G18 G19 G20 G21 G28 G29 G90 G91 G92 M0 M82 M83 M84 M104 M105 M106 M108 M109 M112 M114 M118 M140 M155 M154 M190 M201 M203 M204 M205 M207 M208 M220 M221 M301 M303 M400 M410 M500 M503 M566 M999 T0 T1 T9 SET_VELOCITY_LIMIT X5 ; \x00 \xff%")
	numbers := strings.Fields("0 1 -1 5 10 0.001 -0.5 100 230 300 1e9 --5 +3 . 99999 -99999 nan 0x10 1.2.3")
	numbers = append(numbers, "", " ")
	for seed := range uint64(80) {
		rng := rand.New(rand.NewPCG(seed, 7))
		var text strings.Builder
		for range 120 {
			text.WriteString(codes[rng.IntN(len(codes))])
			for range rng.IntN(5) {
				fmt.Fprintf(&text, "%s%c%s", []string{" ", "", "  ", "\t"}[rng.IntN(4)], "XYZEFSRIJKPQT"[rng.IntN(13)], numbers[rng.IntN(len(numbers))])
			}
			text.WriteString([]string{"\n", "\r\n", "\n\n"}[rng.IntN(3)])
		}
		facts, err := toolpath.Scan(strings.NewReader(text.String()), toolpath.Options{Limits: motion.Ordinary})
		if err != nil { // the shelf refuses it; the stand-in must bear it all the same
			facts = toolpath.Summary{}
		}
		ctx, cancel := context.WithTimeout(context.Background(), 150*time.Millisecond)
		ended := make(chan struct{})
		go func() {
			defer close(ended)
			rehearsal.Play(ctx, strings.NewReader(text.String()), toolpath.File{Summary: facts}, vesper(), began, func(rehearsal.Progress) {})
		}()
		select {
		case <-ended:
		case <-time.After(20 * time.Second):
			t.Fatalf("seed %d does not end:\n%s", seed, text.String())
		}
		cancel()
	}
}

func TestTheGuardsLook(t *testing.T) {
	p := vesper()
	p.Heaters = learned(simprinter.Vesper())
	bed := p.Heaters[heat.Bed]
	bed.Experience.Ways.Slowest = make([]float64, 16)
	for i := range bed.Experience.Ways.Slowest {
		bed.Experience.Ways.Slowest[i] = 2 // K/s: six times faster than it is now
	}
	p.Heaters[heat.Bed] = bed
	r := play(t, p, start+"M104 S0\nM140 S0\n")
	if len(r.Alarms) == 0 || r.Alarms[0].Guard != heat.SlowRise || r.Alarms[0].Heater != heat.Bed || r.Alarms[0].Line != 2 || r.Alarms[0].After <= 0 {
		t.Errorf("%+v", r.Alarms)
	}
	if bed.Experience.Standings != nil {
		t.Error("the printer's own guards learned from it")
	}
	p.Heaters = learned(simprinter.Vesper())
	if r := play(t, p, start+"M104 S0\nM140 S0\n"); len(r.Alarms) > 0 {
		t.Errorf("a sound heater: %+v", r.Alarms)
	}
}
