package routine_test

import (
	"flag"
	"fmt"
	"maps"
	"math/rand/v2"
	"runtime"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"diathermon/internal/core/gcode"
	"diathermon/internal/core/heat"
	"diathermon/internal/core/routine"
	"diathermon/internal/simprinter"
)

var seeds = flag.Int("seeds", 6000, "how many seeds TestAnyRoutine tries")

// TestAnyRoutine lets a number decide a routine, its values, the printer's state, and who
// stops it, answers late or never, pulls the cable or resets the printer. The stand-in
// carries it out, and is looked at after every step: within what Check has found, and, when
// it has ended, as its routine names it.
func TestAnyRoutine(t *testing.T) {
	var next, valid, begun atomic.Int64
	ended := map[routine.State]int{}
	var mu sync.Mutex
	var wg sync.WaitGroup
	for range runtime.GOMAXPROCS(0) {
		wg.Go(func() {
			for {
				seed := next.Add(1) - 1
				if seed >= int64(*seeds) || t.Failed() {
					return
				}
				state, err := life(uint64(seed), &valid, &begun)
				if err != nil {
					t.Errorf("seed %d: %v", seed, err)
				}
				mu.Lock()
				ended[state]++
				mu.Unlock()
			}
		})
	}
	wg.Wait()
	t.Logf("%d seeds: %d routines were sound, %d were begun, ended %v", *seeds, valid.Load(), begun.Load(), ended)
	for _, s := range []routine.State{routine.Finished, routine.Stopped, routine.Broken} {
		if ended[s] < *seeds/50 {
			t.Errorf("only %d of %d were %s: the test tries too little", ended[s], *seeds, s)
		}
	}
}

// A writer makes up routines.
type writer struct {
	*rand.Rand
	strings.Builder
	loops, steps int
}

func (w *writer) pick(of ...string) string { return of[w.IntN(len(of))] }

func (w *writer) line(format string, args ...any) { fmt.Fprintf(w, format+"\n", args...) }

func (w *writer) temperature() string {
	if w.IntN(60) == 0 {
		return w.pick("nozzle0", "290", "t + 100")
	}
	return w.pick("t", "t - 20", "180", "nozzle0.limit - 80", "(t + 200) / 2", "t * 0.5")
}

func (w *writer) length() string {
	if w.IntN(40) == 0 {
		return w.pick("-far", "z", "far * far", "size.z + 1")
	}
	return w.pick("far", "far / 4", "2 * far", "10", "size.x - 100", "far * 2 + n")
}

func (w *writer) cond() string {
	return w.pick("homed", "held", "lit", "nozzle0 > t - 40", "nozzle0 is ready", "how is \"fast\"", "z < 20 and homed", "not lit or far > 5", "nozzle0.setpoint = 0", "h is nozzle0", "n > 3")
}

func (w *writer) block(depth int) {
	for range 1 + w.IntN(5) {
		w.step(depth)
	}
}

func (w *writer) step(depth int) {
	w.steps++
	switch n := w.IntN(24); {
	case n < 3:
		w.line("heat %s to %s", w.pick("nozzle0", "nozzle0", "nozzle0", "h"), w.temperature())
	case n == 3 && w.IntN(2) == 0:
		w.line("heat bed to %s", w.pick("60", "t / 3", "bed.limit"))
	case n < 4:
		w.line("cool %s", w.pick("all", "nozzle0", "h"))
	case n < 9:
		w.line("> %s", w.pick("G28", "G91", "G90", "G1 X{"+w.length()+"} F3000", "G1 Y{"+w.length()+"} Z{far / 2} F{50 * 60}", "G0 Z{far}", "G1 Z5 F600", "G1 Z-2", "G1 E{far} F200", "G1 X115 Y100 F6000", "M84", "M106 S128", "G4 P500", "G92 E0", "M117 trying", "M400", "G29"))
	case n < 11:
		w.line("lift %s", w.pick("far", "5 mm", "50 mm"))
	case n < 12:
		w.line("park")
	case n < 13:
		w.line("set %s to %s", w.pick("light", "\"part fan\""), w.pick("0", "100 %", "10 * n"))
	case n < 14:
		w.line("wait %s", w.pick("2 s", "1 min", "n * 2"))
	case n < 16:
		w.line("wait until %s at most %s%s", w.cond(), w.pick("20 s", "3 min", "10 s"), w.pick("", ", else stop", ", else go on"))
	case n < 18:
		w.line("ask \"Does it, at {nozzle0}?\" at most %s%s", w.pick("30 s", "2 min"), w.pick("", ", else \"Yes\"", ", else stop"))
		for _, answer := range []string{"Yes", "No"} {
			w.line("answer %q", answer)
			if depth > 0 {
				w.block(depth - 1)
			}
		}
		w.line("end")
	case n < 20 && depth > 0:
		w.line("if %s", w.cond())
		w.block(depth - 1)
		if w.IntN(2) == 0 {
			w.line("else")
			w.block(depth - 1)
		}
		w.line("end")
	case n < 22 && depth > 0:
		w.line("repeat %d times", 1+w.IntN(5))
		w.loops++
		w.block(depth - 1)
		w.loops--
		w.line("end")
	case n == 22 && w.loops > 0:
		w.line("leave")
	case n == 23 && depth < 2:
		w.line("%s", w.pick("stop \"enough\"", "done", `call "Part" with by = far / 5`, `call "Part" with by = 3, twice = lit`, "keep tuning", "bed is clear", "tune nozzle0 at 150, 3 cycles", "show \"{far} and {how}\""))
	default:
		w.line("> M400")
	}
}

func (w *writer) routine() string {
	w.line("language 1\nroutine \"Trial\"\nsafe %s%s%s%s", w.pick("heaters off", "heaters as before"), w.pick("", ", up 10 mm"), w.pick("", ", outputs off"), w.pick("", "", ", motors off"))
	w.line("take t: number °C 150..%s = 200", w.pick("220", "260", "nozzle0.limit"))
	w.line("take far: number mm %s = 6", w.pick("1..20", "5..50", "0..8"))
	w.line("take lit: yes/no = no\ntake how: choice \"fast\", \"slow\" = \"fast\"\ntake n: number 0..9 = 4\ntake h: heater nozzle0 = nozzle0")
	w.line("do")
	w.block(3)
	w.line("end")
	return w.String()
}

const part = "language 1\nroutine \"Part\"\nsafe heaters off\ntake by: number mm 0..10\ntake twice: yes/no = no\ndo\n> G91\n> G1 Z{by} F600\nif twice\n> G1 E{by} F300\nend\n> G90\nend\n"

// A table is a stand-in printer with somebody who carries out what a performance wants.
type table struct {
	*rand.Rand
	board   *simprinter.Board
	state   gcode.State
	line    int
	outputs map[string]float64
	placed  bool
	check   func() error
}

func (b *table) pass(d time.Duration) error {
	for d > 0 {
		step := min(d, 5*time.Second)
		d -= step
		b.board.Advance(b.board.Now() + step)
		if err := b.check(); err != nil {
			return err
		}
	}
	return nil
}

// say says a line and waits until the printer has taken it.
func (b *table) say(command string) error {
	b.board.Output()
	b.line++
	b.board.Receive(gcode.AppendNumbered(nil, b.line, []byte(command)))
	for begun := b.board.Now(); ; {
		if err := b.pass(20 * time.Millisecond); err != nil {
			return fmt.Errorf("%s: %w", command, err)
		}
		out := string(b.board.Output())
		if strings.Contains(out, "ok") {
			break
		}
		if strings.Contains(out, "Error") || b.board.Now()-begun > 30*time.Minute {
			return fmt.Errorf("%s: the printer says %q", command, out)
		}
	}
	var l gcode.Line
	if l.Parse([]byte(command)) == nil {
		b.state.Apply(&l)
	}
	b.placed = b.placed || command == "M114"
	return nil
}

// world is what is known of the printer.
func (b *table) world() routine.World {
	nozzle, bed := b.board.Temperatures()
	toNozzle, toBed := b.board.Setpoints()
	now := func(actual, setpoint float64) routine.HeaterNow {
		return routine.HeaterNow{Actual: actual, Setpoint: setpoint, Ready: setpoint > 0 && actual > setpoint-2 && actual < setpoint+2}
	}
	w := routine.World{
		Now: b.board.Now(), Homed: b.state.Homed, Placed: b.placed, Relative: b.state.Relative, RelativeExtruder: b.state.RelativeExtruder,
		Heaters: map[heat.Heater]routine.HeaterNow{heat.Nozzle: now(nozzle, toNozzle), heat.Bed: now(bed, toBed)},
	}
	w.At[0], w.At[1], w.At[2] = b.board.Place()
	w.To = [3]float64(b.state.At[:3])
	return w
}

// carryOut carries out one effect.
func (b *table) carryOut(e routine.Effect) error {
	lines := e.Lines
	switch e.Kind {
	case routine.Heat:
		lines = []string{heat.SetCommand(e.Heater, e.To)}
	case routine.HeatersOff:
		lines = []string{"M104 S0", "M140 S0", "M107"}
	case routine.Output:
		b.outputs[e.Output] = e.To
	case routine.Park:
		lines = append([]string{"G90", "G1 X5 Y225 F9000"}, lines...)
	}
	if e.Moves || e.Kind == routine.Park {
		lines = append(slices.Clone(lines), "M400")
	}
	for _, line := range lines {
		if err := b.say(line); err != nil {
			return err
		}
	}
	return nil
}

// life lets one number decide one performance.
func life(seed uint64, valid, begun *atomic.Int64) (routine.State, error) {
	rng := rand.New(rand.NewPCG(seed, 15))
	w := &writer{Rand: rng}
	source := w.routine()
	r, err := routine.Parse(source)
	if err != nil {
		return "", fmt.Errorf("it does not read what was written for it: %w\n%s", err, source)
	}
	texts := library(map[string]string{"Part": part})
	facts, err := r.Check(vesper, texts)
	if err != nil {
		return "", nil
	}
	valid.Add(1)
	b := &table{Rand: rng, board: simprinter.NewBoard(simprinter.Config{Seed: int64(seed), ReceiveBuffer: 512}), outputs: map[string]float64{}}
	b.check = func() error { return nil }
	prepare := []string{"M105"}
	if rng.IntN(3) > 0 {
		prepare = append(prepare, "G28", fmt.Sprintf("G1 X%d Y%d Z%d F9000", rng.IntN(230), rng.IntN(230), 5+rng.IntN(230)), w.pick("G91", "G90"), w.pick("M82", "M83"), "M400")
	}
	if rng.IntN(3) == 0 {
		prepare = append(prepare, "M104 S160")
	}
	for _, line := range prepare {
		if err := b.say(line); err != nil {
			return "", err
		}
	}
	before := b.world()
	b.check = func() error {
		nozzle, bed := b.board.Setpoints()
		if nozzle > max(facts.Heats[heat.Nozzle], before.Heaters[heat.Nozzle].Setpoint) || bed > max(facts.Heats[heat.Bed], before.Heaters[heat.Bed].Setpoint) {
			return fmt.Errorf("setpoints %g and %g °C, and at most %v was found", nozzle, bed, facts.Heats)
		}
		x, y, z := b.board.Place()
		for i, v := range []float64{x, y, z} {
			within := before.Homed[i] || v >= -0.01 && v <= vesper.Size[i]+0.01 // at home it may go where it stands
			reach := routine.Span{Low: before.At[i], High: before.At[i]}
			if by := facts.By[i]; by != nil {
				reach = routine.Span{Low: reach.Low + by.Low, High: reach.High + by.High}
			}
			if to := facts.To[i]; to != nil {
				reach = routine.Span{Low: min(reach.Low, to.Low), High: max(reach.High, to.High)}
			}
			reach.High += r.Safe.Up
			if before.Homed[i] && !facts.Homes && (v < reach.Low-0.01 || v > reach.High+0.01) {
				within = false
			}
			if !within || v < -0.01 || v > vesper.Size[i]+0.01 {
				return fmt.Errorf("%c is %.2f; it began at %.2f, and %v, by %v was found", "XYZ"[i], v, before.At[i], facts.To[i], facts.By[i])
			}
		}
		return nil
	}
	values := map[string]string{}
	if rng.IntN(2) == 0 {
		values = map[string]string{"lit": "yes", "how": "slow"}
	}
	p, effects, err := routine.Begin(r, vesper, texts, values, before)
	if err != nil {
		return "", fmt.Errorf("it was checked, and cannot be begun: %w", err)
	}
	begun.Add(1)
	patient := rng.IntN(2) == 0 // nobody ends it from outside
	outside := false
	switched := map[string]bool{}
	for steps := 0; !p.State.Over(); steps++ {
		if steps > 5000 {
			return p.State, fmt.Errorf("it does not come to an end: %s\n%s", p.State, source)
		}
		if len(effects) > 0 {
			e := effects[0]
			effects = effects[1:]
			if e.Kind == routine.Output {
				switched[e.Output] = true
			}
			if e.Kind == routine.Shown {
				continue
			}
			err := b.carryOut(e)
			if err != nil {
				return p.State, fmt.Errorf("%w\n%s", err, source)
			}
			if !patient && p.State != routine.Leaving && rng.IntN(60) == 0 {
				effects = append(effects, p.Failed(b.world(), e.Number, "the printer did not take it")...)
				continue
			}
			if !patient && rng.IntN(30) == 0 { // what was under way is answered too late
				effects = append(effects, p.Stop(b.world(), "somebody")...)
			}
			effects = append(effects, p.Done(b.world(), e.Number, nil)...)
			continue
		}
		if err := b.pass(time.Duration(1+rng.IntN(8)) * time.Second / 2); err != nil {
			return p.State, fmt.Errorf("%w\n%s", err, source)
		}
		switch n := rng.IntN(100); {
		case n < 30 && p.Question != nil:
			q := p.Question
			answered, err := p.Answer(b.world(), q.Number, q.Answers[rng.IntN(len(q.Answers))], "Mira")
			if err != nil {
				return p.State, err
			}
			effects = append(effects, answered...)
		case patient:
		case n < 33:
			effects = append(effects, p.Stop(b.world(), "somebody")...)
		case n < 35:
			effects = append(effects, p.Cut(b.world(), "the cable was pulled", true)...)
			if err := b.pass(time.Duration(rng.IntN(300)) * time.Second); err != nil {
				return p.State, err
			}
			effects = append(effects, p.Back(b.world())...)
			outside = true
		case n < 37:
			b.board.Reset()
			b.line, b.state, b.placed = 0, gcode.State{}, false
			effects = append(effects, p.Cut(b.world(), "it was reset", false)...)
			outside = true
		}
		effects = append(effects, p.Tick(b.world())...)
	}
	if len(effects) > 0 && slices.ContainsFunc(effects, func(e routine.Effect) bool { return e.Kind != routine.Shown }) {
		return p.State, fmt.Errorf("it is over, and wants %v", effects)
	}
	return p.State, safely(b, r, p, before, switched, outside, source)
}

// safely says how a printer is not as a routine that has ended names it.
func safely(b *table, r *routine.Routine, p *routine.Performance, before routine.World, switched map[string]bool, outside bool, source string) error {
	at := b.world()
	if err := b.pass(time.Minute); err != nil {
		return err
	}
	if after := b.world(); after.At != at.At {
		return fmt.Errorf("it is over, and goes on from %v to %v\n%s", at.At, after.At, source)
	}
	if !outside && (b.state.Relative != before.Relative || b.state.RelativeExtruder != before.RelativeExtruder) {
		return fmt.Errorf("it leaves other modes behind\n%s", source)
	}
	if p.State == routine.Finished {
		return nil
	}
	nozzle, bed := b.board.Setpoints()
	most := map[heat.Heater]float64{}
	if !r.Safe.HeatersOff {
		maps.Copy(most, map[heat.Heater]float64{heat.Nozzle: before.Heaters[heat.Nozzle].Setpoint, heat.Bed: before.Heaters[heat.Bed].Setpoint})
	}
	if nozzle > most[heat.Nozzle] || bed > most[heat.Bed] {
		return fmt.Errorf("%s, and the setpoints are %g and %g °C; safe is %s\n%s", p.State, nozzle, bed, r.Safe, source)
	}
	for name := range switched {
		if r.Safe.OutputsOff && b.outputs[name] != 0 {
			return fmt.Errorf("%s, and %s is at %g\n%s", p.State, name, b.outputs[name], source)
		}
	}
	if r.Safe.MotorsOff && b.state.Homed != [3]bool{} {
		return fmt.Errorf("%s, and the motors are on\n%s", p.State, source)
	}
	return nil
}
