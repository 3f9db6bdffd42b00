package heat_test

import (
	"slices"
	"testing"
	"time"

	"diathermon/internal/core/heat"
)

// told feeds a guard a reading each second, as a function of the second says, and
// returns what it raises.
func told(g *heat.Guard, from, to int, reading func(s float64) heat.Reading) (alarms []heat.Alarm) {
	for s := from; s < to; s++ {
		at := time.Duration(s) * time.Second
		r := reading(float64(s))
		r.Heater, r.HasSetpoint = g.Heater, true
		alarms = append(alarms, g.Note(midnight.Add(at), at, r, 0)...)
	}
	return alarms
}

func guards(alarms []heat.Alarm) (names []heat.GuardName) {
	for _, a := range alarms {
		names = append(names, a.Guard)
	}
	return names
}

// warmedUp is a guard of a nozzle that was heated from 25 to 200 °C in 88 s and is
// held there, at second 200.
func warmedUp() *heat.Guard {
	g := &heat.Guard{Heater: heat.Nozzle, Limit: 285}
	told(g, 1, 200, func(s float64) heat.Reading {
		r := heat.Reading{Actual: min(25+2*s, 200) + 0.1*float64(int(s)%2), Setpoint: 200, Duty: 1, HasDuty: true}
		if r.Actual > 199 {
			r.Duty = 0.4
		}
		return r
	})
	return g
}

func TestAReadingWithoutADutyIsAReadingWithoutADuty(t *testing.T) {
	g := warmedUp() // rises on, above its setpoint, at a third of its duty: few reports tell it
	alarms := told(g, 200, 270, func(s float64) heat.Reading {
		r := heat.Reading{Actual: 203 + (s-200)*0.9, Setpoint: 200}
		if int(s)%50 == 3 {
			r.Duty, r.HasDuty = 0.3, true
		}
		return r
	})
	if len(alarms) > 0 {
		t.Errorf("a heater that is given duty: %+v", alarms)
	}
	g = warmedUp() // the same with duties of nought between those that are missing: nobody heats it
	alarms = told(g, 200, 260, func(s float64) heat.Reading {
		return heat.Reading{Actual: 203 + (s-200)*0.9, Setpoint: 200, HasDuty: int(s)%2 == 1}
	})
	if !slices.Contains(guards(alarms), heat.Runaway) {
		t.Errorf("a heater that nobody heats: %+v", alarms)
	}
}

func TestAFirmwareThatAlwaysTellsNoDutyIsOneThatTellsNone(t *testing.T) {
	g := &heat.Guard{Heater: heat.Nozzle, Limit: 285}
	if alarms := told(g, 1, 400, func(s float64) heat.Reading {
		return heat.Reading{Actual: min(25+2*s, 208) + 0.1*float64(int(s)%2), Setpoint: 200, HasDuty: true} // @:0, whatever it gives
	}); len(alarms) > 0 {
		t.Errorf("a warm-up: %+v", alarms)
	}
	if blind := g.Blind(heat.Runaway); blind == "" {
		t.Error("it is not said that its switch cannot be watched")
	}
	if alarms := told(g, 400, 440, func(s float64) heat.Reading {
		return heat.Reading{Actual: 208 + 2*(s-400), Setpoint: 200, HasDuty: true}
	}); !slices.Contains(guards(alarms), heat.Runaway) {
		t.Errorf("80 K above its setpoint: %+v", alarms)
	}
}

func TestAHeaterWhoseDutyIsNotToldMayWaitForItsTurn(t *testing.T) {
	g := &heat.Guard{Heater: heat.Nozzle, Limit: 285}
	alarms := told(g, 1, 120, func(s float64) heat.Reading { // its firmware heats the bed first
		return heat.Reading{Actual: 25 + 0.1*float64(int(s)%2), Setpoint: 200}
	})
	if len(alarms) != 1 || alarms[0].Guard != heat.NoRise || alarms[0].Action != heat.Tell {
		t.Errorf("%+v", alarms)
	}
}

func TestWhatAnAlarmWasRaisedAboutIsNotOrdinary(t *testing.T) {
	g := warmedUp()
	before := g.Ways.Fall
	alarms := told(g, 200, 1200, func(s float64) heat.Reading { // it slips, and is where it was
		r := heat.Reading{Actual: 200 + 0.1*float64(int(s)%2), Setpoint: 200, Duty: 0.4, HasDuty: true}
		if s > 300 && s < 330 {
			r.Actual = 140 + 0.1*float64(int(s)%2)
		}
		return r
	})
	if len(alarms) == 0 || alarms[0].Guard != heat.Jump || alarms[0].Action != heat.HoldRun { // no block loses 60 K in a second
		t.Errorf("60 K in a second: %+v", alarms)
	}
	if g.Ways.Fall > before+1 {
		t.Errorf("it has learned that falling by %.0f K is ordinary", g.Ways.Fall)
	}
}

func TestDutiesUpTo255AreBroughtToScale(t *testing.T) {
	var s heat.DutyScale
	scaled := func(line string) float64 {
		r := heat.ParseReport(line)[0]
		s.Note(&r)
		return r.Duty
	}
	if d := scaled("T:25.0 /200.0 @:64"); d != 64.0/127 {
		t.Errorf("before it is known: %g", d)
	}
	if d := scaled("T:25.0 /200.0 @:200"); d < 0.784 || d > 0.785 {
		t.Errorf("as soon as it is known: %g", d)
	}
	if d := scaled("T:25.0 /200.0 @:255"); d != 1 {
		t.Errorf("full: %g", d)
	}
	if d := scaled("T:25.0 /200.0 @:128"); d < 0.5 || d > 0.51 {
		t.Errorf("a half: %g", d)
	}
	if d := scaled("T:25.0 /200.0 @:999"); d != 1 {
		t.Errorf("more than there is: %g", d)
	}
}

func TestExperienceOfBeforeIsAddedToThatOfNow(t *testing.T) {
	standing := func(hours, closest float64) heat.Experience {
		return heat.Experience{Standings: map[heat.GuardName]*heat.Standing{heat.Jump: {Quiet: hours * 3600, Closest: closest}}, Ways: heat.Ways{Fall: closest * 10, Slowest: []float64{2 - closest}}}
	}
	both := standing(2, 0.3).With(standing(20, 0.5))
	if s := both.Standings[heat.Jump]; s.Quiet != 22*3600 || s.Closest != 0.5 || both.Ways.Fall != 5 || both.Ways.Slowest[0] != 1.5 || both.Version != heat.Version {
		t.Errorf("added up: %+v, %+v", s, both)
	}
	if s := standing(2, 0.9).With(standing(20, 0.5)).Standings[heat.Jump]; s.Quiet != 2*3600 || s.Closest != 0.9 {
		t.Errorf("where something has come near since: %+v", s)
	}
}

func TestANozzleWarmsNoBed(t *testing.T) {
	last := map[heat.Heater]heat.Reading{heat.Nozzle: {Actual: 230}, heat.Bed: {Actual: 90}, heat.NozzleOf(1): {Actual: 150}}
	for h, want := range map[heat.Heater]float64{heat.Bed: 0, heat.Nozzle: 150, heat.NozzleOf(1): 230} {
		if got := heat.Around(h, last); got != want {
			t.Errorf("about the %s it has %.0f °C, want %.0f", h, got, want)
		}
	}
}

func TestWhatGoesBackALittleIsNotToldAgain(t *testing.T) {
	g := warmedUp()
	alarms := told(g, 200, 800, func(s float64) heat.Reading { // about what is told of a heater that needs more and more
		g.Growth = heat.Growth{Known: true, Sure: true, Share: 0.15, Hotter: 26.5 + 2*float64(int(s/20)%2-1)}
		return heat.Reading{Actual: 200 + 0.1*float64(int(s)%2), Setpoint: 200, Duty: 0.4, HasDuty: true}
	})
	if len(alarms) != 1 || alarms[0].Guard != heat.Growing || alarms[0].Action != heat.Tell {
		t.Errorf("told %d times: %+v", len(alarms), alarms)
	}
	g.Growth = heat.Growth{Known: true}
	told(g, 800, 900, func(float64) heat.Reading { return heat.Reading{Actual: 200, Setpoint: 200, Duty: 0.4, HasDuty: true} })
	g.Growth.Hotter = 30
	if alarms := told(g, 900, 910, func(s float64) heat.Reading {
		return heat.Reading{Actual: 200 + 0.1*float64(int(s)%2), Setpoint: 200, Duty: 0.4, HasDuty: true}
	}); len(alarms) != 1 {
		t.Errorf("when it was over and comes again: %+v", alarms)
	}
}

func TestWhatDidSomethingMayDoItAgainAsSoonAsItHasGoneBack(t *testing.T) {
	g := warmedUp()
	g.Bound(heat.Growing, heat.CoolOff) // a keeper trusts it
	alarms := 0
	for i, hotter := range []float64{30, 22, 30} {
		g.Growth = heat.Growth{Known: true, Sure: true, Share: 0.15, Hotter: hotter}
		alarms += len(told(g, 200+10*i, 210+10*i, func(s float64) heat.Reading {
			return heat.Reading{Actual: 200 + 0.1*float64(int(s)%2), Setpoint: 200, Duty: 0.4, HasDuty: true}
		}))
	}
	if alarms != 2 {
		t.Errorf("raised %d times, want twice", alarms)
	}
}
