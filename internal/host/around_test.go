package host_test

import (
	"errors"
	"fmt"
	"os"
	"slices"
	"strings"
	"testing"
	"testing/synctest"
	"time"

	"diathermon/internal/core/bed"
	"diathermon/internal/core/heat"
	"diathermon/internal/core/routine"
	"diathermon/internal/core/run"
	"diathermon/internal/core/trim"
	"diathermon/internal/host"
	"diathermon/internal/host/printing"
	"diathermon/internal/samples"
	"diathermon/internal/simprinter"
)

// texts are the routines of these tests.
var texts = map[string]string{
	"Home":  "> G28\n> G1 X20 Y20 F6000\n",
	"Warm":  "heat bed to 40\nwait until bed > 35 at most 10 min\n",
	"Tidy":  "> M117 tidy\n",
	"Light": "> M117 light\n",
	"Fails": "> M117 fails\nstop \"the purge line is not clean\"\n",
	"Asks":  "ask \"Is the plate in?\" at most 1 min, else stop\n answer \"Yes\"\nend\n",
	"Long":  "wait 30 min\n",
	"Laid":  "bed is occupied\n",
}

func library(name string) (*routine.Routine, error) {
	steps, there := texts[name]
	if !there {
		return nil, fmt.Errorf("there is no routine %q", name)
	}
	return routine.Parse("language 1\nroutine \"" + name + "\"\nsafe heaters off\n\ndo\n" + steps + "end\n")
}

func withRoutines(c *host.Config) { c.Library = library }

func named(names ...string) *[]run.Performs {
	out := []run.Performs{}
	for _, n := range names {
		out = append(out, run.Performs{Routine: n})
	}
	return &out
}

// ordered runs a part as it is ordered.
func ordered(t *testing.T, part written, o printing.Order, change ...func(*host.Config)) *rig {
	t.Helper()
	config := simprinter.Vesper()
	config.Record = true
	r := &rig{t: t, change: append([]func(*host.Config){withRoutines}, change...), files: shelfOf(t, part), board: newStandIn(config), begun: time.Now(), journals: t.TempDir()}
	r.arrive()
	r.until(10*time.Second, isLive)
	o.File = "coupon.gcode"
	if _, err := r.Run.Start(t.Context(), o); err != nil {
		t.Fatal(err)
	}
	return r
}

// at is where a line was executed first, or -1.
func (r *rig) at(line string) int {
	return slices.IndexFunc(r.board.executed(), func(e simprinter.Executed) bool { return e.Line == line })
}

// first is the first line that a coupon's run alone says.
const firstOfFile = "M140 S60"

func TestRoutinesArePerformedAroundARun(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		r := ordered(t, samples.Coupon(3), printing.Order{Before: named("Home", "Warm"), After: named("Tidy", "Light")}, func(c *host.Config) {
			c.Usually = func() run.Around { return run.Around{Before: *named("Fails"), After: *named("Fails")} } // not this time
		})
		b := r.until(time.Minute, func(b host.Bench) bool { return b.Run != nil && b.Run.Reason != "" })
		if b.Run.State != run.Waiting || b.Run.Reason != "Home is performed first" || !slices.Equal(b.Run.May, []run.Act{run.MayStop}) {
			t.Errorf("while it is prepared it is %s: %s, and one may %v", b.Run.State, b.Run.Reason, b.Run.May)
		}
		r.untilState(2*time.Hour, run.Finished)
		r.until(time.Minute, func(b host.Bench) bool { return b.Routine.Routine == "Light" && b.Routine.State.Over() })
		var told []string
		for _, line := range []string{"M140 S40", firstOfFile, "M117 tidy", "M117 light"} {
			told = append(told, fmt.Sprint(r.at(line)))
			if len(told) > 1 && r.at(line) < 0 || r.at(line) < 0 {
				t.Errorf("%q was not said", line)
			}
		}
		if !(r.at("M140 S40") < r.at(firstOfFile) && r.at(firstOfFile) < r.at("M117 tidy") && r.at("M117 tidy") < r.at("M117 light")) {
			t.Errorf("their places are %v", told)
		}
		sameLines(t, r, samples.Coupon(3))
	})
}

// A run with a routine before it takes a warm-up over that goes on as it is started.
func TestAWarmUpIsTakenOver(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		config := simprinter.Vesper()
		config.Record = true
		r := &rig{t: t, change: []func(*host.Config){withRoutines}, files: shelfOf(t, samples.Coupon(3)), board: newStandIn(config), begun: time.Now(), journals: t.TempDir()}
		r.arrive()
		r.until(10*time.Second, isLive)
		if err := r.Heat.WarmUp(t.Context(), heat.WarmUp{Name: "PLA", Order: heat.AtOnce, Setpoints: map[heat.Heater]float64{heat.Bed: 60, heat.Nozzle: 205}}); err != nil {
			t.Fatal(err)
		}
		time.Sleep(20 * time.Second)
		if _, err := r.Run.Start(t.Context(), printing.Order{File: "coupon.gcode", Before: named("Home")}); err != nil {
			t.Fatal(err)
		}
		time.Sleep(time.Second)
		if nozzle := r.setpoint(); nozzle != 205 {
			t.Errorf("the nozzle's setpoint is %g as the run is prepared, and the warm-up had 205", nozzle)
		}
		r.untilState(2*time.Hour, run.Finished)
	})
}

// setpoint is what the printer's nozzle is set to, °C.
func (r *rig) setpoint() (nozzle float64) {
	r.board.do(func(b *simprinter.Board) { nozzle, _ = b.Setpoints() })
	return nozzle
}

// sameLines looks whether the printer has executed the lines of a part as they are, one
// after another, whatever else was said.
func sameLines(t *testing.T, r *rig, part samples.Part) {
	t.Helper()
	want := moves(t, part)
	var got []string
	for _, e := range r.board.executed() {
		if strings.HasPrefix(e.Line, "G1 ") && strings.Contains(e.Line, "E") {
			got = append(got, e.Line)
		}
	}
	if !slices.Equal(got, want) {
		t.Errorf("%d lines that lay plastic were executed, want %d, as they are in the file", len(got), len(want))
	}
}

func moves(t *testing.T, part samples.Part) (out []string) {
	t.Helper()
	var body strings.Builder
	if err := part.Write(&body); err != nil {
		t.Fatal(err)
	}
	for line := range strings.Lines(body.String()) {
		line, _, _ = strings.Cut(strings.TrimSpace(line), ";")
		if line = strings.TrimSpace(line); strings.HasPrefix(line, "G1 ") && strings.Contains(line, "E") {
			out = append(out, line)
		}
	}
	return out
}

// Whatever ends what comes before a run ends the run, of whose file nothing is said, with
// the heaters off.
func TestARunThatIsNotPreparedDoesNotBegin(t *testing.T) {
	for name, c := range map[string]struct {
		before string
		do     func(*rig)
		state  run.State
		reason string
	}{
		"it fails":                {"Fails", nil, run.Stopped, "Fails, which comes before it, was not done: stopped: the purge line is not clean"},
		"nobody answers":          {"Asks", nil, run.Stopped, "Asks, which comes before it, was not done"},
		"it is stopped":           {"Long", func(r *rig) { r.Run.Stop(r.t.Context(), "") }, run.Stopped, "stopped by hand"},
		"the routine is stopped":  {"Long", func(r *rig) { r.Routines.Stop(r.t.Context(), "", "Ada") }, run.Stopped, "stopped by Ada"},
		"it is halted":            {"Long", func(r *rig) { r.Halt(r.t.Context()) }, run.Stopped, "halted"},
		"the cable is pulled":     {"Long", func(r *rig) { r.pull() }, run.Broken, "the port is gone"},
		"the printer starts anew": {"Long", func(r *rig) { r.board.reset() }, run.Broken, ""},
		"something lies there":    {"Laid", nil, run.Stopped, "the bed is occupied"},
	} {
		t.Run(name, func(t *testing.T) {
			synctest.Test(t, func(t *testing.T) {
				r := ordered(t, samples.Coupon(3), printing.Order{Before: named("Warm", c.before), After: named("Tidy")})
				if c.do != nil {
					r.until(20*time.Minute, func(b host.Bench) bool { return b.Routine.Routine == c.before })
					c.do(r)
				}
				b := r.untilState(20*time.Minute, c.state)
				if !strings.Contains(b.Run.Reason, c.reason) {
					t.Errorf("%s", b.Run.Reason)
				}
				if r.cable.Load() == nil {
					r.plugIn()
				}
				time.Sleep(2 * time.Minute)
				for _, line := range []string{firstOfFile, "M117 tidy"} {
					if r.at(line) >= 0 {
						t.Errorf("%q was said", line)
					}
				}
				if b, err := r.Bench(t.Context()); err != nil || len(b.Heat.Heaters) > 1 && b.Heat.Heaters[1].Setpoint != 0 {
					t.Errorf("the bed is heated to %g °C, %v", b.Heat.Heaters[1].Setpoint, err)
				}
				if err := r.Free(t.Context()); err != nil && name != "it is halted" { // a printer that is halted must be reset first
					t.Error(err)
				}
			})
		})
	}
}

// A host that ends while a run is prepared neither loses it in silence nor goes on with it.
func TestAHostThatEndsWhileARunIsPrepared(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		r := ordered(t, samples.Coupon(3), printing.Order{Before: named("Long")})
		r.until(time.Minute, func(b host.Bench) bool { return b.Routine.Routine == "Long" && !b.Routine.State.Over() })
		cut := t.TempDir() // as it is on the disk in that moment
		if err := os.CopyFS(cut, os.DirFS(r.journals)); err != nil {
			t.Fatal(err)
		}
		r.leave()
		r.journals = cut
		r.arrive()
		r.until(time.Minute, isLive)
		time.Sleep(time.Minute)
		r.kept.mu.Lock()
		defer r.kept.mu.Unlock()
		if n := len(r.kept.runs); n == 0 || r.kept.runs[n-1].State != run.Broken || r.kept.runs[n-1].Reason != "the host went away while Long is performed first" {
			t.Errorf("it is kept as %+v", r.kept.runs)
		}
		if b, err := r.Bench(t.Context()); err != nil || b.Run != nil && !b.Run.State.Final() || r.at(firstOfFile) >= 0 {
			t.Errorf("%+v, %v", b.Run, err)
		}
	})
}

// What a run is to differ by holds from its first line on, also where routines come before
// that and have set the printer otherwise.
func TestAPreparedRunDiffersAsItIsTo(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		r := ordered(t, samples.Coupon(3), printing.Order{Before: named("Warm", "Home"), Trim: trim.Trim{Heaters: map[heat.Heater]float64{heat.Bed: 5}, Numbers: trim.Numbers{Flow: 50}}})
		r.untilState(2*time.Hour, run.Finished)
		if r.at("M140 S65") < 0 || r.at(firstOfFile) >= 0 || r.at("M140 S40") < 0 {
			t.Errorf("the bed was given 40, 65 and 60 °C at %d, %d, %d", r.at("M140 S40"), r.at("M140 S65"), r.at(firstOfFile))
		}
	})
}

func TestRoutinesThatCannotBePerformedRefuseTheStart(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		r := ordered(t, samples.Coupon(3), printing.Order{})
		r.untilState(2*time.Hour, run.Finished)
		r.Bed.Say(t.Context(), bed.Clear, "Ada", time.Time{})
		for want, o := range map[string]printing.Order{
			`no routine "Purge"`: {After: named("Purge")},
			"Tidy takes no x":    {Before: &[]run.Performs{{Routine: "Tidy", Values: map[string]string{"x": "1"}}}},
			"up to 8":            {Before: named(strings.Fields(strings.Repeat("Tidy ", 9))...)},
		} {
			o.File = "coupon.gcode"
			if _, err := r.Run.Start(t.Context(), o); !errors.Is(err, printing.ErrAround) || !strings.Contains(err.Error(), want) {
				t.Errorf("%v, want %q", err, want)
			}
		}
	})
}
