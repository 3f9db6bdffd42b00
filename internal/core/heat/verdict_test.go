package heat_test

import (
	"testing"
	"time"

	"diathermon/internal/core/heat"
)

// falls lets a nozzle that holds 210 °C fall to a temperature for a minute, and come back. It
// returns what is said of that.
func falls(g *heat.Guard, at *time.Duration, to float64) (alarms []heat.Alarm) {
	pass := func(seconds int, actual float64) {
		for range seconds {
			*at += time.Second
			r := heat.Reading{Heater: heat.Nozzle, Actual: actual, Setpoint: 210, HasSetpoint: true, Duty: 0.5, HasDuty: true}
			alarms = append(alarms, g.Note(midnight.Add(*at), *at, r, 0)...)
		}
	}
	for t := 210.0; t > to; t -= 0.25 { // slowly, so that it is no jump
		pass(2, t)
	}
	pass(60, to)
	for t := to; t < 210; t += 0.25 {
		pass(2, t)
	}
	pass(30*60, 210)
	return alarms
}

func TestWhatAPersonSaysOfAnAlarmCountsForItsGuard(t *testing.T) {
	g, at := &heat.Guard{Heater: heat.Nozzle, Limit: 285}, time.Duration(0)
	g.Ways.Most = 1
	falls(g, &at, 210)
	earned := 15 * 3600.0
	g.Standing(heat.Falling).Quiet = earned
	said := falls(g, &at, 194)
	if len(said) != 1 || said[0].Guard != heat.Falling || said[0].Action != heat.HoldRun {
		t.Fatalf("a fall by 16 K: %+v", said)
	}
	g.Told(heat.Falling, heat.Fault)
	if s := g.Standing(heat.Falling); s.Claimed != 1 || s.Faults != 1 || s.Quiet < earned+10*3600 {
		t.Errorf("a fault that was confirmed: %+v", s)
	}
	said = falls(g, &at, 194)
	if len(said) != 1 {
		t.Fatalf("again: %+v", said)
	}
	g.Told(heat.Falling, heat.Sound)
	s := g.Standing(heat.Falling)
	if s.Sound != 1 || s.Quiet != 0 || s.May(heat.Falling) != heat.Tell {
		t.Errorf("of what was nothing: %+v", s)
	}
	if said = falls(g, &at, 194); len(said) != 0 {
		t.Errorf("what was said to be nothing is raised again: %+v", said)
	}
	if said = falls(g, &at, 170); len(said) != 1 || said[0].Action != heat.Tell {
		t.Errorf("what is far worse: %+v", said)
	}
	for range 5 { // however often it is said, what is far off is told
		g.Told(heat.Falling, heat.Sound)
	}
	if said = falls(g, &at, 165); len(said) != 1 {
		t.Errorf("after being told five times that it was nothing: %+v", said)
	}
}

func TestAFaultThatIsStillThereTakesNothingFromItsGuard(t *testing.T) {
	g := &heat.Guard{Heater: heat.Bed, Limit: 110}
	g.Ways.Most = 1
	g.Standing(heat.Falling).Quiet = 20 * 3600
	falls := func(from, to int, actual float64) []heat.Alarm {
		return told(g, from, to, func(s float64) heat.Reading {
			by := min((60-actual)*(s-float64(from))/100, 60-actual)
			return heat.Reading{Actual: 60 - by, Setpoint: 60, Duty: 0.5, HasDuty: true}
		})
	}
	falls(0, 100, 60)
	if said := falls(100, 500, 48); len(said) == 0 {
		t.Fatal("a fall by 12 K was not told")
	}
	g.Told(heat.Falling, heat.Fault)
	falls(500, 700, 48)
	told(g, 700, 2000, func(float64) heat.Reading {
		return heat.Reading{Actual: 60, Setpoint: 60, Duty: 0.5, HasDuty: true}
	})
	if s := g.Standing(heat.Falling); s.Quiet < 30*3600 {
		t.Errorf("after a fault that a person confirmed while it was there: %+v", s)
	}
}

func TestNoWordMovesWhatIsCertain(t *testing.T) {
	g := &heat.Guard{Heater: heat.Bed, Limit: 110}
	for range 5 {
		g.Told(heat.TooHot, heat.Sound)
		g.Told(heat.Sensor, heat.Sound)
	}
	said := told(g, 0, 20, func(float64) heat.Reading { return reading(heat.Bed, 123, 60, 0) })
	if len(said) == 0 || said[0].Guard != heat.TooHot || said[0].Action != heat.CoolOff {
		t.Errorf("123 °C of 110: %+v", said)
	}
	said = told(g, 20, 40, func(float64) heat.Reading { return reading(heat.Bed, -14, 60, 0) })
	if len(said) == 0 || said[0].Action != heat.CoolOff {
		t.Errorf("an open wire: %+v", said)
	}
}

func TestWhatPersonsSaidOutlivesTheGuardsThatItWasSaidOf(t *testing.T) {
	g := &heat.Guard{Heater: heat.Nozzle, Limit: 285}
	g.Told(heat.Jump, heat.Sound)
	g.Told(heat.Jump, heat.Fault)
	g.Standing(heat.Jump).Quiet = 99 * 3600
	kept := g.Experience.Kept() // of other guards: its Version is 0
	s := kept.Standings[heat.Jump]
	if s == nil || s.Sound != 1 || s.Faults != 1 || s.Allowed == 0 || s.Quiet != 0 {
		t.Fatalf("kept: %+v", s)
	}
	past := heat.Experience{Standings: map[heat.GuardName]*heat.Standing{
		heat.Jump: {Quiet: 80 * 3600, Seen: 90 * 3600, Claimed: 3},
	}}
	if s := kept.With(past).Standings[heat.Jump]; s.Sound != 1 || s.Claimed != 3 || s.Seen != 90*3600 || s.Quiet != 0 {
		t.Errorf("with what the log tells: %+v", s)
	}
}
