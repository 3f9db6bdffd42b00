package run_test

import (
	"testing"

	"diathermon/internal/core/run"
)

func TestLinesThatAskForAPerson(t *testing.T) {
	for command, want := range map[string]string{
		"M0": "the file asks for it", "m1": "the file asks for it", "M0 Stop here": "the file asks for it: Stop here", "M1 Put the nut in": "the file asks for it: Put the nut in",
		"M0 S5": "", "M1 P500": "", "M0 P": "the file asks for it: P", "M25": "the file asks for it", "M25 P1": "", "M226": "the file asks for it", "M226 P4 S1": "", "M226 S1": "the file asks for it",
		"M600": "", "M601": "", "M104 S200": "", "G1 X0": "", "M117 M0": "", "M": "",
	} {
		if got := run.Asks(command); got != want {
			t.Errorf("%s: %q, want %q", command, got, want)
		}
	}
}
