package heat_test

import (
	"strings"
	"testing"
	"time"

	"diathermon/internal/core/heat"
	"diathermon/internal/simprinter"
)

func TestAnAgeingBedIsTold(t *testing.T) {
	for _, c := range []struct {
		left    float64 // of the bed's power, in the end
		rooms   []float64
		finding string // empty: none
	}{
		{1, []float64{21, 15, 26, 19}, ""},
		{0.8, []float64{21, 15, 26, 19}, "the bed takes"},
	} {
		r := newRig(simprinter.Vesper())
		checkup := heat.Checkup{Heater: heat.Bed}
		var episodes []heat.Episode
		day := 0
		r.each = func(_ time.Duration, reading heat.Reading) {
			if reading.Heater == heat.Bed {
				wall := noon.Add(time.Duration(day)*24*time.Hour + r.now%(10*time.Hour))
				episodes = append(episodes, checkup.Note(wall, r.now, reading, r.learned[heat.Bed].Model(), heat.Conditions{})...)
			}
		}
		for ; day < 60; day += 3 {
			r.Break(true, simprinter.HeaterFault{Kind: simprinter.Weak, Amount: 1 - (1-c.left)*float64(day)/57})
			r.Ambient = c.rooms[day/3%len(c.rooms)]
			r.now += 3 * time.Hour
			r.Start(r.Ambient, r.Ambient)
			r.pass(time.Minute)
			r.Set(0, 60)
			r.pass(40 * time.Minute)
			r.Set(0, 0)
			r.pass(time.Minute)
		}
		if len(episodes) < 38 {
			t.Fatalf("%d episodes in 20 warm-ups", len(episodes))
		}
		findings := heat.Findings(episodes, r.learned[heat.Bed].Model(), noon.Add(60*24*time.Hour))
		switch {
		case c.finding == "" && len(findings) > 0:
			t.Errorf("of a bed that has not changed: %+v", findings)
		case c.finding != "" && (len(findings) == 0 || !strings.HasPrefix(findings[0].Text, c.finding) || !findings[0].Worse || findings[0].Change < 0.05 || findings[0].Change > 0.25):
			t.Errorf("of a bed with %.0f %% of its power: %+v", 100*c.left, findings)
		}
	}
}

func TestASoakEndsWhenThePlateHasSettled(t *testing.T) {
	r := newRig(simprinter.Vesper())
	r.Set(0, 60)
	timed, settling := heat.Soak{Setpoint: 60, For: 10 * time.Minute}, heat.Soak{Setpoint: 60}
	var timedAt, settledAt, thereAt time.Duration
	r.each = func(_ time.Duration, reading heat.Reading) {
		if reading.Heater != heat.Bed {
			return
		}
		a, b := timed.Note(r.now, reading, heat.Sheet{}), settling.Note(r.now, reading, heat.Sheet{})
		if b.There && thereAt == 0 {
			thereAt = r.now
		}
		if a.Done && timedAt == 0 {
			timedAt = r.now
		}
		if b.Done && settledAt == 0 {
			settledAt = r.now
		}
		if !b.There && (a.Done || b.Done) {
			t.Fatal("soaked before it was warm")
		}
	}
	r.pass(40 * time.Minute)
	if got := timedAt - thereAt; got != 10*time.Minute {
		t.Errorf("a soak of ten minutes took %s", got)
	}
	if got := settledAt - thereAt; got < 3*time.Minute || got > 20*time.Minute {
		t.Errorf("the plate had settled after %s", got)
	}
	r.Set(0, 55)
	r.pass(time.Minute)
	if timed.Note(r.now, heat.Reading{Heater: heat.Bed, Actual: 60, Setpoint: 60}, heat.Sheet{}).Done {
		t.Error("another setpoint in between did not let it begin anew")
	}
}

func TestASoakEndsAlsoWhereTheDutyNeverSettles(t *testing.T) {
	s := heat.Soak{Setpoint: 60}
	for second := range 3600 {
		duty := max(1-0.00025*float64(second), 0) // it falls, and falls
		if state := s.Note(time.Duration(second)*time.Second, heat.Reading{Heater: heat.Bed, Actual: 60, Setpoint: 60, HasSetpoint: true, Duty: duty, HasDuty: true}, heat.Sheet{}); state.Done {
			if second < 3*60 || second > 31*60 {
				t.Errorf("it soaked for %d s", second)
			}
			return
		}
	}
	t.Error("it soaks for ever")
}

func TestASoakIsOverWhenWhatLiesOnTheBedIsEven(t *testing.T) {
	for seed := range uint64(12) {
		r := newRig(simprinter.Rough(seed+300, simprinter.Masses, simprinter.Switching, simprinter.NoDuty, simprinter.Bunching))
		setpoint := 50 + 4*float64(seed)
		s := heat.Soak{Setpoint: setpoint}
		var state heat.SoakState
		ends := map[time.Duration]time.Duration{} // elapsed, and when it was to be over
		r.each = func(at time.Duration, x heat.Reading) {
			if x.Heater == heat.Bed && !state.Done {
				if state = s.Note(at, x, r.learned[heat.Bed].Sheet(setpoint)); state.Elapsed > 0 && !state.Done {
					ends[state.Elapsed] = state.Elapsed + state.Left
				}
			}
		}
		r.pass(3 * time.Second)
		r.Set(0, setpoint)
		for r.now < 90*time.Minute && !state.Done {
			r.pass(5 * time.Second)
		}
		took := state.Elapsed
		before := r.Second(true)
		r.pass(30 * time.Minute)
		if moves := r.Second(true) - before; !state.Done || moves > 4.5 || moves < -4.5 {
			t.Errorf("printer %d: soaked (%v) for %s, and what lies on the bed moved on by %.1f K", seed, state.Done, took, moves)
		}
		for elapsed, end := range ends {
			if left := took - elapsed; elapsed > 3*time.Minute && left > 10*time.Second && (end-took).Abs() > left/3 {
				t.Errorf("printer %d: after %s it was to be over after %s, and was after %s", seed, elapsed, end, took)
			}
		}
	}
}
