package heat_test

import (
	"testing"

	"diathermon/internal/core/heat"
)

func TestWhatAFirmwareSaysOfItsTuning(t *testing.T) {
	tuning := heat.Tuning{Cycles: 3}
	for line, want := range map[string]bool{
		"PID Autotune start":                              true,
		" bias: 92 d: 92 min: 196.56 max: 203.15":         true,
		" T:204.10 /0.00 B:60.02 /60.00 @:64 B@:30":       false,
		"echo:busy: processing":                           false,
		" Classic PID":                                    true,
		" Kp: 22.20 Ki: 1.08 Kd: 114.00":                  true,
		"PID Autotune finished! Put the last Kp, Ki here": true,
	} {
		one := heat.Tuning{Cycles: 3}
		if got := one.Note(line); got != want {
			t.Errorf("%q is about the tuning: %v, want %v", line, got, want)
		}
	}
	for _, line := range []string{" bias: 92 d: 92 min: 196.56 max: 203.15", " bias: 90 d: 90 min: 197.1 max: 203.0 Ku: 25.1 Tu: 30.2", " Kp: 20.10 Ki: 1.00 Kd: 110.00", " bias: 91 d: 90 min: 197.2 max: 202.9", "Kp=22.20 Ki=1.08 Kd=114.00"} {
		tuning.Note(line)
	}
	if tuning.Cycle != 3 || !tuning.Found || tuning.Result != (heat.PID{P: 22.2, I: 1.08, D: 114}) || tuning.Failed != "" {
		t.Errorf("it came to %+v", tuning)
	}
	tuning.Note("PID Autotune failed! Temperature too high")
	if tuning.Failed == "" {
		t.Error("a failure was not noticed")
	}
	for h, want := range map[heat.Heater][2]string{
		heat.Nozzle: {"M303 E0 S210 C8", "M301 E0 P22.20 I1.08 D114.00"}, heat.Bed: {"M303 E-1 S210 C8", "M304 P22.20 I1.08 D114.00"}, heat.NozzleOf(1): {"M303 E1 S210 C8", "M301 E1 P22.20 I1.08 D114.00"},
	} {
		if got := [2]string{heat.TuneCommand(h, 210, 8), tuning.Result.Command(h)}; got != want {
			t.Errorf("%s: %q, want %q", h, got, want)
		}
	}
}
