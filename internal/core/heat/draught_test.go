package heat_test

import (
	"slices"
	"testing"
	"time"

	"diathermon/internal/core/heat"
	"diathermon/internal/simprinter"
)

// printing is a smooth printer that holds 215 and 70 °C, whose guards have every right.
func printing() *watched {
	w := newWatched(simprinter.Vesper())
	w.Set(215, 70)
	w.reach()
	w.pass(30 * time.Minute)
	w.earns()
	return w
}

// acted reports whether guards have done more than tell.
func (w *watched) acted() bool {
	return slices.ContainsFunc(w.alarms, func(a heat.Alarm) bool { return a.Action != heat.Tell })
}

func TestWhatTheOtherHeaterNeedsTooIsADraught(t *testing.T) {
	w := printing()
	w.Weathers(simprinter.Weather{Wind: 0.6, Air: -8})
	if w.pass(20 * time.Minute); w.acted() {
		t.Errorf("an open window: %+v", w.alarms)
	}
	alone := w.needs[heat.Nozzle].Growth()
	if beside := alone.Beside(heat.Nozzle, w.now, w.needs); alone.Share < 0.1 || beside.Share > 0.05 {
		t.Errorf("beside a window a nozzle needs %.2f more, and %.2f more than the bed", alone.Share, beside.Share)
	}
	w.Weathers(simprinter.Weather{})
	if w.pass(40 * time.Minute); w.acted() {
		t.Errorf("and shut: %+v", w.alarms)
	}
	w = printing()
	w.Weathers(simprinter.Weather{Brown: 0.15})
	if w.pass(40 * time.Minute); w.acted() {
		t.Errorf("weak mains: %+v", w.alarms)
	}
}

func TestWhatTheOtherHeaterDoesNotNeedIsNone(t *testing.T) {
	w := printing()
	w.Break(false, simprinter.HeaterFault{Kind: simprinter.Loose, Amount: 0.5, Over: 15 * time.Minute})
	for begun := w.now; w.now < begun+20*time.Minute && !w.acted(); {
		w.pass(time.Second)
	}
	i := slices.IndexFunc(w.alarms, func(a heat.Alarm) bool { return a.Action != heat.Tell })
	if i < 0 || w.alarms[i].Guard != heat.Growing || w.Hottest(false) > 215+80 {
		t.Errorf("a sensor that slips by half in 15 min: %+v, at %.0f °C", w.alarms, w.Hottest(false))
	}
}

func TestWithoutAnotherHeaterItIsOnlyTold(t *testing.T) {
	w := newWatched(simprinter.Vesper())
	w.Set(215, 0)
	w.reach()
	w.pass(30 * time.Minute)
	w.earns()
	w.Break(false, simprinter.HeaterFault{Kind: simprinter.Loose, Amount: 0.5, Over: 30 * time.Minute})
	if w.pass(20 * time.Minute); w.acted() || !slices.Contains(guards(w.alarms), heat.Growing) {
		t.Errorf("a sensor that slips beside a cold bed: %+v", w.alarms)
	}
}

func TestALossThatWentBackIsNoStopOfTheFlow(t *testing.T) {
	d := newDraws(simprinter.Vesper())
	for range 2 {
		d.cool()
		d.draw(6, 40*time.Minute)
	}
	d.cool()
	d.draw(6, 30*time.Minute)
	d.Weathers(simprinter.Weather{Wind: 0.4})
	d.draw(6, 40*time.Minute)
	d.Weathers(simprinter.Weather{})
	if d.draw(6, 20*time.Minute); d.alarms > 0 {
		t.Errorf("a window was shut, and %d times nothing seemed to flow", d.alarms)
	}
	d.draw(6, 30*time.Minute)
	if _, found := d.stopped(6); !found {
		t.Error("and half an hour later a stop was not found")
	}
}

func TestSomethingColdThatIsLaidOnTheBedHoldsNothing(t *testing.T) {
	w := printing()
	w.Lay()
	if w.pass(15 * time.Minute); w.acted() {
		t.Errorf("a cold sheet: %+v", w.alarms)
	}
	w.Break(true, simprinter.HeaterFault{Kind: simprinter.Dead})
	for begun := w.now; w.now < begun+15*time.Minute && !w.acted(); {
		w.pass(time.Second)
	}
	if !w.acted() {
		t.Errorf("a bed without current: %+v", w.alarms)
	}
}

func TestABedThatFallsAtOnceMayHaveSomethingColdOnIt(t *testing.T) {
	for by, want := range map[float64]heat.Action{22: heat.Tell, 35: heat.HoldRun} {
		g := &heat.Guard{Heater: heat.Bed, Limit: 110}
		g.Ways.Most = 1
		g.Standing(heat.Jump).Quiet = 60 * 3600
		said := told(g, 0, 112, func(s float64) heat.Reading {
			return heat.Reading{Actual: 90 - by*min(max(s-100, 0)/10, 1), Setpoint: 90, Duty: 0.5, HasDuty: true}
		})
		did := heat.Action("")
		for _, a := range said { // at first it may be only told
			did = a.Action
		}
		if did != want {
			t.Errorf("from 90 °C by %.0f K in 10 s: %+v, want %s", by, said, want)
		}
	}
}

func TestABedThatStaysColdIsToldThenHeld(t *testing.T) {
	falls := func(back float64) (did []heat.Action) {
		g := &heat.Guard{Heater: heat.Bed, Limit: 110}
		g.Ways.Most = 1
		g.Standing(heat.Falling).Quiet = 60 * 3600
		said := told(g, 0, 900, func(s float64) heat.Reading {
			actual := 80 - min(max(s-100, 0)/10, 14)
			return heat.Reading{Actual: min(actual+max(s-245, 0)*back, 80), Setpoint: 80, Duty: 0.5, HasDuty: true}
		})
		for _, a := range said {
			did = append(did, a.Action)
		}
		return did
	}
	if did := falls(0); !slices.Equal(did, []heat.Action{heat.Tell, heat.HoldRun}) {
		t.Errorf("a bed that stays 14 K below its setpoint: %v", did)
	}
	if did := falls(0.05); !slices.Equal(did, []heat.Action{heat.Tell}) {
		t.Errorf("one that rises again: %v", did)
	}
}

func TestReadingsThatWereHeldUpAreOne(t *testing.T) {
	g := warmedUp()
	for _, s := range g.Standings {
		s.Quiet = 60 * 3600
	}
	at := 200.0
	note := func(after, actual, duty float64) []heat.Alarm {
		at += after
		d := time.Duration(at * float64(time.Second))
		r := heat.Reading{Heater: heat.Nozzle, Actual: actual, Setpoint: 200, HasSetpoint: true, Duty: duty, HasDuty: true}
		return g.Note(midnight.Add(d), d, r, 0)
	}
	var said []heat.Alarm
	for i := range 20 { // twenty seconds of a fall come within one
		after := 0.05
		if i == 0 {
			after = 20
		}
		said = append(said, note(after, 200-4*float64(i), 1)...)
	}
	for i := range 30 {
		said = append(said, note(1, 124+2.5*float64(i), 1)...)
	}
	if slices.Contains(guards(said), heat.Jump) {
		t.Errorf("a burst after a silence: %+v", said)
	}
	for i := range 30 {
		said = append(said, note(1, 200+0.1*float64(i%2), 0.4)...)
	}
	for i := range 4 { // the same, second by second
		said = append(said, note(1, 200-20*float64(i), 1)...)
	}
	if !slices.Contains(guards(said), heat.Jump) {
		t.Errorf("a fall by 60 K in 3 s: %+v", said)
	}
}

func TestByCoarseStepsAReadingMayStandStill(t *testing.T) {
	stands := func(step float64, g *heat.Guard) []heat.Alarm {
		swings := func(s float64) heat.Reading {
			r := heat.Reading{Actual: 200.05 + step*float64(int(s/10)%2), Setpoint: 200, Duty: 0.4, HasDuty: true}
			if s >= 1000 { // it stands, and its duty moves
				r.Actual, r.Duty = 200.05, 0.2+0.1*float64(int(s/20)%5)
			}
			return r
		}
		return told(g, 200, 1900, swings)
	}
	if said := stands(0.11, warmedUp()); !slices.Contains(guards(said), heat.Frozen) {
		t.Errorf("by steps of a tenth of a degree it stood still for 15 min while its duty moved: %+v", said)
	}
	g := warmedUp()
	g.Standing(heat.Frozen).Quiet = 60 * 3600
	if said := stands(1, g); len(said) > 0 || g.Standing(heat.Frozen).Quiet > 3600 {
		t.Errorf("by whole degrees: %+v; its trial has gone on for %.0f s", said, g.Standing(heat.Frozen).Quiet)
	}
}

func TestASensorThatIsOutOfItsPlaceInTheFirstWarmUpEver(t *testing.T) {
	for _, c := range []struct {
		out float64
		bed bool
	}{{0.8, false}, {0.9, false}, {0.95, false}, {0.95, true}} {
		w := newWatched(simprinter.Vesper())
		w.Break(c.bed, simprinter.HeaterFault{Kind: simprinter.Loose, Amount: c.out})
		w.Set(210, 60)
		setpoint := map[bool]float64{false: 210, true: 60}[c.bed]
		for w.now < 15*time.Minute && !w.acted() {
			w.pass(time.Second)
		}
		if !w.acted() || w.alarms[0].Guard != heat.SlowRise || w.Hottest(c.bed) > setpoint+50 {
			t.Errorf("out by %.0f %%, bed %v: %+v, at %.0f °C", 100*c.out, c.bed, w.alarms, w.Hottest(c.bed))
		}
		if !c.bed && w.at[0] > time.Minute {
			t.Errorf("out by %.0f %%: told after %s", 100*c.out, w.at[0])
		}
	}
	for name, word := range map[string]func(*heat.Guard){
		"that it is always so": func(g *heat.Guard) { g.Told(heat.SlowRise, heat.Sound) },
		"that it only tells":   func(g *heat.Guard) { g.Bound(heat.SlowRise, heat.Tell) },
	} {
		w := newWatched(simprinter.Vesper())
		word(w.guards[heat.Nozzle])
		w.Break(false, simprinter.HeaterFault{Kind: simprinter.Loose, Amount: 0.9})
		w.Set(210, 0)
		if w.pass(90 * time.Second); len(w.alarms) == 0 || w.acted() {
			t.Errorf("after a person's word %s: %+v", name, w.alarms)
		}
	}
}

func TestASlowHeaterIsNone(t *testing.T) {
	c := simprinter.Vesper()
	c.Nozzle.Power, c.Nozzle.Capacity = 30, 24 // a large block on a small heater
	c.Bed.Capacity *= 2
	w := newWatched(c)
	w.Set(210, 80)
	w.reach()
	w.pass(5 * time.Minute)
	w.Fan = 1 // and farther than it comes, from where it is hot
	w.Set(245, 105)
	w.pass(time.Hour)
	w.Set(0, 0)
	w.Fan = 0
	w.pass(2 * time.Hour)
	w.Set(285, 110) // and from where it is cold
	w.pass(time.Hour)
	if len(w.alarms) > 0 {
		t.Errorf("a large block on a small heater: %+v", w.alarms)
	}
}
