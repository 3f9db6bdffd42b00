package heat_test

import (
	"fmt"
	"math"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"
	"time"

	"diathermon/internal/core/heat"
	"diathermon/internal/simprinter"
)

// BenchmarkGuardsInOrdinaryLife counts what guards raise in a thousand hours of it, by
// what they would do, and on how many of a hundred printers something came near; then
// each feature of the rough house alone, two hundred hours of it.
func BenchmarkGuardsInOrdinaryLife(b *testing.B) {
	worlds := []struct {
		name     string
		printers int
		printer  func(uint64) simprinter.Config
	}{{"rough", 100, later(rough())}, {"smooth", 100, later(smooth)}}
	for _, f := range simprinter.Features() {
		worlds = append(worlds, struct {
			name     string
			printers int
			printer  func(uint64) simprinter.Config
		}{string(f), 20, later(rough(f))})
	}
	for _, world := range worlds {
		b.Run(world.name, func(b *testing.B) {
			for b.Loop() {
				did, near := map[heat.Action]int{}, 0
				lives(world.printers, 10*time.Hour, world.printer, func(seed uint64, w *watched) {
					for i, a := range w.alarms {
						did[a.Action]++
						b.Logf("printer %d, after %s, %s: %s: %s", seed, w.at[i], a.Action, a.Guard, a.Text)
					}
					came := false
					for _, g := range w.guards {
						for _, s := range g.Standings {
							came = came || s.Closest >= 0.7
						}
					}
					if came {
						near++
					}
				})
				for _, a := range heat.Actions() {
					b.ReportMetric(float64(did[a]), string(a))
				}
				b.ReportMetric(float64(near), "printers-near")
			}
		})
	}
}

// quiet is a benchmark that does not tell what was not found.
type quiet struct{ testing.TB }

func (quiet) Logf(string, ...any) {}

// later are printers that no threshold was chosen by.
func later(printer func(uint64) simprinter.Config) func(uint64) simprinter.Config {
	return func(seed uint64) simprinter.Config { return printer(seed + 100_000) }
}

// BenchmarkGuardsFindFaults measures how long each fault goes unnoticed, on printers
// that the guards know and on others.
func BenchmarkGuardsFindFaults(b *testing.B) {
	for name, printer := range map[string]func(uint64) simprinter.Config{"rough": later(rough()), "smooth": later(smooth)} {
		b.Run(name, func(b *testing.B) {
			for b.Loop() {
				for name, seconds := range found(b, 50, printer) {
					name = strings.NewReplacer(" ", "-", ",", "").Replace(name)
					slices.Sort(seconds)
					b.ReportMetric(seconds[len(seconds)/2], name+"-median-s")
					b.ReportMetric(seconds[len(seconds)-1], name+"-most-s")
				}
			}
		})
	}
}

// BenchmarkGuardsFindSensors measures on how many of fifty printers that the
// guards know a sensor that does not tell the truth is found before the heater is 40 K
// above its setpoint; where it is never found and never that hot it is none of either.
// Where no duty is told, a control that hides the slip hides it from everyone.
func BenchmarkGuardsFindSensors(b *testing.B) {
	slipped := func(share float64, over time.Duration) simprinter.HeaterFault {
		return simprinter.HeaterFault{Kind: simprinter.Loose, Amount: share, Over: over}
	}
	for _, c := range []struct {
		name  string
		fault simprinter.HeaterFault
		when  moment
	}{
		{"slips 25 % holding", slipped(0.25, 0), holding},
		{"slips 25 % drawing", slipped(0.25, 0), drawing},
		{"slips 40 % holding", slipped(0.4, 0), holding},
		{"slips 60 % holding", slipped(0.6, 0), holding},
		{"slips 95 % holding", slipped(0.95, 0), holding},
		{"slips 60 % warming", slipped(0.6, 0), warming},
		{"slips 90 % warming", slipped(0.9, 0), warming},
		{"out 80 % before", slipped(0.8, 0), before},
		{"out 95 % before", slipped(0.95, 0), before},
		{"slips 40 % in 5 min", slipped(0.4, 5*time.Minute), holding},
		{"slips 60 % in 20 min", slipped(0.6, 20*time.Minute), holding},
		{"frozen holding", simprinter.HeaterFault{Kind: simprinter.Frozen}, holding},
		{"frozen drawing", simprinter.HeaterFault{Kind: simprinter.Frozen}, drawing},
		{"frozen warming", simprinter.HeaterFault{Kind: simprinter.Frozen}, warming},
	} {
		b.Run(strings.ReplaceAll(c.name, " ", "-"), func(b *testing.B) {
			for b.Loop() {
				const printers = 50
				inTime, late, tell, inTimeTold, lateTold := 0, 0, 0, 0, 0
				each(printers, func(seed uint64) func() {
					tells := tellsDuty(later(rough())(seed))
					_, _, above, found := broken(quiet{b}, seed, later(rough()), c.fault, c.when, 30*time.Minute, true)
					return func() {
						if tells {
							tell++
						}
						switch {
						case above >= 40:
							if late++; tells {
								lateTold++
							}
						case found:
							if inTime++; tells {
								inTimeTold++
							}
						}
					}
				})
				b.ReportMetric(100*float64(inTime)/printers, "in-time-%")
				b.ReportMetric(100*float64(late)/printers, "too-late-%")
				b.ReportMetric(100*float64(inTimeTold)/float64(tell), "in-time-duty-told-%")
				b.ReportMetric(100*float64(lateTold)/float64(tell), "too-late-duty-told-%")
			}
		})
	}
}

// BenchmarkGuardsInAFirstWarmUp measures on how many of fifty printers that were never seen
// a sensor that is out of its place is found before the heater is 50 K above its setpoint,
// and on how many of those that are whole anything is said.
func BenchmarkGuardsInAFirstWarmUp(b *testing.B) {
	for name, printer := range map[string]func(uint64) simprinter.Config{"rough": later(rough()), "smooth": later(smooth)} {
		for _, bed := range []bool{false, true} {
			for _, out := range []float64{0, 0.8, 0.9, 0.95} {
				h := map[bool]heat.Heater{false: heat.Nozzle, true: heat.Bed}[bed]
				b.Run(fmt.Sprintf("%s/%s-out-%.0f-%%", name, h, 100*out), func(b *testing.B) {
					for b.Loop() {
						firstly(b, 50, printer, bed, out)
					}
				})
			}
		}
	}
}

// firstly lets so many printers warm up for the first time, with the sensor of one heater by
// a share out of its place.
func firstly(b *testing.B, printers int, printer func(uint64) simprinter.Config, bed bool, out float64) {
	var seconds []float64
	inTime, off := 0, 0
	each(printers, func(seed uint64) func() {
		w, rng := newWatched(printer(seed)), rand.New(rand.NewPCG(seed, 5))
		w.Ambient = 12 + 18*rng.Float64()
		w.Start(w.Ambient, w.Ambient)
		w.pass(3 * time.Second)
		if out > 0 {
			w.Break(bed, simprinter.HeaterFault{Kind: simprinter.Loose, Amount: out})
		}
		nozzle, plate := 190+60*rng.Float64(), 50+40*rng.Float64()
		w.Set(nozzle, plate)
		setpoint := map[bool]float64{false: nozzle, true: plate}[bed]
		begun, found, above := w.now, 0.0, 0.0
		for w.now < begun+20*time.Minute && !w.acted() {
			w.pass(time.Second)
			if len(w.alarms) > 0 && found == 0 {
				found, above = (w.now - begun).Seconds(), w.Hottest(bed)-setpoint
			}
		}
		return func() {
			if found > 0 {
				if seconds = append(seconds, found); above < 50 {
					inTime++
				}
			}
			if w.acted() {
				off++
			}
		}
	})
	b.ReportMetric(float64(len(seconds)), "told")
	b.ReportMetric(float64(inTime), "told-in-time")
	b.ReportMetric(float64(off), "turned-off")
	if slices.Sort(seconds); len(seconds) > 0 {
		b.ReportMetric(seconds[len(seconds)/2], "median-s")
		b.ReportMetric(seconds[len(seconds)-1], "most-s")
	}
}

// levels are shares of what a guard calls wrong, at which it might raise its alarm.
var levels = []float64{0.3, 0.4, 0.5, 0.6, 0.7, 0.8, 0.9, 1}

// trade is what a guard would be if it raised its alarm at one of levels.
type trade struct {
	falses float64 // heaters of which it would have said something in 1,000 h of ordinary life
	delay  float64 // s, the median, until it finds its fault
}

// BenchmarkGuardsDelay measures how much sooner each guard would find what it is for if
// it claimed it at less, and how often ordinary life would come as near.
func BenchmarkGuardsDelay(b *testing.B) {
	cases := []struct {
		guard heat.GuardName
		fault simprinter.HeaterFault
		when  moment
	}{
		{heat.NoRise, simprinter.HeaterFault{Kind: simprinter.Dead}, before},
		{heat.SlowRise, simprinter.HeaterFault{Kind: simprinter.Loose, Amount: 0.9}, warming},
		{heat.Falling, simprinter.HeaterFault{Kind: simprinter.Dead}, drawing},
		{heat.Runaway, simprinter.HeaterFault{Kind: simprinter.Stuck}, holding},
		{heat.Jump, simprinter.HeaterFault{Kind: simprinter.Loose, Amount: 0.5}, holding},
		{heat.Frozen, simprinter.HeaterFault{Kind: simprinter.Frozen}, warming},
		{heat.Growing, simprinter.HeaterFault{Kind: simprinter.Loose, Amount: 0.6, Over: 20 * time.Minute}, holding},
	}
	worlds := map[string]map[heat.GuardName][]trade{}
	for name, printer := range map[string]func(uint64) simprinter.Config{"rough": later(rough()), "smooth": later(smooth)} {
		b.Run(name, func(b *testing.B) {
			for b.Loop() {
				const printers = 50
				trades := map[heat.GuardName][]trade{}
				hours, closest := 0.0, map[heat.GuardName][]float64{}
				lives(printers, 10*time.Hour, printer, func(_ uint64, w *watched) {
					hours += w.now.Hours()
					for _, g := range w.guards {
						for guard, s := range g.Standings {
							closest[guard] = append(closest[guard], s.Closest)
						}
					}
				})
				for _, c := range cases {
					delays := make([][]float64, len(levels))
					each(printers, func(seed uint64) func() {
						w, bed, _ := breaks(quiet{b}, seed, printer, c.fault, c.when, true)
						g := w.guards[map[bool]heat.Heater{false: heat.Nozzle, true: heat.Bed}[bed]]
						g.Standings[c.guard] = &heat.Standing{}
						var took [8]float64
						for begun := w.now; w.now < begun+30*time.Minute && g.Standings[c.guard].Closest < 1; {
							w.pass(time.Second)
							for i, level := range levels {
								if took[i] == 0 && g.Standings[c.guard].Closest >= level {
									took[i] = (w.now - begun).Seconds()
								}
							}
						}
						return func() {
							for i, s := range took {
								if s > 0 {
									delays[i] = append(delays[i], s)
								}
							}
						}
					})
					for i, level := range levels {
						t := trade{delay: math.NaN()}
						for _, near := range closest[c.guard] {
							if near >= level {
								t.falses += 1000 / hours
							}
						}
						if d := delays[i]; len(d) > 0 {
							slices.Sort(d)
							t.delay = d[len(d)/2]
						}
						trades[c.guard] = append(trades[c.guard], t)
					}
					last, half := trades[c.guard][len(levels)-1], trades[c.guard][2]
					b.ReportMetric(last.delay, string(c.guard)+"-s")
					b.ReportMetric(half.delay, string(c.guard)+"-at-half-s")
					b.ReportMetric(half.falses, string(c.guard)+"-at-half-false")
				}
				worlds[name] = trades
			}
		})
	}
	drawDelays(b, worlds)
}
