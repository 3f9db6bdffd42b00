package heat_test

import (
	"math"
	"math/rand/v2"
	"slices"
	"testing"
	"time"

	"diathermon/internal/core/heat"
	"diathermon/internal/simprinter"
)

func TestHowLongTheWarmUpOfAFileTakesIsKnown(t *testing.T) {
	for name, c := range map[string]struct {
		printer      func(uint64) simprinter.Config
		median, most float64
	}{"smooth": {smooth, 0.06, 0.3}, "rough": {rough(), 0.1, 0.7}, "no duty is told": {rough(simprinter.NoDuty), 0.06, 0.3}} {
		var off []float64
		for seed := range uint64(15) {
			r, rng := newRig(c.printer(seed+300)), rand.New(rand.NewPCG(seed, 6))
			r.pass(3 * time.Second)
			for range 2 {
				r.Set(190+60*rng.Float64(), 50+40*rng.Float64())
				r.pass(25 * time.Minute)
				r.Set(0, 0)
				r.pass(90 * time.Minute)
			}
			nozzle, bed := math.Round(190+60*rng.Float64()), math.Round(50+40*rng.Float64())
			left, ok := heat.Remaining([]heat.Step{ // the bed first, the nozzle waiting warm
				{Heater: heat.Bed, Setpoint: bed}, {Heater: heat.Nozzle, Setpoint: 150}, {Heater: heat.Bed, Setpoint: bed, Wait: true}, {Heater: heat.Nozzle, Setpoint: nozzle, Wait: true},
			}, r.learned)
			if !ok {
				t.Fatalf("%s, printer %d: nothing is foretold", name, seed)
			}
			begun := r.now
			r.Set(150, bed)
			for r.last[heat.Bed].Actual < bed-heat.Ready {
				r.pass(time.Second)
			}
			r.Set(nozzle, bed)
			for r.last[heat.Nozzle].Actual < nozzle-heat.Ready {
				r.pass(time.Second)
			}
			off = append(off, math.Abs(left.Seconds()/(r.now-begun).Seconds()-1))
		}
		slices.Sort(off)
		if off[len(off)/2] > c.median || off[len(off)-1] > c.most {
			t.Errorf("%s: the warm-up of a file was foretold wrong by %.0f %% in the median and %.0f %% at the most", name, 100*off[len(off)/2], 100*off[len(off)-1])
		}
	}
}

// What a run is told of a climb that goes on is what is told of the heater.
func TestOfAClimbARunIsToldWhatIsForecast(t *testing.T) {
	told := 0
	for seed := range uint64(6) {
		r := newRig(rough()(seed + 500))
		r.pass(3 * time.Second)
		for _, nozzle := range []float64{205, 220, 250} {
			r.Set(nozzle, 0)
			for range 400 {
				r.pass(time.Second)
				l := r.learned[heat.Nozzle]
				f, ok := l.Forecast(nozzle, r.conditions(heat.Nozzle))
				left, known := heat.Remaining([]heat.Step{{Heater: heat.Nozzle, Setpoint: nozzle, Wait: true}}, r.learned)
				if r.last[heat.Nozzle].Actual >= nozzle-heat.Ready {
					break
				}
				if !ok || !known || len(l.Climbs) == 0 || f.Never {
					continue
				}
				if told++; (left - f.Ready).Abs() > time.Second {
					t.Fatalf("printer %d, on the way to %g °C: a run is told %s, Heat says %s", seed, nozzle, left, f.Ready)
				}
			}
			r.Set(0, 0)
			r.pass(30 * time.Minute)
		}
	}
	if told < 300 {
		t.Errorf("they were compared %d times", told)
	}
}

func TestAFirmwareThatKeepsWholeDegreesHasTheSetpointThatItWasGiven(t *testing.T) {
	for _, c := range []struct {
		given, told float64
		same        bool
	}{{62.5, 62, true}, {62.5, 63, true}, {60, 60, true}, {60, 61, false}, {0.4, 0, false}, {0, 0, true}, {205, 0, false}} {
		if heat.SameSetpoint(c.told, c.given) != c.same {
			t.Errorf("%g for %g: want same %v", c.told, c.given, c.same)
		}
	}
	s, at := heat.Soak{Setpoint: 62.5, For: time.Minute}, time.Duration(0)
	for range 90 {
		at += time.Second
		if s.Note(at, heat.Reading{Heater: heat.Bed, Actual: 62.1, Setpoint: 62, HasSetpoint: true}, heat.Sheet{}).Done {
			return
		}
	}
	t.Error("it soaks for ever")
}
