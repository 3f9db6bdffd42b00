package heat_test

import (
	"math"
	"reflect"
	"testing"
	"time"

	"diathermon/internal/core/heat"
)

func reading(h heat.Heater, actual float64, more ...float64) heat.Reading {
	r := heat.Reading{Heater: h, Actual: actual}
	if len(more) > 0 {
		r.Setpoint, r.HasSetpoint = more[0], true
	}
	if len(more) > 1 {
		r.Duty, r.HasDuty = more[1], true
	}
	return r
}

func TestReportsOfEveryCommonForm(t *testing.T) {
	for line, want := range map[string][]heat.Reading{
		"ok T:21.50 /0.00 B:21.40 /60.00 @:0 B@:127": {reading(heat.Nozzle, 21.5, 0, 0), reading(heat.Bed, 21.4, 60, 1)},
		" T:205.1 /205.0 B:60.0 /60.0 @:64 B@:32":    {reading(heat.Nozzle, 205.1, 205, 64.0/127), reading(heat.Bed, 60, 60, 32.0/127)},
		"ok T:201/205 B:59/60":                       {reading(heat.Nozzle, 201, 205), reading(heat.Bed, 59, 60)},
		"T:180.2 E:0 W:?":                            {reading(heat.Nozzle, 180.2)},
		"T:180.2 /200.0 @:127 W:3":                   {reading(heat.Nozzle, 180.2, 200, 1)},
		"T:25.0 /0.0 B:24.0 /0.0 T0:25.0 /0.0 T1:30.5 /40.0 @:0 B@:0 @0:0 @1:127": {
			reading(heat.Nozzle, 25, 0, 0), reading(heat.Bed, 24, 0, 0), reading(heat.NozzleOf(1), 30.5, 40, 1)},
		"T0:25.0 /0.0 T1:26.0 /0.0 B:24.0 /0.0": {reading(heat.Nozzle, 25, 0), reading(heat.NozzleOf(1), 26, 0), reading(heat.Bed, 24, 0)},
		"ok T:21.5 /0.0 C:33.5 /45.0 C@:10":     {reading(heat.Nozzle, 21.5, 0), reading(heat.Chamber, 33.5, 45, 10.0/127)},
		"ok N42 P15 B3 T:-14.2 /0.0":            {reading(heat.Nozzle, -14.2, 0)}, // a sensor that is unplugged
		"ok":                                    nil,
		"ok P15 B3":                             nil,
		"echo:busy: processing":                 nil,
		"T:nan /0.0":                            nil,
		"T: /":                                  nil,
		"T:99999999 /0":                         nil,
		"T:21.5 /":                              {reading(heat.Nozzle, 21.5)},
		"FIRMWARE_NAME:Stand-in PROTOCOL:1":     nil,
		"":                                      nil,
	} {
		if got := heat.ParseReport(line); !reflect.DeepEqual(got, want) {
			t.Errorf("ParseReport(%q)\n got %+v\nwant %+v", line, got, want)
		}
	}
}

func TestSetpointsAreBounded(t *testing.T) {
	limits := heat.Limits{Nozzle: 285, Bed: 110}
	for _, c := range []struct {
		heater   heat.Heater
		setpoint float64
		ok       bool
	}{
		{heat.Nozzle, 205, true}, {heat.Nozzle, 285, true}, {heat.Nozzle, 285.1, false}, {heat.Nozzle, 0, true},
		{heat.Bed, 110, true}, {heat.Bed, 111, false}, {heat.Bed, -1, false}, {heat.Bed, math.NaN(), false}, {heat.Bed, math.Inf(1), false},
		{heat.Chamber, 40, false}, {heat.Chamber, 0, true}, {heat.NozzleOf(1), 300, false},
	} {
		if err := limits.Check(c.heater, c.setpoint); (err == nil) != c.ok {
			t.Errorf("%s to %v: %v, want ok %v", c.heater, c.setpoint, err, c.ok)
		}
	}
}

func TestHeatersHaveOneName(t *testing.T) {
	for in, want := range map[string]heat.Heater{"nozzle": heat.Nozzle, "nozzle0": heat.Nozzle, " Bed ": heat.Bed, "nozzle3": heat.NozzleOf(3), "chamber": heat.Chamber} {
		if got, err := heat.ParseHeater(in); err != nil || got != want {
			t.Errorf("%q is %q, %v, want %q", in, got, err, want)
		}
	}
	for _, bad := range []string{"", "hotend", "nozzle-1", "nozzle99", "nozzle01", "bed2", "nozzle0; M112"} {
		if got, err := heat.ParseHeater(bad); err == nil {
			t.Errorf("%q was taken for %q", bad, got)
		}
	}
	for h, want := range map[heat.Heater]string{heat.Nozzle: "M104 S205.5", heat.NozzleOf(1): "M104 T1 S205.5", heat.Bed: "M140 S205.5", heat.Chamber: "M141 S205.5"} {
		if got := heat.SetCommand(h, 205.5); got != want {
			t.Errorf("%s: %q, want %q", h, got, want)
		}
	}
}

func TestAHeatersStateFollowsItsReadings(t *testing.T) {
	var w heat.Watch
	at := time.Duration(0)
	step := func(actual, setpoint float64, wait time.Duration) heat.State {
		at += wait
		return w.Note(reading(heat.Bed, actual, setpoint), at)
	}
	for i, c := range []struct {
		actual, setpoint float64
		wait             time.Duration
		want             heat.State
	}{
		{21, 0, 0, heat.Off},
		{22, 60, time.Second, heat.Heating},
		{57, 60, 90 * time.Second, heat.Settling},
		{59, 60, 2 * time.Second, heat.Settling},
		{60.5, 60, 10 * time.Second, heat.Settling},
		{60, 60, 10 * time.Second, heat.Steady},
		{57.5, 60, time.Second, heat.Steady}, // a draught
		{53, 60, time.Second, heat.Heating},
		{59.5, 60, time.Second, heat.Settling},
		{59.5, 40, time.Second, heat.Cooling},
		{59, 0, time.Second, heat.Cooling},
		{30, 0, 600 * time.Second, heat.Off},
	} {
		if got := step(c.actual, c.setpoint, c.wait); got != c.want {
			t.Errorf("reading %d, %v of %v: %s, want %s", i, c.actual, c.setpoint, got, c.want)
		}
	}
	w.Note(reading(heat.Bed, 50, 60), at)
	if got := w.Note(reading(heat.Bed, 51), at); got != heat.Heating {
		t.Errorf("a report without a setpoint keeps the last one: %s", got)
	}
}

func FuzzParseReport(f *testing.F) {
	f.Add("ok T:21.50 /0.00 B:21.40 /60.00 @:0 B@:127")
	f.Add(" T:25.0 /0.0 T0:25.0 /0.0 T1:30.5 /40.0 @1:127 W:?")
	f.Add("T:/B:@:")
	f.Fuzz(func(t *testing.T, line string) {
		for _, r := range heat.ParseReport(line) {
			if math.IsNaN(r.Actual) || math.IsNaN(r.Setpoint) || r.Duty < 0 || r.Duty > 1 {
				t.Errorf("%q gave %+v", line, r)
			}
			if _, err := heat.ParseHeater(string(r.Heater)); err != nil {
				t.Error(err)
			}
		}
	})
}
