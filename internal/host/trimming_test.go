package host_test

import (
	"fmt"
	"slices"
	"strings"
	"testing"
	"testing/synctest"
	"time"

	"diathermon/internal/core/heat"
	"diathermon/internal/core/run"
	"diathermon/internal/core/trim"
	"diathermon/internal/host"
	"diathermon/internal/host/printing"
	"diathermon/internal/samples"
	"diathermon/internal/simprinter"
)

// givenAhead is a file whose setpoint and fan are given anew in the middle, so many lines
// behind the move that is slow, at which a test changes the run.
func givenAhead(lines int) text {
	var b strings.Builder
	b.WriteString("M140 S60\nM104 S210\nM190 S60\nM109 S210\nG28\nG90\nM83\nG1 Z0.2 F600\nG1 X10 Y10 F6000\nM106 S200\n")
	b.WriteString("G1 X200 E8 F400\n") // half a minute
	for i := range 60 {
		if i == lines {
			b.WriteString("M104 S205\nM106 S255\n")
		}
		fmt.Fprintf(&b, "G1 X%d Y%d E0.3 F1800\n", 100+20*(i%2), 20+i)
	}
	b.WriteString("M104 S0\nM140 S0\nM107\n")
	return text(b.String())
}

// What a person changes holds for every line that has not been said, also for those that are
// read ahead, and nothing is ever given that neither the file nor the change has.
func TestAChangeHoldsForLinesThatAreReadAhead(t *testing.T) {
	change := func(r *rig, tr trim.Trim) {
		t.Helper()
		if _, err := r.Run.Trim(r.t.Context(), "", func(trim.Trim) trim.Trim { return tr }, "Ada"); err != nil {
			r.t.Fatal(err)
		}
	}
	colder := trim.Trim{Heaters: map[heat.Heater]float64{heat.Nozzle: -20}, Numbers: trim.Numbers{FanMost: 40}}
	for _, ahead := range []int{0, 1, 3, 10, 20, 31, 40} {
		for name, c := range map[string]struct {
			meddle      func(*rig)
			nozzle, fan string // all that may be said from the change on: setpoints of the nozzle, levels of the fan; the last is where it ends
		}{
			"colder":               {func(r *rig) { change(r, colder) }, "190 185", "102"},
			"colder, and back":     {func(r *rig) { change(r, colder); change(r, trim.Trim{}) }, "190 185 210 205", "102 200 255"},
			"back, later":          {func(r *rig) { change(r, colder); time.Sleep(4 * time.Second); change(r, trim.Trim{}) }, "190 185 210 205", "102 200 255"},
			"another host goes on": {func(r *rig) { change(r, colder); r.another() }, "190 185", "102"},
		} {
			t.Run(fmt.Sprintf("%s, %d lines ahead", name, ahead), func(t *testing.T) {
				synctest.Test(t, func(t *testing.T) {
					r := ordered(t, givenAhead(ahead), printing.Order{})
					r.until(time.Hour, func(b host.Bench) bool { return r.at("M106 S200") >= 0 })
					time.Sleep(2 * time.Second)
					from := len(r.board.executed())
					c.meddle(r)
					r.untilState(time.Hour, run.Finished)
					var nozzle, fan []string
					for _, e := range r.board.executed()[from:] {
						words := strings.Fields(e.Line)
						level := strings.TrimPrefix(words[len(words)-1], "S")
						switch {
						case words[0] == "M104" && level != "0":
							nozzle = append(nozzle, level)
						case words[0] == "M106":
							fan = append(fan, level)
						}
					}
					for what, of := range map[string]struct {
						got  []string
						want string
					}{"nozzle": {nozzle, c.nozzle}, "fan": {fan, c.fan}} {
						may := strings.Fields(of.want)
						for _, level := range of.got {
							if !slices.Contains(may, level) {
								t.Errorf("the %s was given %v, and neither file nor wish has %s", what, of.got, level)
							}
						}
						if len(of.got) == 0 || of.got[len(of.got)-1] != may[len(may)-1] {
							t.Errorf("the %s was given %v, and is to end at %s", what, of.got, may[len(may)-1])
						}
					}
				})
			})
		}
	}
}

// The first layer's own setpoint ends with it, whatever was drawn before at another height.
func TestAFirstLayerEndsWhereTheSecondBegins(t *testing.T) {
	for _, purge := range []float64{0.1, 0.25, 0.3, 0.6} {
		t.Run(fmt.Sprintf("behind a purge line at %g mm", purge), func(t *testing.T) {
			synctest.Test(t, func(t *testing.T) {
				var b strings.Builder
				fmt.Fprintf(&b, "M104 S205\nM109 S205\nG28\nM83\nG1 X3 Y20 Z%g F6000\nG1 Y120 E8 F1200\nG1 X3.4\nG1 Y20 E8\n", purge)
				for layer := range 4 {
					fmt.Fprintf(&b, "G1 Z%.2f F600\n", 0.2*float64(layer+1))
					for y := range 12 {
						fmt.Fprintf(&b, "G1 X%d Y%d E0.8 F3000\n", 80+30*(y%2), 60+2*y)
					}
				}
				b.WriteString("M104 S0\n")
				r := ordered(t, text(b.String()), printing.Order{Trim: trim.Trim{First: map[heat.Heater]float64{heat.Nozzle: 10}}})
				r.untilState(time.Hour, run.Finished)
				back := r.at("M104 T0 S205")
				if last, second := r.at("G1 X110 Y82 E0.8 F3000"), r.at("G1 Z0.40 F600"); back < last || back > second+1 || back < 0 {
					t.Errorf("it is given back at line %d; the first layer ends at %d, the second begins at %d", back, last, second)
				}
			})
		})
	}
}

// A change at the very beginning of a part is told against what its file has.
func TestAChangeWhileTheHeadIsHotIsToldAgainstTheFile(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		r := ordered(t, samples.Coupon(6), printing.Order{})
		r.until(time.Hour, func(b host.Bench) bool { return b.Run != nil && b.Run.State == run.Running })
		more := func(k float64) {
			if _, err := r.Run.Trim(t.Context(), "", func(trim.Trim) trim.Trim { return trim.Trim{Heaters: map[heat.Heater]float64{heat.Nozzle: k}} }, "Ada"); err != nil {
				t.Fatal(err)
			}
		}
		for _, k := range []float64{5, -5, 10, 0, 7, 0} { // faster than the printer takes any of it
			more(k)
		}
		time.Sleep(time.Minute)
		nozzle := r.setpoint()
		if want := r.files.file.Setpoints[heat.Nozzle]; nozzle != want {
			t.Errorf("the nozzle is set to %g, and the file has %g", nozzle, want)
		}
	})
}

// Of a held run heat and fan are changed as it is resumed.
func TestAHeldRunsHeatIsChangedAsItIsResumed(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		r := ordered(t, samples.Coupon(6), printing.Order{})
		r.until(time.Hour, drawing)
		r.Run.Hold(t.Context(), "")
		r.until(time.Minute, parkedUp)
		from := len(r.board.executed())
		if _, err := r.Run.Trim(t.Context(), "", func(trim.Trim) trim.Trim { return trim.Trim{Heaters: map[heat.Heater]float64{heat.Nozzle: 6}} }, "Ada"); err != nil {
			t.Fatal(err)
		}
		time.Sleep(10 * time.Second)
		for _, e := range r.board.executed()[from:] {
			if strings.HasPrefix(e.Line, "M104") {
				t.Errorf("while it is held %q is said", e.Line)
			}
		}
		r.Run.Resume(t.Context(), "")
		r.until(time.Hour, func(b host.Bench) bool { return b.Run.State == run.Running })
		time.Sleep(10 * time.Second)
		nozzle := r.setpoint()
		if want := r.files.file.Setpoints[heat.Nozzle] + 6; nozzle != want {
			t.Errorf("the nozzle is set to %g, want %g", nozzle, want)
		}
	})
}

// A command that asks for a person, and that the printer does not know, holds the run before
// anything more of the file is said, in whatever words the printer says so.
func TestAPauseThatThePrinterDoesNotKnowHoldsTheRun(t *testing.T) {
	for _, words := range []string{"unknown=quoted", "unknown=plain", "unknown=comment", "unknown=code", "unknown=unsupported", "unknown=error", "unknown=quoted,early"} {
		t.Run(words, func(t *testing.T) {
			synctest.Test(t, func(t *testing.T) {
				file := strings.Replace(string(givenAhead(20)), "M106 S255\n", "M106 S255\nM600\n", 1)
				r := spoken(t, text(file), words)
				b := r.untilState(time.Hour, run.Held)
				if !strings.Contains(b.Run.Reason, "M600, which the printer does not know") {
					t.Errorf("it is held because %s", b.Run.Reason)
				}
				r.until(time.Minute, parkedUp)
				if at, behind := r.at("M600"), r.at("G1 X100 Y40 E0.3 F1800"); at < 0 || behind >= 0 && !strings.Contains(words, "early") {
					t.Errorf("M600 is line %d, and what follows it %d", at, behind)
				}
				r.Run.Resume(t.Context(), "")
				r.untilState(time.Hour, run.Finished)
			})
		})
	}
}

// spoken runs a part on a printer with other words.
func spoken(t *testing.T, part written, dialect string) *rig {
	t.Helper()
	config := simprinter.Vesper()
	config.Record, config.Dialect = true, simprinter.MustDialect(dialect)
	r := &rig{t: t, files: shelfOf(t, part), board: newStandIn(config), begun: time.Now(), journals: t.TempDir()}
	r.arrive()
	r.until(time.Minute, isLive)
	if _, err := r.Run.Start(t.Context(), printing.Order{File: "coupon.gcode"}); err != nil {
		t.Fatal(err)
	}
	return r
}

// A printer that refuses a line of the file and goes on has laid a part without it: the run is
// held.
func TestARefusedLineHoldsTheRun(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		r := ordered(t, samples.Coupon(6), printing.Order{})
		r.until(time.Hour, drawing)
		r.cable.Load().say("!! Move out of range: 231.000 12.000 0.200")
		b := r.untilState(time.Minute, run.Held)
		if !strings.Contains(b.Run.Reason, "Move out of range") {
			t.Errorf("it is held because %s", b.Run.Reason)
		}
	})
}
