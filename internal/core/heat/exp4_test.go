package heat_test

import (
	"fmt"
	"math/rand/v2"
	"os"
	"runtime"
	"sync"
	"testing"
	"time"

	"diathermon/internal/core/heat"
	"diathermon/internal/simprinter"
)

func TestSlow(t *testing.T) {
	if os.Getenv("SLOW") == "" {
		t.Skip()
	}
	when := holding
	over := 20 * time.Minute
	f := simprinter.HeaterFault{Kind: simprinter.Loose, Amount: 0.6, Over: over}
	switch os.Getenv("SLOW") {
	case "5":
		f.Amount, f.Over = 0.4, 5*time.Minute
	case "frozen":
		f = simprinter.HeaterFault{Kind: simprinter.Frozen}
	case "0.4":
		f.Amount, f.Over = 0.4, 0
	}
	var done sync.WaitGroup
	slots := make(chan bool, runtime.GOMAXPROCS(0))
	for seed := range uint64(40) {
		slots <- true
		done.Go(func() {
			defer func() { <-slots }()
			w := newWatched(rough()(seed + 3000))
			rng := rand.New(rand.NewPCG(seed, 78))
			w.live(rng)
			w.live(rng)
			w.pass(time.Hour)
			bed := rng.IntN(2) == 0
			n, b := 190+50*rng.Float64(), 50+40*rng.Float64()
			h, sp := heat.Nozzle, n
			if bed {
				h, sp = heat.Bed, b
			}
			w.Set(n, b)
			w.reach()
			w.pass(time.Duration(5+rng.IntN(10)) * time.Minute)
			w.alarms = nil
			w.Break(bed, f)
			_ = when
			best := 0.0
			known := false
			above := 0.0
			at := 0.0
			for begun := w.now; w.now < begun+30*time.Minute && len(w.alarms) == 0; {
				w.pass(time.Second)
				above = max(above, w.Hottest(bed)-sp)
				g := w.needs[h].Growth()
				known = known || g.Known
				if g.Share > best {
					best = g.Share
					at = above
				}
			}
			first := ""
			if len(w.alarms) > 0 {
				first = string(w.alarms[0].Guard)
			}
			if above >= 40 || first == "" {
				fmt.Printf("%d %s told %d switched %.1f above %.0f first %q known %v best %.2f@%.0f grew %.2f  %s\n", seed, h, w.cfg.Nozzle.Nature.Told, map[bool]float64{true: w.cfg.Bed.Nature.Switched, false: w.cfg.Nozzle.Nature.Switched}[bed], above, first, known, best, at, w.guards[h].Ways.Grew, w.needs[h].Debug())
			}
		})
	}
	done.Wait()
}

func tuned(p func(uint64) simprinter.Config) func(uint64) simprinter.Config {
	return func(s uint64) simprinter.Config { return p(s + 7000) }
}

func TestWhy(t *testing.T) {
	if os.Getenv("WHY") == "" {
		t.Skip()
	}
	for _, seed := range []uint64{20, 58, 62, 88, 53} {
		w, rng := newWatched(tuned(rough())(seed)), rand.New(rand.NewPCG(seed, 77))
		each := w.each
		var lines []string
		last := ""
		n := 0
		w.each = func(at time.Duration, r heat.Reading) {
			each(at, r)
			if r.Heater == heat.Nozzle {
				if d := w.needs[heat.Nozzle].Debug(); d != last {
					last = d
					n, b := w.Setpoints()
					lines = append(lines, fmt.Sprintf("%v %.1f/%.0f bed %.0f/%.0f %.2f duty %.2f fan %.2f flow %.1f %s", at, r.Actual, n, w.last[heat.Bed].Actual, b, w.last[heat.Bed].Duty, r.Duty, w.Fan, w.Flow, d))
				}
			}
			if len(w.alarms) > n {
				n = len(w.alarms)
				fmt.Println("seed", seed, w.alarms[n-1].Text, w.cfg.House)
				for _, l := range lines[max(len(lines)-10, 0):] {
					fmt.Println("   ", l)
				}
			}
		}
		for w.now < 10*time.Hour {
			w.live(rng)
		}
	}
}
