package heat_test

import (
	"math/rand/v2"
	"runtime"
	"slices"
	"sync"
	"testing"
	"time"

	"diathermon/internal/core/heat"
	"diathermon/internal/simprinter"
)

// watched is a rig with a guard for each heater.
type watched struct {
	*rig
	guards  map[heat.Heater]*heat.Guard
	needs   map[heat.Heater]*heat.NeedWatch
	alarms  []heat.Alarm
	at      []time.Duration
	stopped bool    // no filament seems to flow
	air     float64 // K that the air is warmer
	pace    float64 // mm³/s at which a run draws
}

func newWatched(c simprinter.Config) *watched {
	w := &watched{rig: newRig(c), guards: map[heat.Heater]*heat.Guard{
		heat.Nozzle: {Heater: heat.Nozzle, Limit: 285}, heat.Bed: {Heater: heat.Bed, Limit: 110},
	}, needs: map[heat.Heater]*heat.NeedWatch{heat.Nozzle: {}, heat.Bed: {}}}
	w.each = func(at time.Duration, r heat.Reading) {
		around := 0.0
		if r.Heater == heat.Nozzle {
			around = w.last[heat.Bed].Actual
		}
		w.needs[r.Heater].Note(at, r, w.conditions(r.Heater))
		w.guards[r.Heater].Growth = w.needs[r.Heater].Growth().Beside(r.Heater, at, w.needs)
		if flows := w.needs[r.Heater].Flow(); r.Heater == heat.Nozzle {
			if flows.Stopped && !w.stopped {
				w.alarms = append(w.alarms, heat.Alarm{Heater: r.Heater, Guard: heat.NoFlow, Action: heat.Tell, Text: "nothing flows"})
				w.at = append(w.at, w.now)
			}
			w.stopped = flows.Stopped
		}
		for _, a := range w.guards[r.Heater].Note(midnight.Add(at), at, r, around) {
			w.alarms, w.at = append(w.alarms, a), append(w.at, w.now)
		}
	}
	return w
}

// midnight is when every rig begins.
var midnight = time.Date(2026, 11, 1, 0, 0, 0, 0, time.UTC)

// reach waits for both setpoints, as a file does before it draws.
func (w *watched) reach() {
	n, b := w.Setpoints()
	for end := w.now + 40*time.Minute; w.now < end; {
		w.pass(5 * time.Second)
		if w.last[heat.Nozzle].Actual >= n-heat.Ready && w.last[heat.Bed].Actual >= b-heat.Ready {
			return
		}
	}
}

// live lets a stretch of ordinary life pass, some hours of it: a room of any kind,
// warming up, a first layer that is hotter, drawing with changes of fan, flow and
// setpoints, a change of filament, long holds, cooling, and starts while it is warm.
func (w *watched) live(rng *rand.Rand) {
	minutes := func(least, most int) { w.pass(time.Duration(least*60+rng.IntN((most-least)*60)) * time.Second) }
	w.Ambient = 12 + 20*rng.Float64()
	nozzle, bed := 190+60*rng.Float64(), 45+55*rng.Float64()
	switch rng.IntN(3) {
	case 0: // the bed first
		w.Set(0, bed)
		minutes(3, 12)
		w.Set(nozzle, bed)
	case 1: // waiting warm, as many files do
		w.Set(150, bed)
		minutes(3, 10)
		w.Set(nozzle, bed)
	default:
		w.Set(nozzle, bed)
	}
	w.reach()
	minutes(1, 6)
	w.Set(nozzle-5-5*rng.Float64(), bed-5*rng.Float64()) // after the first layer
	for range 8 + rng.IntN(10) {
		w.Fan, w.Flow = float64(rng.IntN(5))/4, 9*rng.Float64()
		w.asked = w.Flow
		switch n, b := w.Setpoints(); rng.IntN(14) {
		case 0: // a tower of temperatures
			w.Set(n+10*rng.Float64()-5, b)
		case 1: // filament is changed
			w.Flow, w.asked, w.Fan = 0, 0, 0
			w.Set(n+15*rng.Float64(), b)
			minutes(1, 4)
			w.Flow = 12
			w.pass(20 * time.Second)
			w.Flow = 0
			w.Set(n, b)
		case 2: // a hold with the nozzle cold
			w.Flow, w.asked, w.Fan = 0, 0, 0
			w.Set(0, b)
			minutes(5, 40)
			w.Set(n, b)
			w.reach()
		case 3: // small pieces: fan and flow come and go
			for range 20 {
				w.Fan, w.Flow = rng.Float64(), 9*rng.Float64()
				w.asked = w.Flow
				w.pass(time.Duration(3+rng.IntN(12)) * time.Second)
			}
		case 4: // a long hold at temperature
			w.Flow, w.asked = 0, 0
			minutes(10, 60)
		}
		w.pass(time.Duration(20+rng.IntN(580)) * time.Second)
	}
	w.Fan, w.Flow, w.asked = 0, 0, 0
	w.Set(0, 0)
	if rng.IntN(3) == 0 {
		minutes(1, 10)
	} else {
		minutes(20, 90)
	}
}

// each lets so many printers live, some at a time, and does what each hands over one
// after the other.
func each(printers int, live func(seed uint64) func()) {
	var done sync.WaitGroup
	var handing sync.Mutex
	slots := make(chan bool, runtime.GOMAXPROCS(0))
	for seed := range uint64(printers) {
		slots <- true
		done.Go(func() {
			lived := live(seed)
			handing.Lock()
			lived()
			handing.Unlock()
			<-slots
		})
	}
	done.Wait()
}

// lives lets so many hours of ordinary life pass on each of some printers, and hands
// each over when it has lived.
func lives(printers int, hours time.Duration, printer func(seed uint64) simprinter.Config, lived func(seed uint64, w *watched)) {
	each(printers, func(seed uint64) func() {
		w, rng := newWatched(printer(seed)), rand.New(rand.NewPCG(seed, 77))
		for w.now < hours {
			w.live(rng)
		}
		return func() { lived(seed, w) }
	})
}

// falseAlarms counts the alarms of ordinary life by what they would do.
func falseAlarms(t testing.TB, printers int, each time.Duration, printer func(seed uint64) simprinter.Config) map[heat.Action]int {
	alarms := map[heat.Action]int{}
	lives(printers, each, printer, func(seed uint64, w *watched) {
		for i, a := range w.alarms {
			alarms[a.Action]++
			t.Logf("printer %d, after %s, %s: %s: %s", seed, w.at[i], a.Action, a.Guard, a.Text)
		}
	})
	return alarms
}

// smooth is a printer whose heaters are built as a model would have them.
func smooth(seed uint64) simprinter.Config {
	c, _ := drawn(seed)
	return c
}

// rough is a printer whose heaters are not, with every feature or with some alone.
func rough(only ...simprinter.Feature) func(uint64) simprinter.Config {
	return func(seed uint64) simprinter.Config { return simprinter.Rough(seed, only...) }
}

func TestOrdinaryPrintingRaisesNoAlarm(t *testing.T) {
	for name, printer := range map[string]func(uint64) simprinter.Config{"smooth": smooth, "rough": rough()} {
		if n := falseAlarms(t, 8, 4*time.Hour, printer); len(n) > 0 {
			t.Errorf("%s: false alarms in 32 hours: %v", name, n)
		}
	}
}

// faults are what can go wrong with a heater, and when it does.
var faults = []struct {
	name   string
	fault  simprinter.HeaterFault
	when   moment
	guards []heat.GuardName
	within time.Duration
}{
	{"no current, warming", simprinter.HeaterFault{Kind: simprinter.Dead}, warming, []heat.GuardName{heat.NoRise, heat.SlowRise}, 5 * time.Minute},
	{"no current, from the start", simprinter.HeaterFault{Kind: simprinter.Dead}, before, []heat.GuardName{heat.NoRise, heat.SlowRise}, 5 * time.Minute},
	{"no current, holding", simprinter.HeaterFault{Kind: simprinter.Dead}, holding, []heat.GuardName{heat.NoRise, heat.Falling}, 20 * time.Minute},
	{"no current, drawing", simprinter.HeaterFault{Kind: simprinter.Dead}, drawing, []heat.GuardName{heat.NoRise, heat.Falling}, 20 * time.Minute},
	{"stuck switch, warming", simprinter.HeaterFault{Kind: simprinter.Stuck}, warming, []heat.GuardName{heat.Runaway, heat.TooHot}, 15 * time.Minute},
	{"stuck switch, holding", simprinter.HeaterFault{Kind: simprinter.Stuck}, holding, []heat.GuardName{heat.Runaway, heat.TooHot}, 10 * time.Minute},
	{"stuck switch, drawing", simprinter.HeaterFault{Kind: simprinter.Stuck}, drawing, []heat.GuardName{heat.Runaway, heat.TooHot}, 20 * time.Minute},
	{"stuck switch, off", simprinter.HeaterFault{Kind: simprinter.Stuck}, off, []heat.GuardName{heat.Runaway}, 3 * time.Minute},
	{"sensor unplugged", simprinter.HeaterFault{Kind: simprinter.Unplugged}, holding, []heat.GuardName{heat.Sensor}, 20 * time.Second},
	{"sensor shorted", simprinter.HeaterFault{Kind: simprinter.Shorted}, warming, []heat.GuardName{heat.Sensor}, 20 * time.Second},
}

// moment is when a fault begins.
type moment int

const (
	before  moment = iota // cold, before the heater is given a setpoint
	warming               // some seconds after
	holding
	drawing // with the fan on and filament flowing
	off     // after a print
)

// breaks lets a fault happen to one heater of a printer, known or not. It returns the
// printer just after, whether the heater is its bed, and the setpoint.
func breaks(t testing.TB, seed uint64, printer func(uint64) simprinter.Config, f simprinter.HeaterFault, when moment, known bool) (w *watched, bed bool, setpoint float64) {
	w = newWatched(printer(seed))
	rng := rand.New(rand.NewPCG(seed, 78))
	if known {
		w.live(rng)
		w.live(rng)
		w.pass(time.Hour)
	}
	bed = rng.IntN(2) == 0
	nozzleAt, bedAt := 190+50*rng.Float64(), 50+40*rng.Float64()
	if setpoint = nozzleAt; bed {
		setpoint = bedAt
	}
	w.alarms = nil
	if when == before {
		w.Break(bed, f)
	}
	if when != off {
		w.Set(nozzleAt, bedAt)
	}
	switch when {
	case warming:
		w.pass(time.Duration(8+rng.IntN(20)) * time.Second)
	case drawing, holding, off:
		w.Set(nozzleAt, bedAt)
		w.reach()
		w.pass(time.Duration(5+rng.IntN(10)) * time.Minute)
	}
	switch when {
	case drawing:
		w.Fan, w.Flow, w.asked = rng.Float64(), 5*rng.Float64(), 3
		w.pass(5 * time.Minute)
	case off:
		setpoint = 0
		w.Set(0, 0)
		w.pass(time.Duration(2+rng.IntN(40)) * time.Minute)
	}
	if len(w.alarms) > 0 {
		t.Logf("printer %d: %+v before anything happened", seed, w.alarms)
		w.alarms = nil
	}
	if when != before {
		w.Break(bed, f)
	}
	return w, bed, setpoint
}

// broken lets a fault happen to a heater of a printer, known or not, and returns how
// long it took to be found, what was found first, and how hot the heater was by then
// above its setpoint; found is false if it was not within so long.
func broken(t testing.TB, seed uint64, printer func(uint64) simprinter.Config, f simprinter.HeaterFault, when moment, within time.Duration, known bool) (took time.Duration, first heat.GuardName, above float64, found bool) {
	w, bed, setpoint := breaks(t, seed, printer, f, when, known)
	for begun := w.now; w.now < begun+within; {
		w.pass(time.Second)
		above = max(above, w.Hottest(bed)-setpoint)
		if len(w.alarms) > 0 {
			return w.now - begun, w.alarms[0].Guard, above, true
		}
	}
	t.Logf("printer %d, bed %v, known %v, %d: fault %+v was not found: %+v", seed, bed, known, when, f, w.last)
	return 0, "", above, false
}

// found lets each fault happen on some printers, known and unknown, and returns how
// long each took to be found, in seconds; missed ones are errors.
func found(t testing.TB, printers uint64, printer func(uint64) simprinter.Config) map[string][]float64 {
	took := map[string][]float64{}
	for _, f := range faults {
		for seed := range printers {
			for _, known := range []bool{false, true} {
				d, first, above, ok := broken(t, seed+5000, printer, f.fault, f.when, f.within, known)
				if !ok {
					t.Errorf("%s: not found within %s", f.name, f.within)
				} else if !slices.Contains(f.guards, first) {
					t.Logf("%s: printer %d (known %v) was taken for %s", f.name, seed+5000, known, first)
				}
				if above > 40 && f.when != off {
					t.Logf("%s: printer %d (known %v): %.0f K above its setpoint after %s, %s", f.name, seed+5000, known, above, d, first)
				}
				name := f.name + ", unknown"
				if known {
					name = f.name + ", known"
				}
				took[name] = append(took[name], d.Seconds())
			}
		}
	}
	return took
}

func TestEveryFaultIsFound(t *testing.T) {
	found(t, 1, smooth)
	found(t, 2, rough())
}

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
		w.live(rng)
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
