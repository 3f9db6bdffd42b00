package heat_test

import (
	"math/rand/v2"
	"testing"
	"time"

	"diathermon/internal/core/heat"
	"diathermon/internal/simprinter"
)

const oddSheet = "a cold sheet is laid on the hot bed"

// odd are situations that are not every day's and in which nothing is wrong.
var odd = []struct {
	name string
	pass func(w *watched, rng *rand.Rand)
}{
	{"a chamber warms while the bed is off", func(w *watched, rng *rand.Rand) {
		w.Set(0, 0)
		w.pass(time.Duration(rng.IntN(30)) * time.Minute)
		w.airs(20+25*rng.Float64(), time.Duration(5+rng.IntN(15))*time.Minute)
		w.pass(time.Duration(20+rng.IntN(60)) * time.Minute)
		if rng.IntN(2) == 0 {
			w.prints(rng, 30*time.Minute, nil)
			w.Set(0, 0)
		}
		w.airs(0, 10*time.Minute)
		w.pass(30 * time.Minute)
	}},
	{"the firmware begins to tell whole degrees", func(w *watched, rng *rand.Rand) {
		w.TellWhole(true)
		w.prints(rng, time.Duration(1+rng.IntN(4))*time.Hour, nil)
		w.TellWhole(rng.IntN(2) == 0)
	}},
	{"a window is opened and shut", func(w *watched, rng *rand.Rand) {
		w.prints(rng, 2*time.Hour, func() {
			w.Weathers(simprinter.Weather{Wind: 0.2 + 0.5*rng.Float64(), Shelter: 0.6 * rng.Float64()})
			w.blows(rng, -5-12*rng.Float64(), time.Duration(3+rng.IntN(12))*time.Minute)
			w.drawn(rng, time.Duration(5+rng.IntN(40))*time.Minute)
			w.Weathers(simprinter.Weather{Air: w.air})
			w.blows(rng, 0, time.Duration(3+rng.IntN(12))*time.Minute)
		})
	}},
	{"draughts of many minutes", func(w *watched, rng *rand.Rand) {
		w.prints(rng, 2*time.Hour, func() {
			for range 3 {
				w.Weathers(simprinter.Weather{Wind: 0.1 + 0.7*rng.Float64(), Shelter: 0.8 * rng.Float64()})
				w.drawn(rng, time.Duration(2+rng.IntN(18))*time.Minute)
				w.Weathers(simprinter.Weather{})
				w.drawn(rng, time.Duration(2+rng.IntN(18))*time.Minute)
			}
		})
	}},
	{"the mains sag and come back", func(w *watched, rng *rand.Rand) {
		w.prints(rng, 2*time.Hour, func() {
			w.Weathers(simprinter.Weather{Brown: 0.04 + 0.12*rng.Float64()})
			w.drawn(rng, time.Duration(2+rng.IntN(50))*time.Minute)
			w.Weathers(simprinter.Weather{})
		})
	}},
	{"silences and bursts", func(w *watched, rng *rand.Rand) {
		n, b := 190+50*rng.Float64(), 45+50*rng.Float64()
		w.Set(n, b)
		for end := w.now + 40*time.Minute; w.now < end; {
			w.Mute(time.Duration(4+rng.IntN(28)) * time.Second)
			w.pass(time.Duration(10+rng.IntN(90)) * time.Second)
			if rng.IntN(12) == 0 {
				w.Set(0, 0)
				w.pass(time.Duration(rng.IntN(600)) * time.Second)
				w.Set(n, b)
			}
		}
		w.Set(0, 0)
		w.pass(20 * time.Minute)
	}},
	{oddSheet, func(w *watched, rng *rand.Rand) {
		w.prints(rng, 90*time.Minute, func() {
			w.Flow, w.asked = 0, 0
			w.Lay()
			w.pass(10 * time.Minute)
		})
	}},
	{"the room cools over night", func(w *watched, rng *rand.Rand) {
		w.prints(rng, 7*time.Hour, func() { w.blows(rng, -8-10*rng.Float64(), 4*time.Hour) })
		w.Weathers(simprinter.Weather{})
	}},
	{"a lid is put on and a fan heater switched on", func(w *watched, rng *rand.Rand) {
		w.prints(rng, 3*time.Hour, func() {
			w.blows(rng, 10+12*rng.Float64(), time.Duration(5+rng.IntN(25))*time.Minute)
			w.drawn(rng, time.Duration(10+rng.IntN(50))*time.Minute)
			w.blows(rng, 0, time.Duration(1+rng.IntN(20))*time.Minute)
		})
	}},
}

// airs lets the air become so many K warmer, or cooler, with nothing printed.
func (w *watched) airs(goal float64, over time.Duration) {
	begun := w.air
	for i := range 60 {
		w.air = begun + (goal-begun)*float64(i+1)/60
		w.Weathers(simprinter.Weather{Air: w.air})
		w.pass(over / 60)
	}
}

// blows lets the air change while a run draws.
func (w *watched) blows(rng *rand.Rand, goal float64, over time.Duration) {
	begun, weather := w.air, w.Weather()
	for i := range 20 {
		w.air = begun + (goal-begun)*float64(i+1)/20
		weather.Air = w.air
		w.Weathers(weather)
		w.drawn(rng, over/20)
	}
}

// prints lets a run draw for so long, with something in its midst.
func (w *watched) prints(rng *rand.Rand, during time.Duration, midst func()) {
	w.Set(190+50*rng.Float64(), 45+50*rng.Float64())
	w.reach()
	w.pass(time.Duration(1+rng.IntN(8)) * time.Minute)
	begun := w.now
	w.pace = 1 + 8*rng.Float64()
	w.drawn(rng, during/3)
	if midst != nil {
		midst()
	}
	w.drawn(rng, max(during-(w.now-begun), during/4))
	w.Fan, w.Flow, w.asked = 0, 0, 0
	w.Weathers(simprinter.Weather{})
	w.air = 0
	w.Set(0, 0)
	w.pass(time.Duration(5+rng.IntN(40)) * time.Minute)
}

// drawn lets a run draw for so long.
func (w *watched) drawn(rng *rand.Rand, during time.Duration) {
	for end := w.now + during; w.now < end; {
		if rng.IntN(12) == 0 {
			w.Fan = float64(rng.IntN(5)) / 4
		}
		for range 10 {
			w.Flow = max(w.pace*(1+0.4*rng.NormFloat64()), 0)
			if rng.IntN(10) == 0 {
				w.Flow = 0
			}
			if w.asked = w.Flow; w.now < end {
				w.pass(time.Second)
			}
		}
	}
}

// BenchmarkGuardsInOddLife counts what guards that have lived raise where something odd
// happens and nothing is wrong.
func BenchmarkGuardsInOddLife(b *testing.B) {
	const printers, hours = 24, 12
	for _, o := range odd {
		b.Run(o.name, func(b *testing.B) {
			for b.Loop() {
				did := oddly(b, printers, hours*time.Hour, later(rough()), o.pass)
				for _, a := range heat.Actions() {
					b.ReportMetric(float64(did[a]), string(a))
				}
				b.ReportMetric(printers*hours, "h")
			}
		})
	}
}

// oddly lets printers that have lived pass through something odd, for so long each, and
// counts what guards raise by what they do.
func oddly(
	t testing.TB, printers int, during time.Duration,
	printer func(uint64) simprinter.Config, pass func(*watched, *rand.Rand),
) map[heat.Action]int {
	did := map[heat.Action]int{}
	each(printers, func(seed uint64) func() {
		w, rng := newWatched(printer(seed)), rand.New(rand.NewPCG(seed, 91))
		for range 3 {
			w.live(rng)
		}
		w.earns()
		for begun := w.now; w.now < begun+during; {
			pass(w, rng)
		}
		return func() {
			for i, a := range w.alarms {
				did[a.Action]++
				t.Logf("printer %d, after %s, %s: %s: %s", seed, w.at[i], a.Action, a.Guard, a.Text)
			}
		}
	})
	return did
}

// earns gives every guard all rights that it can have, and forgets what was raised before.
func (w *watched) earns() {
	w.alarms, w.at = nil, nil
	for _, g := range w.guards {
		for _, s := range g.Standings {
			s.Quiet = max(s.Quiet, 60*3600)
		}
	}
}

func TestNothingActsWhereAnOddThingHappens(t *testing.T) {
	for _, o := range odd {
		if o.name == oddSheet { // which is held now and then
			continue
		}
		did := oddly(t, 2, 3*time.Hour, rough(), o.pass)
		if acted := did[heat.HoldRun] + did[heat.CoolOff] + did[heat.HaltAll]; acted > 0 {
			t.Errorf("%s: guards acted %d times: %v", o.name, acted, did)
		}
	}
}
