package byhand_test

import (
	"context"
	"errors"
	"testing"

	"diathermon/internal/core/bounds"
	"diathermon/internal/host/byhand"
)

func TestALineThatCouldBeMeantAsTheEmergencyStopIsOne(t *testing.T) {
	halted := 0
	h := byhand.New(nil, nil, func(context.Context) error { halted++; return nil })
	for i, line := range []string{"M112", "m112", " N5 M112*34", "G1 X5\nM112", "M112 ; stop", "M 112"} {
		said, err := h.Say(t.Context(), line)
		if err != nil || !said.Taken || said.Line != "M112" || halted != i+1 {
			t.Errorf("%q: %+v, %v, halted %d times", line, said, err, halted)
		}
	}
	for _, line := range []string{"", " ; nothing", "G28\nG1", "G1\x07 X1", "G1 \x00 X1", string(make([]byte, 500))} {
		if _, err := h.Say(t.Context(), line); !errors.Is(err, bounds.ErrLine) {
			t.Errorf("%q: %v", line, err)
		}
	}
	if halted != 6 {
		t.Errorf("halted %d times", halted)
	}
}
