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

// rig is a plant with a learner for each of its heaters.
type rig struct {
	*simprinter.Plant
	now     time.Duration
	asked   float64 // flow that the file asks for
	learned map[heat.Heater]*heat.Learner
	last    map[heat.Heater]heat.Reading
	doubt   bool                                   // whether filament flows, so that the nozzle is not learned from
	each    func(at time.Duration, r heat.Reading) // besides
}

func newRig(c simprinter.Config) *rig {
	return &rig{Plant: simprinter.NewPlant(c), learned: map[heat.Heater]*heat.Learner{heat.Nozzle: {}, heat.Bed: {}}, last: map[heat.Heater]heat.Reading{}}
}

// pass lets time pass, with a report each second, or as the house's reports come.
func (r *rig) pass(d time.Duration) {
	for end := r.now + d; r.now < end; {
		r.now += time.Second
		for i, line := range r.Hear() {
			for _, reading := range heat.ParseReport(line) {
				now := r.now + time.Duration(i)*time.Millisecond
				if !r.doubt || reading.Heater != heat.Nozzle {
					r.learned[reading.Heater].Note(now, reading, heat.Conditions{Fan: r.Fan, Flow: r.asked})
				}
				r.last[reading.Heater] = reading
				if r.each != nil {
					r.each(now, reading)
				}
			}
		}
	}
}

// drawn is a printer whose heaters nobody has seen before.
func drawn(seed uint64) (simprinter.Config, *rand.Rand) {
	rng := rand.New(rand.NewPCG(seed, 4))
	about := func(v, spread float64) float64 { return v * (1 + spread*(2*rng.Float64()-1)) }
	c := simprinter.Vesper()
	c.Seed = int64(seed)
	for _, h := range []*simprinter.Heater{&c.Nozzle, &c.Bed} {
		h.Power, h.Capacity, h.Element = about(h.Power, 0.2), about(h.Capacity, 0.3), about(h.Element, 0.3)
		h.Coupling, h.Loss, h.Draught = about(h.Coupling, 0.3), about(h.Loss, 0.3), about(h.Draught, 0.3)
		h.SensorLag = time.Duration(about(float64(h.SensorLag), 0.4))
		h.Noise = about(h.Noise, 0.5)
	}
	n := &c.Nozzle // which can do what is asked of it: 250 °C with the fan on and 8 mm³/s
	n.Power = max(n.Power, 1.3*235*(n.Loss+n.Draught+8*0.0022))
	return c, rng
}

// forecastErrors predicts warm-ups of printers that were seen two warm-ups long,
// at a quarter of the way, and returns how wrong each time left was, as a share.
func forecastErrors(t testing.TB, printers uint64) []float64 {
	var wrong []float64
	for seed := range printers {
		c, rng := drawn(seed)
		r := newRig(c)
		for range 2 {
			r.Ambient = 12 + 18*rng.Float64()
			r.Set(190+60*rng.Float64(), 50+40*rng.Float64())
			r.pass(25 * time.Minute)
			r.Set(0, 0)
			r.pass(40 * time.Minute)
		}
		r.now += time.Hour // the host was off
		r.Ambient = 8 + 24*rng.Float64()
		start := r.Ambient + rng.Float64()*25
		r.Start(start+rng.Float64()*60, start)
		target := map[heat.Heater]float64{heat.Nozzle: 190 + 60*rng.Float64(), heat.Bed: 50 + 40*rng.Float64()}
		r.Set(target[heat.Nozzle], target[heat.Bed])
		begun := r.now
		took := map[heat.Heater]time.Duration{}
		predicted := map[heat.Heater][]time.Duration{}
		for len(took) < 2 && r.now < begun+time.Hour {
			r.pass(time.Second)
			for h, l := range r.learned {
				if took[h] > 0 {
					continue
				}
				f, ok := l.Forecast(target[h], heat.Conditions{})
				if r.now > begun+5*time.Second && (!ok || f.Never) {
					t.Errorf("printer %d: no forecast for the %s: %+v", seed, h, l.Model())
				}
				predicted[h] = append(predicted[h], f.Ready)
				if r.last[h].Actual >= target[h]-heat.Ready {
					took[h] = r.now - begun
				}
			}
		}
		for h, d := range took {
			quarter := len(predicted[h]) / 4
			left := d - time.Duration(quarter+1)*time.Second
			wrong = append(wrong, math.Abs(float64(predicted[h][quarter]-left))/float64(left))
		}
	}
	slices.Sort(wrong)
	return wrong
}

func TestAWarmUpIsPredicted(t *testing.T) {
	wrong := forecastErrors(t, 20)
	if median, high := wrong[len(wrong)/2], wrong[len(wrong)*95/100]; median > 0.04 || high > 0.16 {
		t.Errorf("the time left was wrong by %.1f %% in the median, %.1f %% at the 95th percentile", 100*median, 100*high)
	}
}

// BenchmarkForecast measures how wrong predictions are, over 200 warm-ups of
// printers drawn at random.
func BenchmarkForecast(b *testing.B) {
	for b.Loop() {
		wrong := forecastErrors(b, 100)
		b.ReportMetric(100*wrong[len(wrong)/2], "median-%")
		b.ReportMetric(100*wrong[len(wrong)*95/100], "p95-%")
	}
}

func TestAModelIsFoundInTheReadings(t *testing.T) {
	r := newRig(simprinter.Vesper())
	for i := range 2 {
		r.Set(205+float64(i)*8, 60)
		r.pass(8 * time.Minute)
		r.Fan = 0.5
		r.pass(3 * time.Minute)
		r.Fan, r.Flow, r.asked = 1, 6, 6
		r.pass(4 * time.Minute)
		r.Flow, r.asked = 2, 2
		r.pass(4 * time.Minute)
		r.Fan, r.Flow, r.asked = 0, 0, 0
		r.Set(0, 0)
		r.pass(30 * time.Minute)
	}
	m := r.learned[heat.Nozzle].Model()
	for what, v := range map[string][3]float64{ // learned, what the stand-in was built with, share it may be off by
		"rise":     {m.Rise, 42 / 17.5, 0.05},
		"loss":     {m.Loss, 0.105 / 17.5, 0.1},
		"fan loss": {m.FanLoss, 0.05 / 17.5, 0.1},
		"melt":     {m.Melt, 0.0022 / 17.5, 0.1},
	} {
		if math.Abs(v[0]-v[1]) > v[2]*v[1] {
			t.Errorf("the nozzle's %s is %.5g, want %.5g", what, v[0], v[1])
		}
	}
	if !m.Known() || m.Dead < time.Second || m.Dead > 6*time.Second || m.RiseError > 0.05*m.Rise || math.Abs(m.Ambient-21.5) > 4 {
		t.Errorf("the nozzle's model is %+v", m)
	}
	bed := r.learned[heat.Bed].Model()
	if d, ok := bed.Cooling(60, 40); !ok || d < 5*time.Minute || d > 10*time.Minute {
		t.Errorf("from 60 to 40 °C the bed takes %s, %v", d, ok)
	}
	if _, ok := bed.Cooling(60, 15); ok {
		t.Error("the bed gets colder than the room")
	}
	if l := (&heat.Learner{}); l.Model().Known() {
		t.Error("a model is known of nothing")
	}
}

func TestACountdownNeverJumpsBack(t *testing.T) {
	var c heat.Countdown
	rng := rand.New(rand.NewPCG(1, 2))
	last := time.Hour
	for s := range 300 {
		now := time.Duration(s) * time.Second
		truth := 300*time.Second - now
		predicted := time.Duration(float64(truth)*(1+0.15*rng.NormFloat64()*float64(truth)/3e11)) + time.Second
		shown := c.Show(now, 60, predicted)
		if shown > last {
			t.Fatalf("at %s it went from %s to %s", now, last, shown)
		}
		if s > 270 && (shown-truth > 15*time.Second || truth-shown > 15*time.Second) {
			t.Errorf("with %s left it shows %s", truth, shown)
		}
		last = shown
	}
	if shown := c.Show(301*time.Second, 90, 2*time.Minute); shown != 2*time.Minute {
		t.Errorf("for another setpoint it shows %s", shown)
	}
}
