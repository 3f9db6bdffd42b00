package heat_test

import (
	"math"
	"testing"
	"time"

	"diathermon/internal/core/heat"
	"diathermon/internal/simprinter"
)

// meltHeat is what it takes to warm plastic, J per mm³ and K: some 1.24 g/cm³ by 1.8 J/gK.
const meltHeat = 0.0022

func TestANozzlesNeedIsWhatItsPhysicsTake(t *testing.T) {
	for _, law := range []float64{1, 0.5} {
		c := simprinter.Vesper()
		c.Nozzle.Nature.FanLaw = law
		d := newDraws(c)
		d.quarter = false
		for range 3 {
			d.cool()
			d.melts = 1
			d.draw(6, time.Hour)
		}
		n, at := d.watch.Kept(), 215.0
		above := (at - 25) / c.Nozzle.Power // what a W/K takes, in duty
		for _, fan := range []float64{0.2, 0.45, 0.7, 1} {
			got, sd := n.More(heat.Nozzle, at, heat.Conditions{Fan: fan})
			if want := c.Nozzle.Draught * math.Pow(fan, law) * above; math.Abs(got-want) > 0.015 || sd > 0.02 {
				t.Errorf("law %g: the fan at %.0f %% takes %.3f ± %.3f of duty, and should take %.3f", law, 100*fan, got, sd, want)
			}
		}
		if got, sd := n.More(heat.Nozzle, at, heat.Conditions{Flow: 1}); math.Abs(got-meltHeat*above) > 0.2*meltHeat*above || sd > 0.002 {
			t.Errorf("law %g: 1 mm³/s takes %.4f ± %.4f of duty, and should take %.4f", law, got, sd, meltHeat*above)
		}
		if got, _ := n.Holding(heat.Nozzle, at, heat.Conditions{}); math.Abs(got-c.Nozzle.Loss*(at-d.Ambient)/c.Nozzle.Power) > 0.03 {
			t.Errorf("law %g: it holds %g °C with a duty of %.3f, and should with %.3f", law, at, got, c.Nozzle.Loss*(at-d.Ambient)/c.Nozzle.Power)
		}
	}
}

// slips lets a heater's sensor slip by a share in some time, and returns what is found
// first and how hot the heater then is above its setpoint.
func slips(c simprinter.Config, bed bool, share float64, over time.Duration) (first heat.GuardName, above float64) {
	w := newWatched(c)
	w.Set(215, 70)
	w.reach()
	w.pass(12 * time.Minute)
	w.Break(bed, simprinter.HeaterFault{Kind: simprinter.Loose, Amount: share, Over: over})
	setpoint := map[bool]float64{false: 215, true: 70}[bed]
	for begun := w.now; len(w.alarms) == 0 && w.now < begun+2*over; {
		w.pass(time.Second)
	}
	if len(w.alarms) > 0 {
		first = w.alarms[0].Guard
	}
	return first, w.Hottest(bed) - setpoint
}

func TestASensorThatSlipsSlowlyIsFoundByTheDutyThatItTakes(t *testing.T) {
	for _, c := range []struct {
		name  string
		bed   bool
		share float64
		over  time.Duration
	}{
		{"60 % in 20 min", false, 0.6, 20 * time.Minute},
		{"40 % in 10 min", false, 0.4, 10 * time.Minute},
		{"bed, 70 % in 30 min", true, 0.7, 30 * time.Minute},
	} {
		if first, above := slips(simprinter.Vesper(), c.bed, c.share, c.over); first != heat.Growing || above > 40 {
			t.Errorf("%s: found as %q at %.0f K above its setpoint", c.name, first, above)
		}
	}
	untold := simprinter.Vesper()
	untold.Nozzle.Nature.Told = simprinter.TellsNone
	if first, _ := slips(untold, false, 0.3, 20*time.Minute); first == heat.Growing {
		t.Error("found by a duty that nobody tells")
	}
}

func TestWhereTheControlIsASwitchNothingIsSaidOfTheNeed(t *testing.T) {
	c := simprinter.Vesper()
	c.Nozzle.Nature.Switched = 1.5
	w := newWatched(c)
	w.Set(215, 70)
	w.reach()
	for range 60 {
		w.pass(time.Minute)
		if g := w.needs[heat.Nozzle].Growth(); g.Known && w.now > 10*time.Minute {
			t.Fatalf("after %s: %+v", w.now, g)
		}
	}
}

func TestADraughtIsNoSensorThatSlips(t *testing.T) {
	w := newWatched(simprinter.Vesper())
	w.Set(215, 70)
	w.reach()
	w.pass(20 * time.Minute)
	for range 10 { // a minute of it, by half of what the room takes away
		w.Flow = 24 // heat that is taken and nobody knows of
		w.pass(time.Minute)
		w.Flow = 0
		w.pass(5 * time.Minute)
	}
	if len(w.alarms) > 0 {
		t.Errorf("%+v", w.alarms)
	}
	if g := w.needs[heat.Nozzle].Growth(); !g.Known || g.Share > 0.06 {
		t.Errorf("after that: %+v", g)
	}
}

func TestReadingsThatAreToldTwiceOrWithoutADutyEndNoHolding(t *testing.T) {
	var w heat.NeedWatch
	for s := range 1800 {
		r := heat.Reading{Heater: heat.Nozzle, Actual: 215, Setpoint: 215, HasSetpoint: true, Duty: 0.5, HasDuty: s%3 > 0}
		w.Note(time.Duration(s)*time.Second, r, heat.Conditions{})
		w.Note(time.Duration(s)*time.Second, r, heat.Conditions{Flow: math.NaN()})
	}
	if seen := w.Kept().Seen; seen < 100 {
		t.Errorf("half an hour of holding gave %d stretches", seen)
	}
	if s := w.Flow(); math.IsNaN(s.Asked) || s.Enough {
		t.Errorf("of a flow that nobody knows: %+v", s)
	}
	var rare heat.NeedWatch // a firmware that is asked every eight seconds
	for s := 0; s < 1800; s += 8 {
		rare.Note(time.Duration(s)*time.Second, heat.Reading{Heater: heat.Nozzle, Actual: 215, Setpoint: 215, HasSetpoint: true, Duty: 0.5, HasDuty: true}, heat.Conditions{})
	}
	if seen := rare.Kept().Seen; seen < 30 || seen > 45 {
		t.Errorf("from 225 readings in half an hour came %d stretches", seen)
	}
	before := w.Kept().Seen
	for s := range 300 { // filament that nobody knows of
		w.Note(time.Duration(2000+s)*time.Second, heat.Reading{Heater: heat.Nozzle, Actual: 215, Setpoint: 215, HasSetpoint: true, Duty: 0.6, HasDuty: true}, heat.Conditions{Flow: math.NaN()})
	}
	if after := w.Kept().Seen; after != before {
		t.Errorf("%d stretches of an unknown flow were learned from", after-before)
	}
}
