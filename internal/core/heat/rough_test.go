package heat_test

import (
	"testing"
	"time"

	"diathermon/internal/core/heat"
)

func TestUnknownHeatersAreGuessedFromWhatTheyShow(t *testing.T) {
	steps := []heat.Step{{Heater: heat.Bed, Setpoint: 60}, {Heater: heat.Nozzle, Setpoint: 150}, {Heater: heat.Bed, Setpoint: 60, Wait: true}, {Heater: heat.Nozzle, Setpoint: 210, Wait: true}}
	seen := func(from, rate, setpoint float64) *heat.Rising { // over 20 s, after some in which it held another setpoint
		r := &heat.Rising{}
		r.Note(1, from, 0)
		for s := range 21 {
			r.Note(float64(2+s), from+rate*float64(s), setpoint)
		}
		return r
	}
	letsUp := seen(140, 2, 210)
	for s := range 20 { // nearer its setpoint
		letsUp.Note(float64(23+s), 190+0.1*float64(s), 210)
	}
	for name, c := range map[string]struct {
		now       map[heat.Heater]*heat.Rising
		low, high time.Duration
	}{
		"cold, nothing seen":             {map[heat.Heater]*heat.Rising{heat.Nozzle: seen(20, 0, 150), heat.Bed: seen(20, 0, 60)}, 170 * time.Second, 4 * time.Minute},
		"a slow bed":                     {map[heat.Heater]*heat.Rising{heat.Nozzle: seen(110, 2, 150), heat.Bed: seen(38, 0.1, 60)}, 225 * time.Second, 5 * time.Minute},
		"a fast one":                     {map[heat.Heater]*heat.Rising{heat.Nozzle: seen(110, 2, 150), heat.Bed: seen(30, 1, 60)}, 40 * time.Second, 55 * time.Second},
		"a nozzle whose control lets up": {map[heat.Heater]*heat.Rising{heat.Nozzle: letsUp, heat.Bed: seen(61, 0, 60)}, 5 * time.Second, 12 * time.Second},
		"all but there":                  {map[heat.Heater]*heat.Rising{heat.Nozzle: seen(209, 0.03, 210), heat.Bed: seen(61, 0, 60)}, 0, time.Second},
		"a heater that is absent":        {map[heat.Heater]*heat.Rising{}, 2 * time.Minute, 12 * time.Minute},
	} {
		if got := heat.Roughly(steps, c.now); got < c.low || got > c.high {
			t.Errorf("%s: %s, want %s to %s", name, got, c.low, c.high)
		}
	}
	if got := heat.Roughly(nil, nil); got != 0 {
		t.Errorf("nothing to wait for takes %s", got)
	}
	if got := heat.Roughly([]heat.Step{{Heater: heat.Bed, Setpoint: 500, Wait: true}}, nil); got < time.Hour || got > 12*time.Hour {
		t.Errorf("a setpoint that no bed comes to takes %s", got)
	}
}
