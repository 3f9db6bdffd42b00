package settable_test

import (
	"math"
	"strings"
	"testing"

	"diathermon/internal/core/settable"
)

var (
	speed = settable.Field{Name: "speed_percent", Word: "Speed", Unit: "%", About: "of what lays plastic", Least: 10, Most: 300, Zero: "as sliced"}
	tools = settable.Field{Name: "tools", Word: "Tools", About: "how many", Least: 1, Most: 16, Whole: true}
	name  = settable.Field{Name: "name", Word: "Name", About: "of the printer", Longest: 4}
)

func TestAFieldHasBounds(t *testing.T) {
	for _, c := range []struct {
		f    settable.Field
		v    float64
		want string // empty: it goes
	}{
		{speed, 10, ""}, {speed, 300, ""}, {speed, 0, ""}, {speed, 99.5, ""},
		{speed, 9.9, "speed cannot be 9.9 %: it can be 10 to 300 %, or 0: as sliced"},
		{speed, math.NaN(), "speed cannot be NaN %"}, {speed, math.Inf(1), "speed cannot be +Inf %"}, {speed, -10, "-10 %"},
		{tools, 16, ""}, {tools, 1e-320, "1e-320"}, {tools, 1.5, "tools cannot be 1.5: it can be 1 to 16"}, {tools, 0, "cannot be 0"}, {tools, 1e6, "1000000"},
	} {
		switch err := c.f.Check(c.v); {
		case err == nil && c.want != "", err != nil && (c.want == "" || !strings.Contains(err.Error(), c.want)):
			t.Errorf("%s of %g: %v, want %q", c.f.Name, c.v, err, c.want)
		}
	}
	if err := name.CheckText("üüüü"); err != nil {
		t.Errorf("four letters: %v", err)
	}
	if err := name.CheckText("Vesper"); err == nil || err.Error() != "name cannot be a text of 6 letters: it can be up to 4 letters" {
		t.Errorf("six letters: %v", err)
	}
}

func TestAFieldIsWorded(t *testing.T) {
	for got, want := range map[string]string{
		speed.Usage(): "of what lays plastic: 10 to 300 `%`, or 0: as sliced", tools.Usage(): "how many: 1 to 16", name.Usage(): "of the printer; up to 4 letters",
		speed.In(0): "as sliced", speed.In(50): "50 %", tools.In(0): "0",
	} {
		if got != want {
			t.Errorf("%q, want %q", got, want)
		}
	}
}
