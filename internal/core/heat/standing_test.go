package heat_test

import (
	"testing"
	"time"

	"diathermon/internal/core/heat"
	"diathermon/internal/simprinter"
)

func TestAGuardEarnsWhatItMayDo(t *testing.T) {
	var s heat.Standing
	on := func(hours float64) {
		for range int(hours * 60) {
			s.Note(midnight, 60, 0.3, true)
		}
	}
	for _, step := range []struct {
		hours float64
		may   heat.Action
	}{{0, heat.Tell}, {9, heat.Tell}, {2, heat.HoldRun}, {10, heat.CoolOff}, {30, heat.HaltAll}} {
		if on(step.hours); s.May(heat.Runaway) != step.may {
			t.Errorf("after %.1f h it may %s, want %s", s.Quiet/3600, s.May(heat.Runaway), step.may)
		}
	}
	if may := s.May(heat.Falling); may != heat.HoldRun {
		t.Errorf("falling may %s, and never does more than hold", may)
	}
	if s.Fixed = heat.HoldRun; s.May(heat.Runaway) != heat.HoldRun {
		t.Error("a keeper cannot lower it")
	}
	if s.Fixed = heat.HaltAll; s.May(heat.Falling) != heat.HoldRun {
		t.Error("a keeper lets it do what it never does")
	}
	s.Fixed = ""
	s.Note(midnight.Add(time.Hour), 1, 0.8, true)
	if s.May(heat.Runaway) != heat.HaltAll {
		t.Error("what comes near takes the right away that an alarm is about to need")
	}
	if s.Note(midnight.Add(time.Hour), 300, 0.2, true); s.May(heat.Runaway) != heat.HaltAll {
		t.Error("what goes back for five minutes is believed to be over")
	}
	s.Note(midnight.Add(time.Hour), 300, 0.2, true)
	if left, next := s.Next(heat.Runaway); s.May(heat.Runaway) != heat.Tell || left != 10*time.Hour || next != heat.HoldRun || s.Closest != 0.8 || !s.ClosestAt.Equal(midnight.Add(time.Hour)) {
		t.Errorf("after something came near: %+v, may %s, next %s in %s", s, s.May(heat.Runaway), next, left)
	}
	on(100)
	if off := s.Quiet; true {
		if s.Note(midnight, 3600, 0, false); s.Quiet != off {
			t.Error("hours of a heater that is off count")
		}
	}
	for _, certain := range []heat.GuardName{heat.TooHot, heat.Sensor, heat.NoRise} {
		if may := (heat.Standing{}).May(certain); may == heat.Tell {
			t.Errorf("%s is on trial", certain)
		}
	}
}

// A switch that is stuck: what a guard does goes as far as it has earned, and the halt
// comes only after turning off has not helped.
func TestAHaltIsTheLastStep(t *testing.T) {
	for _, c := range []struct {
		earned float64 // h
		want   []heat.Action
	}{
		{0, []heat.Action{heat.Tell, heat.CoolOff, heat.HaltAll}}, // on trial; then it is too hot, which needs none
		{15, []heat.Action{heat.HoldRun, heat.CoolOff, heat.HaltAll}},
		{30, []heat.Action{heat.CoolOff, heat.CoolOff, heat.HaltAll}}, // it may not halt: being too hot does
		{60, []heat.Action{heat.CoolOff, heat.HaltAll}},
	} {
		w := newWatched(simprinter.Vesper())
		w.Set(235, 60)
		w.reach()
		w.pass(10 * time.Minute)
		for _, s := range w.guards[heat.Nozzle].Standings {
			s.Quiet = c.earned * 3600
		}
		w.Break(false, simprinter.HeaterFault{Kind: simprinter.Stuck})
		for begun := w.now; w.now < begun+5*time.Minute; {
			w.pass(time.Second)
			if n := len(w.alarms); n > 0 && w.alarms[n-1].Action == heat.CoolOff {
				w.Set(0, 0)
			}
		}
		var did []heat.Action
		for _, a := range w.alarms {
			did = append(did, a.Action)
		}
		for i, want := range c.want {
			if i >= len(did) || did[i] != want {
				t.Errorf("with %.0f h it did %v, want %v at first: %+v", c.earned, did, c.want, w.alarms)
				break
			}
		}
	}
}

// The heat of a switch that is stuck goes away once the plug is pulled: no halt comes
// after a heater that does cool.
func TestAHeaterThatCoolsIsNotHalted(t *testing.T) {
	w := newWatched(simprinter.Vesper())
	w.Set(235, 60)
	w.reach()
	w.Start(299, 60) // a person has set it too high by hand
	for begun := w.now; w.now < begun+10*time.Minute; {
		w.pass(time.Second)
		if len(w.alarms) > 0 {
			w.Set(0, 0)
		}
	}
	for _, a := range w.alarms {
		if a.Action == heat.HaltAll {
			t.Errorf("halted: %s", a.Text)
		}
	}
	if len(w.alarms) == 0 || w.alarms[0].Guard != heat.TooHot && w.alarms[0].Guard != heat.Jump {
		t.Errorf("raised %+v", w.alarms)
	}
}

func TestALogGivesTheExperienceThatLifeDoes(t *testing.T) {
	w := newWatched(simprinter.Rough(5))
	trial := heat.NewTrial(heat.Limits{Nozzle: 285, Bed: 110}, 1)
	live := w.each
	w.each = func(at time.Duration, r heat.Reading) {
		live(at, r)
		trial.Note(heat.Sample{At: midnight.Add(at), Reading: r})
	}
	w.pass(3 * time.Second)
	w.Set(215, 70)
	w.reach()
	w.pass(3 * time.Hour)
	w.Set(0, 0)
	w.pass(20 * time.Minute)
	for h, l := range trial.Learned() {
		e := l.Experience
		if len(l.Climbs) != len(w.learned[h].Climbs) || len(l.Climbs) != 1 || l.Climbs[0].Took != w.learned[h].Climbs[0].Took {
			t.Errorf("warm-ups of the %s: the log gives %+v, life gave %+v", h, l.Climbs, w.learned[h].Climbs)
		}
		for _, name := range heat.Judged() {
			got, want := *e.Standings[name], *w.guards[h].Standings[name]
			if name == heat.Growing { // fan and filament are not in the log
				if got.Quiet != 0 || want.Quiet == 0 {
					t.Errorf("%s of the %s: the log gives %+v, life gave %+v", name, h, got, want)
				}
				continue
			}
			if got != want || got.Quiet == 0 {
				t.Errorf("%s of the %s: the log gives %+v, life gave %+v", name, h, got, want)
			}
		}
		if both := e.With(e); both.Standings[heat.Jump].Quiet != 2*e.Standings[heat.Jump].Quiet || both.Ways.Fall != e.Ways.Fall || both.Version != heat.Version {
			t.Errorf("added up: %+v", both)
		}
	}
}
