package heat_test

import (
	"math"
	"math/rand/v2"
	"slices"
	"strings"
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
	scales  map[heat.Heater]*heat.DutyScale
	doubt   bool                                   // whether filament flows, so that the nozzle is not learned from
	each    func(at time.Duration, r heat.Reading) // besides
}

func newRig(c simprinter.Config) *rig {
	return &rig{Plant: simprinter.NewPlant(c), learned: map[heat.Heater]*heat.Learner{heat.Nozzle: {}, heat.Bed: {}}, last: map[heat.Heater]heat.Reading{}, scales: map[heat.Heater]*heat.DutyScale{heat.Nozzle: {}, heat.Bed: {}}}
}

// pass lets time pass, with a report each second, or as the house's reports come.
func (r *rig) pass(d time.Duration) {
	for end := r.now + d; r.now < end; {
		r.now += time.Second
		for i, line := range r.Hear() {
			for _, reading := range heat.ParseReport(line) {
				now := r.now + time.Duration(i)*time.Millisecond
				r.scales[reading.Heater].Note(&reading)
				if !r.doubt || reading.Heater != heat.Nozzle {
					l := r.learned[reading.Heater]
					if l.Note(now, reading, heat.Conditions{Fan: r.Fan, Flow: r.asked}); l.Unfitted() != nil {
						l.Fit(heat.ShapeOf(l.Unfitted()))
					}
				}
				r.last[reading.Heater] = reading
				if r.each != nil {
					r.each(now, reading)
				}
			}
		}
	}
}

// conditions are what a host knows of them.
func (r *rig) conditions(h heat.Heater) heat.Conditions {
	if h == heat.Bed {
		return heat.Conditions{Fan: r.Fan, Beside: r.last[heat.Nozzle].Duty}
	}
	return heat.Conditions{Fan: r.Fan, Flow: r.asked, Beside: r.last[heat.Bed].Duty}
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

// foretold is one forecast, made at a quarter of the way, and what then happened.
type foretold struct {
	heater               heat.Heater
	left                 float64 // s
	ready, soonest, last float64 // s; ready 0: there was no forecast
	never                bool    // at any time of this warm-up it was said not to come there
}

func (f foretold) off() float64 { return math.Abs(f.ready-f.left) / f.left }

// forecasts predicts warm-ups of printers that were seen so many warm-ups long.
func forecasts(printers uint64, printer func(uint64) simprinter.Config, seen int) (out []foretold) {
	for seed := range printers {
		r, rng := newRig(printer(seed)), rand.New(rand.NewPCG(seed, 5))
		r.pass(3 * time.Second)
		for range seen {
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
		r.pass(3 * time.Second)
		r.Set(190+60*rng.Float64(), 50+40*rng.Float64())
		begun := r.now
		took := map[heat.Heater]float64{}
		said := map[heat.Heater][]foretold{}
		never := map[heat.Heater]bool{}
		for len(took) < 2 && r.now < begun+2*time.Hour {
			r.pass(time.Second)
			for h, l := range r.learned {
				last := r.last[h]
				if took[h] > 0 || last.Setpoint == 0 {
					continue
				}
				f, ok := l.Forecast(last.Setpoint, heat.Conditions{})
				now := foretold{heater: h, ready: f.Ready.Seconds(), soonest: f.Soonest.Seconds(), last: f.Latest.Seconds()}
				if never[h] = never[h] || ok && f.Never; !ok || f.Never {
					now.ready = 0
				}
				if said[h] = append(said[h], now); last.Actual >= last.Setpoint-heat.Ready {
					took[h] = (r.now - begun).Seconds()
				}
			}
		}
		for _, h := range []heat.Heater{heat.Nozzle, heat.Bed} {
			if all := said[h]; took[h] > 0 {
				quarter := len(all) / 4
				f := all[quarter]
				f.left, f.never = took[h]-float64(quarter+1), never[h]
				out = append(out, f)
			}
		}
	}
	return out
}

// summary is how good forecasts were: median and 95th percentile of their errors, and
// the share of what happened within their intervals and of those that were missing.
func summary(all []foretold) (median, high, inside, missing float64) {
	var off []float64
	for _, f := range all {
		if f.ready == 0 {
			missing++
			continue
		}
		off = append(off, f.off())
		if f.left >= f.soonest && f.left <= f.last {
			inside++
		}
	}
	slices.Sort(off)
	n := float64(len(off))
	return off[len(off)/2], off[len(off)*95/100], inside / n, missing / float64(len(all))
}

// apart takes the forecasts with less than half a minute to go from the others: there,
// the few seconds by which reports come late are a large share of what is left.
func apart(all []foretold) (long, short []foretold) {
	for _, f := range all {
		if f.left >= 30 {
			long = append(long, f)
		} else {
			short = append(short, f)
		}
	}
	return long, short
}

// secondsOff is the 95th percentile of the errors in seconds; 0 of none.
func secondsOff(all []foretold) float64 {
	off := []float64{0}
	for _, f := range all {
		if f.ready > 0 {
			off = append(off, math.Abs(f.ready-f.left))
		}
	}
	slices.Sort(off)
	return off[len(off)*95/100]
}

func TestAWarmUpIsPredicted(t *testing.T) {
	for name, c := range map[string]struct {
		printer      func(uint64) simprinter.Config
		median, high float64
	}{"smooth": {smooth, 0.05, 0.2}, "rough": {rough(), 0.08, 0.45}, "no duty is told": {rough(simprinter.NoDuty), 0.08, 0.3}} {
		median, high, inside, missing := summary(forecasts(20, c.printer, 2))
		if median > c.median || high > c.high || inside < 0.75 || missing > 0.03 {
			t.Errorf("%s: the time left was wrong by %.1f %% in the median, %.1f %% at the 95th percentile; %.0f %% within their intervals, %.0f %% missing", name, 100*median, 100*high, 100*inside, 100*missing)
		}
	}
}

func TestAFirstWarmUpIsPredictedFromItself(t *testing.T) {
	for name, printer := range map[string]func(uint64) simprinter.Config{"smooth": smooth, "rough": rough(), "no duty is told": rough(simprinter.NoDuty)} {
		all := forecasts(20, printer, 0)
		median, high, inside, missing := summary(all)
		if median > 0.3 || high > 1 || inside < 0.8 || missing > 0.15 {
			t.Errorf("%s: the time left was wrong by %.1f %% in the median, %.1f %% at the 95th percentile; %.0f %% within their intervals, %.0f %% missing", name, 100*median, 100*high, 100*inside, 100*missing)
		}
		for _, f := range all {
			if f.never {
				t.Errorf("%s: of a %s it was said that it never comes to its setpoint, and it did", name, f.heater)
			}
		}
	}
}

func TestThatAHeaterNeverComesThereIsSaidWhenItStands(t *testing.T) {
	for _, seen := range []int{0, 2} {
		c := simprinter.Vesper()
		r := newRig(c)
		r.pass(3 * time.Second)
		for range seen {
			r.Set(180, 0)
			r.pass(20 * time.Minute)
			r.Set(0, 0)
			r.pass(time.Hour)
		}
		r.Break(false, simprinter.HeaterFault{Kind: simprinter.Weak, Amount: 0.35})
		r.Set(220, 0)
		stands, begun := r.now, r.now
		for highest, said := 0.0, false; !said; {
			r.pass(time.Second)
			if now := r.last[heat.Nozzle].Actual; now > highest+2 {
				highest, stands = now, r.now
			}
			f, ok := r.learned[heat.Nozzle].Forecast(220, heat.Conditions{})
			if said = ok && f.Never; said && r.now-stands < 3*time.Minute {
				t.Errorf("after %d warm-ups: said after %s, with the nozzle hotter by 2 K %s before", seen, r.now-begun, r.now-stands)
			}
			if r.now > begun+40*time.Minute {
				t.Errorf("after %d warm-ups: not said of a nozzle that stands at %.0f °C", seen, highest)
				break
			}
		}
	}
}

// BenchmarkForecast measures how wrong predictions are, of printers drawn at random:
// the rough house, the smooth physics, and each feature alone.
func BenchmarkForecast(b *testing.B) {
	worlds := map[string]func(uint64) simprinter.Config{"rough": rough(), "smooth": smooth, "rough first": rough(), "smooth first": smooth}
	for _, f := range simprinter.Features() {
		worlds[string(f)] = rough(f)
	}
	main := map[string][]foretold{"rough": nil, "smooth": nil, string(simprinter.NoDuty): nil}
	for name, printer := range worlds {
		b.Run(name, func(b *testing.B) {
			for b.Loop() {
				printers := uint64(40)
				if strings.HasPrefix(name, "rough") || strings.HasPrefix(name, "smooth") {
					printers = 200
				}
				seen := 2
				if strings.HasSuffix(name, "first") {
					seen = 0
				}
				all := forecasts(printers, later(printer), seen)
				if _, ok := main[name]; ok {
					main[name] = all
				}
				median, high, inside, missing := summary(all)
				b.ReportMetric(100*median, "median-%")
				b.ReportMetric(100*high, "p95-%")
				b.ReportMetric(100*inside, "within-90%-interval-%")
				b.ReportMetric(100*missing, "missing-%")
				never := 0.0
				for _, f := range all {
					if f.never {
						never++
					}
				}
				b.ReportMetric(never, "never-wrongly")
				long, short := apart(all)
				_, high, _, _ = summary(long)
				b.ReportMetric(100*high, "over-30-s-p95-%")
				b.ReportMetric(secondsOff(short), "under-30-s-p95-s")
				for _, h := range []heat.Heater{heat.Nozzle, heat.Bed} {
					its := slices.DeleteFunc(slices.Clone(all), func(f foretold) bool { return f.heater != h })
					median, high, _, _ := summary(its)
					b.ReportMetric(100*median, string(h)+"-median-%")
					b.ReportMetric(100*high, string(h)+"-p95-%")
				}
			}
		})
	}
	drawCalibration(b, main)
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

// Readings that come late and together tell of a heater that nobody builds.
func TestAHeaterThatNoneCanBeIsNotBelieved(t *testing.T) {
	for _, c := range []struct {
		rise  float64 // K/s
		known bool
	}{{3, true}, {12, true}, {60, false}} {
		var l heat.Learner
		const dt = 0.25 // s
		actual, duty, given := 25.0, 1.0, [5]float64{}
		for n := range int(900 / dt) {
			setpoint := []float64{205, 60}[n/int(100/dt)%2]
			if duty = 0; actual < setpoint {
				duty = 1
			}
			copy(given[1:], given[:4]) // its effect comes after a second
			given[0] = duty
			actual += (c.rise*given[4] - 0.02*(actual-25)) * dt
			at := time.Duration(float64(n) * dt * float64(time.Second))
			l.Note(at, heat.Reading{
				Heater: heat.Nozzle, Actual: actual,
				Setpoint: setpoint, HasSetpoint: true, Duty: duty, HasDuty: true,
			}, heat.Conditions{})
		}
		if m := l.Model(); m.Known() != c.known || c.known && math.Abs(m.Rise/c.rise-1) > 0.2 {
			t.Errorf("of a heater that rises by %g K/s is believed: %+v", c.rise, m)
		}
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
