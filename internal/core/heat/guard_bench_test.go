package heat_test

import (
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
				inTime, late := 0, 0
				each(printers, func(seed uint64) func() {
					_, _, above, found := broken(quiet{b}, seed, later(rough()), c.fault, c.when, 30*time.Minute, true)
					return func() {
						switch {
						case above >= 40:
							late++
						case found:
							inTime++
						}
					}
				})
				b.ReportMetric(100*float64(inTime)/printers, "in-time-%")
				b.ReportMetric(100*float64(late)/printers, "too-late-%")
			}
		})
	}
}
