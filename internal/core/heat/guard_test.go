package heat_test

import (
	"math/rand/v2"
	"strings"
	"testing"
	"time"

	"diathermon/internal/core/heat"
	"diathermon/internal/simprinter"
)

// watched is a rig with a guard for each heater.
type watched struct {
	*rig
	guards map[heat.Heater]*heat.Guard
	alarms []heat.Alarm
	at     []time.Duration
}

func newWatched(c simprinter.Config) *watched {
	w := &watched{rig: newRig(c), guards: map[heat.Heater]*heat.Guard{
		heat.Nozzle: {Heater: heat.Nozzle, Limit: 285}, heat.Bed: {Heater: heat.Bed, Limit: 110},
	}}
	w.each = func(r heat.Reading) {
		found := w.guards[r.Heater].Note(w.now, r, w.learned[r.Heater].Model(), heat.Conditions{Fan: w.Fan, Flow: w.asked})
		for _, a := range found {
			w.alarms, w.at = append(w.alarms, a), append(w.at, w.now)
		}
	}
	return w
}

// print lets an hour of ordinary printing pass: warming up, drawing with changes
// of fan and flow, another temperature, cooling.
func (w *watched) print(rng *rand.Rand) {
	w.Ambient = 12 + 18*rng.Float64()
	nozzle, bed := 190+60*rng.Float64(), 45+45*rng.Float64()
	w.Set(nozzle, bed)
	w.pass(time.Duration(6+rng.IntN(8)) * time.Minute)
	for range 12 {
		w.Fan, w.Flow = float64(rng.IntN(3))/2, 8*rng.Float64()
		w.asked = w.Flow
		if rng.IntN(6) == 0 {
			nozzle += 10*rng.Float64() - 5
			w.Set(nozzle, bed)
		}
		w.pass(time.Duration(20+rng.IntN(280)) * time.Second)
	}
	w.Fan, w.Flow, w.asked = 0, 0, 0
	w.Set(0, 0)
	w.pass(time.Duration(5+rng.IntN(20)) * time.Minute)
}

// falseAlarms prints for so many hours on each of some printers.
func falseAlarms(t testing.TB, printers uint64, hours int) (alarms int) {
	for seed := range printers {
		c, rng := drawn(seed + 1000)
		w := newWatched(c)
		for range hours {
			w.print(rng)
		}
		for i, a := range w.alarms {
			alarms++
			t.Logf("printer %d, after %s: %s: %s", seed, w.at[i], a.Guard, a.Text)
		}
	}
	return alarms
}

func TestOrdinaryPrintingRaisesNoAlarm(t *testing.T) {
	if n := falseAlarms(t, 8, 3); n > 0 {
		t.Errorf("%d false alarms in 24 hours", n)
	}
}

// faults are what can go wrong with a heater, when it does, and the guards that
// must find it within so long.
var faults = []struct {
	name    string
	fault   simprinter.HeaterFault
	warming bool // while it warms up; otherwise while it holds
	off     bool // while it is off
	guards  []heat.GuardName
	within  time.Duration
}{
	{"a heater without current, warming", simprinter.HeaterFault{Kind: simprinter.Dead}, true, false, []heat.GuardName{heat.NoRise}, 2 * time.Minute},
	{"a heater without current, holding", simprinter.HeaterFault{Kind: simprinter.Dead}, false, false, []heat.GuardName{heat.NoRise, heat.Falling}, 8 * time.Minute},
	{"a switch that is stuck, holding", simprinter.HeaterFault{Kind: simprinter.Stuck}, false, false, []heat.GuardName{heat.Runaway, heat.TooHot}, 3 * time.Minute},
	{"a switch that is stuck, drawing", simprinter.HeaterFault{Kind: simprinter.Stuck}, false, false, []heat.GuardName{heat.Runaway, heat.TooHot}, 4 * time.Minute},
	{"a switch that is stuck, off", simprinter.HeaterFault{Kind: simprinter.Stuck}, false, true, []heat.GuardName{heat.Runaway}, time.Minute},
	{"a sensor that has slipped", simprinter.HeaterFault{Kind: simprinter.Loose, Amount: 0.7}, false, false, []heat.GuardName{heat.Jump, heat.Falling, heat.NoRise}, time.Minute},
	{"a sensor unplugged", simprinter.HeaterFault{Kind: simprinter.Unplugged}, false, false, []heat.GuardName{heat.Sensor}, 5 * time.Second},
	{"a sensor shorted", simprinter.HeaterFault{Kind: simprinter.Shorted}, true, false, []heat.GuardName{heat.Sensor}, 5 * time.Second},
}

// found lets each fault happen on some printers and returns how long each took to
// be found, in seconds; missed ones are errors.
func found(t testing.TB, printers uint64) map[string][]float64 {
	took := map[string][]float64{}
	for _, f := range faults {
		for seed := range printers {
			c, rng := drawn(seed + 5000)
			w := newWatched(c)
			if seed%2 == 0 { // half of them have never printed
				w.print(rng)
				w.pass(time.Hour)
			}
			bed := rng.IntN(2) == 0
			w.alarms = nil
			if !f.off {
				w.Set(200+40*rng.Float64(), 60+30*rng.Float64())
				if f.warming {
					w.pass(time.Duration(8+rng.IntN(10)) * time.Second)
				} else {
					w.pass(15 * time.Minute)
				}
				if strings.HasSuffix(f.name, "drawing") { // the fan and the filament take away what is too much
					w.Fan, w.Flow, w.asked = 1, 6, 6
					w.pass(5 * time.Minute)
				}
			} else {
				w.pass(5 * time.Minute)
			}
			if len(w.alarms) > 0 {
				t.Errorf("%s: printer %d: %+v before anything happened", f.name, seed, w.alarms)
			}
			w.Break(bed, f.fault)
			begun := w.now
			for w.now < begun+f.within && len(w.alarms) == 0 {
				w.pass(time.Second)
			}
			if len(w.alarms) == 0 {
				t.Errorf("%s: printer %d: not found on the bed (%v) within %s: %+v", f.name, seed, bed, f.within, w.last)
				continue
			}
			right := false
			for _, g := range f.guards {
				right = right || w.alarms[0].Guard == g
			}
			if !right {
				t.Errorf("%s: printer %d: it was taken for %s: %s", f.name, seed, w.alarms[0].Guard, w.alarms[0].Text)
			}
			took[f.name] = append(took[f.name], (w.now - begun).Seconds())
		}
	}
	return took
}

func TestEveryFaultIsFound(t *testing.T) { found(t, 4) }

func TestAStuckSwitchWhoseHeatIsTakenAwayIsFound(t *testing.T) {
	w := newWatched(simprinter.Vesper())
	w.Set(235, 75)
	w.pass(15 * time.Minute)
	w.Fan, w.Flow, w.asked = 1, 4, 4 // full duty is not much more than that takes
	w.pass(20 * time.Minute)
	before := w.last[heat.Nozzle]
	w.Break(false, simprinter.HeaterFault{Kind: simprinter.Stuck})
	for begun := w.now; len(w.alarms) == 0 && w.now < begun+5*time.Minute; {
		w.pass(time.Second)
	}
	if len(w.alarms) != 1 || w.alarms[0].Guard != heat.Runaway || w.last[heat.Nozzle].Actual > 285 {
		t.Errorf("from %.0f °C and %.0f %% duty it came to %.0f °C: %+v", before.Actual, 100*before.Duty, w.last[heat.Nozzle].Actual, w.alarms)
	}
}

func TestAModelDoesNotLearnFromAFault(t *testing.T) {
	for _, f := range []simprinter.HeaterFault{{Kind: simprinter.Dead}, {Kind: simprinter.Stuck}} {
		c, rng := drawn(7)
		w := newWatched(c)
		w.print(rng)
		w.pass(time.Hour)
		before := w.learned[heat.Bed].Model()
		if f.Kind == simprinter.Dead {
			w.Set(0, 80)
		}
		w.Break(true, f)
		w.pass(4 * time.Minute)
		if after := w.learned[heat.Bed].Model(); after.Rise < 0.9*before.Rise || after.Rise > 1.1*before.Rise {
			t.Errorf("with fault %d it learned a rise of %.3f K/s, before it was %.3f", f.Kind, after.Rise, before.Rise)
		}
		w.Break(true, simprinter.HeaterFault{Kind: simprinter.Weak, Amount: 0.4}) // another heater, for good
		w.Set(0, 60)
		w.pass(time.Hour)
		w.Set(0, 0)
		w.pass(2 * time.Hour)
		w.Set(0, 60)
		w.pass(time.Hour)
		if after := w.learned[heat.Bed].Model(); after.Rise > 0.75*before.Rise {
			t.Errorf("an hour of another heater after fault %d left the rise at %.3f K/s of %.3f", f.Kind, after.Rise, before.Rise)
		}
	}
}

// BenchmarkGuards measures how long each fault goes unnoticed, over 200 printers,
// and counts false alarms in 1,000 hours of ordinary printing.
func BenchmarkGuards(b *testing.B) {
	for b.Loop() {
		for name, seconds := range found(b, 200) {
			sum, most := 0.0, 0.0
			for _, s := range seconds {
				sum, most = sum+s, max(most, s)
			}
			name = strings.NewReplacer(" ", "-", ",", "").Replace(name)
			b.ReportMetric(sum/float64(len(seconds)), name+"-mean-s")
			b.ReportMetric(most, name+"-most-s")
		}
		b.ReportMetric(float64(falseAlarms(b, 50, 20)), "false-in-1000-h")
	}
}

func TestHeatersInUseStayOnAndOthersAreTurnedOff(t *testing.T) {
	l := heat.Leash{After: 30 * time.Minute}
	at := func(minute int, on, inUse bool) (warn, off bool) {
		return l.Look(time.Duration(minute)*time.Minute, on, inUse)
	}
	for minute := range 600 {
		if warn, off := at(minute, true, true); warn || off {
			t.Fatalf("in use for %d minutes: warned %v, off %v", minute, warn, off)
		}
	}
	warnedAt, offAt := 0, 0
	for minute := 600; offAt == 0 && minute < 700; minute++ {
		warn, off := at(minute, true, false)
		if warn {
			warnedAt = minute
		}
		if off {
			offAt = minute
		}
	}
	if warnedAt != 625 || offAt != 630 {
		t.Errorf("warned after %d minutes and off after %d, want 25 and 30", warnedAt-600, offAt-600)
	}
	if warn, off := at(800, false, false); warn || off {
		t.Error("what is off is turned off")
	}
}

// What a guard may do by itself, as it is promised; the mildest thing that helps.
func TestWhatGuardsDoByThemselves(t *testing.T) {
	for g, want := range map[heat.GuardName]heat.Action{
		heat.NoRise: heat.CoolOff, heat.Falling: heat.HoldRun, heat.TooHot: heat.HaltAll, heat.Runaway: heat.HaltAll,
		heat.Jump: heat.HoldRun, heat.Sensor: heat.CoolOff, heat.Silence: heat.Tell, heat.Unused: heat.CoolOff,
	} {
		if got := heat.ActionOf(g); got != want {
			t.Errorf("%s: %s, want %s", g, got, want)
		}
	}
}
