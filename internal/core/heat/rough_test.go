package heat_test

import (
	"testing"
	"time"

	"diathermon/internal/core/heat"
)

func TestUnknownHeatersAreGuessedFromWhatTheyShow(t *testing.T) {
	steps := []heat.Step{{Heater: heat.Bed, Setpoint: 60}, {Heater: heat.Nozzle, Setpoint: 150}, {Heater: heat.Bed, Setpoint: 60, Wait: true}, {Heater: heat.Nozzle, Setpoint: 210, Wait: true}}
	for name, c := range map[string]struct {
		now       map[heat.Heater]heat.Rise
		low, high time.Duration
	}{
		"cold, nothing seen":      {map[heat.Heater]heat.Rise{heat.Nozzle: {At: 20}, heat.Bed: {At: 20}}, 3 * time.Minute, 4 * time.Minute},
		"a slow bed":              {map[heat.Heater]heat.Rise{heat.Nozzle: {At: 150, Rate: 2}, heat.Bed: {At: 40, Rate: 0.1}}, 4 * time.Minute, 5 * time.Minute},
		"all but there":           {map[heat.Heater]heat.Rise{heat.Nozzle: {At: 209, Rate: 2}, heat.Bed: {At: 61, Rate: 0.1}}, 0, time.Second},
		"a heater that is absent": {map[heat.Heater]heat.Rise{}, 2 * time.Minute, 12 * time.Minute},
	} {
		if got := heat.Roughly(steps, c.now); got < c.low || got > c.high {
			t.Errorf("%s: %s, want %s to %s", name, got, c.low, c.high)
		}
	}
	if got := heat.Roughly(nil, nil); got != 0 {
		t.Errorf("nothing to wait for takes %s", got)
	}
}
