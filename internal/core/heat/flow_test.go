package heat_test

import (
	"fmt"
	"math/rand/v2"
	"slices"
	"testing"
	"time"

	"diathermon/internal/core/heat"
	"diathermon/internal/simprinter"
)

// draws is a rig that prints, with a watch of what its nozzle needs. What the file
// asks for is known a little earlier than it flows.
type draws struct {
	*rig
	rng     *rand.Rand
	watch   heat.NeedWatch
	state   heat.FlowState
	melts   float64 // heat that the filament of this run takes, as a share of another's
	quarter bool    // its files turn the fan by quarters
	blocked bool
	alarms  int
}

func newDraws(c simprinter.Config) *draws {
	d := &draws{rig: newRig(c), rng: rand.New(rand.NewPCG(uint64(c.Seed), 79)), melts: 1}
	d.quarter = d.rng.IntN(2) == 0
	d.each = func(at time.Duration, r heat.Reading) {
		if r.Heater != heat.Nozzle {
			return
		}
		before := d.state.Stopped
		d.watch.Note(at, r, d.conditions(heat.Nozzle))
		d.state = d.watch.Flow()
		d.doubt = d.state.Doubtful()
		if d.state.Stopped && !before {
			d.alarms++
		}
	}
	return d
}

// cool lets the printer cool, for a run in another room with another filament.
func (d *draws) cool() {
	d.blocked, d.Fan, d.Flow, d.asked = false, 0, 0, 0
	d.Set(0, 0)
	d.pass(time.Duration(15+d.rng.IntN(60)) * time.Minute)
	d.Ambient, d.melts = 12+20*d.rng.Float64(), 0.8+0.45*d.rng.Float64()
	d.Set(190+50*d.rng.Float64(), 50+40*d.rng.Float64())
	d.pass(time.Duration(4+d.rng.IntN(8)) * time.Minute)
}

// draw prints for a while at about a flow: lines and moves between them, layers
// with their fan, slow stretches, and now and then another temperature.
func (d *draws) draw(flow float64, during time.Duration) {
	for end := d.now + during; d.now < end; {
		pace := 1.0
		switch d.rng.IntN(12) {
		case 0:
			if d.Fan = d.rng.Float64(); d.quarter {
				d.Fan = float64(d.rng.IntN(5)) / 4
			}
		case 1:
			pace = 0.15 // a small perimeter
		case 2:
			if d.rng.IntN(30) == 0 {
				n, b := d.Setpoints()
				d.Set(min(n+10*d.rng.Float64()-5, 245), b)
			}
		}
		for range 5 + d.rng.IntN(20) {
			d.asked = max(flow*pace*(1+0.5*d.rng.NormFloat64()), 0)
			if d.rng.IntN(10) == 0 {
				d.asked = 0 // travel
			}
			d.pass(time.Second)
			if d.Flow = d.asked * d.melts; d.blocked {
				d.Flow = 0
			}
		}
	}
}

// stopped lets the filament stop, and returns after how long that is noticed, if it is
// within FlowWithin.
func (d *draws) stopped(flow float64) (took time.Duration, found bool) {
	d.alarms, d.blocked = 0, true
	for begun := d.now; d.now < begun+heat.FlowWithin; {
		if d.draw(flow, time.Second); d.alarms > 0 || d.state.Stopped {
			return d.now - begun, true
		}
	}
	return 0, false
}

// tellsDuty reports whether a printer tells its duty: of others nothing is known.
func tellsDuty(c simprinter.Config) bool { return c.Nozzle.Nature.Told != simprinter.TellsNone }

func TestFilamentThatStopsIsMissed(t *testing.T) {
	for name, printer := range map[string]func(uint64) simprinter.Config{"smooth": smooth, "rough": rough()} {
		found, falses, all := 0, 0, 0
		for seed := range uint64(10) {
			c := printer(seed + 40)
			if !tellsDuty(c) || c.Nozzle.Nature.Switched > 0 {
				continue
			}
			d := newDraws(c)
			for range 2 {
				d.cool()
				d.draw(6, 40*time.Minute)
			}
			d.cool()
			d.draw(7, 20*time.Minute)
			falses += d.alarms
			all++
			if _, ok := d.stopped(7); ok {
				found++
			}
		}
		if found < all-1 || falses > 0 || all < 6 {
			t.Errorf("%s: of %d stops %d were found; %d false alarms", name, all, found, falses)
		}
	}
}

func TestALongRunAtOneTemperatureDoesNotMoveTheRoom(t *testing.T) {
	for seed := range uint64(4) {
		d := newDraws(smooth(seed + 9000))
		d.Set(215, 60)
		d.pass(5 * time.Minute)
		d.draw(6, 6*time.Hour)
		m := d.learned[heat.Nozzle].Model()
		if off := m.Ambient - d.Ambient; off > 12 || off < -12 {
			t.Errorf("printer %d: after six hours at one temperature the room is believed to have %.1f ± %.1f °C, and has %.1f", seed, m.Ambient, m.AmbientError, d.Ambient)
		}
	}
}

func TestWhereNothingCanBeToldOfTheFlowThatIsSaid(t *testing.T) {
	d := newDraws(smooth(9001))
	d.cool()
	d.draw(0.3, 20*time.Minute)
	if d.state.Enough || d.alarms > 0 {
		t.Errorf("at 0.3 mm³/s: %+v", d.state)
	}
	d.draw(6, 30*time.Minute)
	if d.asked = 6; !d.state.Enough || d.state.Seen < 0.7*d.state.Asked || d.alarms > 0 {
		t.Errorf("at 6 mm³/s: %+v", d.state)
	}
	d.Set(170, 60)
	if d.draw(6, 20*time.Second); d.state.Enough {
		t.Errorf("while its temperature changes: %+v", d.state)
	}
	untold := smooth(9001)
	untold.Nozzle.Nature.Told = simprinter.TellsNone
	d = newDraws(untold)
	d.cool()
	d.draw(8, time.Hour)
	if d.state.Enough || d.alarms > 0 {
		t.Errorf("of a firmware that tells no duty: %+v", d.state)
	}
}

func TestWhatSpeaksAgainstTheFlowIsForgottenAndNotLearned(t *testing.T) {
	d := newDraws(smooth(9003))
	for range 2 {
		d.cool()
		d.draw(6, 30*time.Minute)
	}
	if _, found := d.stopped(6); !found {
		t.Fatal("the stop was not found")
	}
	before := d.watch.Kept()
	d.draw(6, 10*time.Minute)
	if !d.state.Stopped || d.watch.Kept() != before {
		t.Errorf("ten minutes without filament were learned from, %+v", d.state)
	}
	d.watch.Forget()
	if s := d.watch.Flow(); s.Stopped || s.Doubtful() || s.Enough || d.watch.Kept() != before {
		t.Errorf("after it was forgotten: %+v", s)
	}
}

// BenchmarkFlowWatch measures how many full stops are found within five minutes at some
// flows, how often it was right that a stop would be found, and counts false alarms, on
// printers that have printed twice before and on those that have not.
func BenchmarkFlowWatch(b *testing.B) {
	worlds := map[string][]stops{}
	for name, printer := range map[string]func(uint64) simprinter.Config{"rough": later(rough()), "smooth": later(smooth)} {
		b.Run(name, func(b *testing.B) {
			for b.Loop() {
				worlds[name] = flowing(b, printer, 150)
			}
		})
	}
	drawDetection(b, worlds)
}

// stops are full stops at a flow, mm³/s.
type stops struct {
	flow                      float64
	all, found, enough, right int // of which the watch said that they would be found, and was right
}

// flowing lets so many printers print, and reports what their watches say.
func flowing(b *testing.B, printer func(uint64) simprinter.Config, printers int) []stops {
	none := []stops{{flow: 1}, {flow: 2}, {flow: 3}, {flow: 4}, {flow: 6}, {flow: 8}}
	sums := slices.Clone(none)
	falses, first, hours, untold := 0, 0, 0.0, 0
	each(printers, func(seed uint64) func() {
		c := printer(seed)
		if !tellsDuty(c) {
			return func() { untold++ }
		}
		d := newDraws(c)
		for range 2 { // of a printer that nobody knows
			d.cool()
			d.draw(8*d.rng.Float64(), time.Hour)
		}
		early, late, drawn := d.alarms, 0, 2*time.Hour
		mine := slices.Clone(none)
		for i := range mine {
			d.alarms = 0
			d.cool()
			begun := d.now
			d.draw(mine[i].flow, time.Duration(20+d.rng.IntN(120))*time.Minute)
			late, drawn = late+d.alarms, drawn+d.now-begun
			mine[i].all = 1
			if d.state.Enough {
				mine[i].enough = 1
			}
			if _, ok := d.stopped(mine[i].flow); ok {
				mine[i].found, mine[i].right = 1, mine[i].enough
			}
		}
		return func() {
			falses, first, hours = falses+late, first+early, hours+drawn.Hours()
			for i, m := range mine {
				s := &sums[i]
				s.all, s.found, s.enough, s.right = s.all+m.all, s.found+m.found, s.enough+m.enough, s.right+m.right
			}
		}
	})
	enough, right := 0, 0
	for _, s := range sums {
		enough, right = enough+s.enough, right+s.right
		b.ReportMetric(100*float64(s.found)/float64(s.all), fmt.Sprintf("%g-mm3/s-%%", s.flow))
		b.ReportMetric(100*float64(s.enough)/float64(s.all), fmt.Sprintf("%g-mm3/s-enough-%%", s.flow))
	}
	b.ReportMetric(100*float64(right)/float64(max(enough, 1)), "enough-was-right-%")
	b.ReportMetric(float64(falses), "false")
	b.ReportMetric(float64(first), "false-in-first-two-hours")
	b.ReportMetric(hours, "hours")
	b.ReportMetric(float64(untold), "tell-no-duty")
	return sums
}
