package gcode

import (
	"slices"
	"strings"
	"testing"
)

func TestTheCatalogueAgreesWithItself(t *testing.T) {
	units := []Unit{Celsius, Millimetres, Feed, Speed, Acceleration, Volume, Seconds, Milliseconds, Percent, Byte, Hertz, Degrees, Milliamperes, Steps, Baud, Index, Count, Number, Switch, Flag}
	for code := range words {
		if code.Look().Does == "" {
			t.Errorf("%s has parameters and is not in the catalogue", code)
		}
		seen := ""
		for _, p := range code.Parameters() {
			if !slices.Contains(units, p.Unit) || p.Letter < 'A' || p.Letter > 'Z' || strings.ContainsRune(seen, rune(p.Letter)) || p.Letter == 'G' || p.Letter == 'M' && code.Number != 42 || p.Letter == 'N' && code.Number != 110 && code.Number != 421 {
				t.Errorf("%s has the parameter %c in %q", code, p.Letter, p.Unit)
			}
			if (p.Of != "") != (p.Of == Nozzle || p.Of == Bed || p.Of == Chamber || p.Of == Anywhere) || p.Of != "" && p.Unit != Celsius {
				t.Errorf("%s: %c is a setpoint in %q of %q", code, p.Letter, p.Unit, p.Of)
			}
			seen += string(p.Letter)
		}
		if len(code.Setpoints()) != len(setpoints[code]) {
			t.Errorf("%s has setpoints and does not heat", code)
		}
	}
	for code, meaning := range commands {
		of := map[Target]bool{}
		for _, p := range code.Setpoints() {
			of[p.Of] = true
		}
		if gives := meaning.Traits&Gives != 0; gives && (len(of) != 1 || of[Anywhere]) {
			t.Errorf("%s gives one heater its setpoint, and its parameters are for %v", code, of)
		}
		if meaning.Traits&Awaits != 0 && meaning.Traits&Slow == 0 {
			t.Errorf("%s waits and is not slow", code)
		}
		if meaning.Traits&Ruins != 0 && meaning.Traits&(Stops|Stores|Counts|Prints) == 0 {
			t.Errorf("%s ruins a print, and nothing says by what", code)
		}
		if meaning.Traits&Aside != 0 && meaning.Traits&(Moves|Counts|Stores|Stops|Pauses|Prints|Awaits) != 0 {
			t.Errorf("%s may be said beside a run, and does more than heat or show", code)
		}
	}
}

// Taken from the trade's own usage, by hand, so that a slip in the table is seen.
func TestWhatIsKnownOfCommandsThatHeat(t *testing.T) {
	for code, want := range map[Code]string{
		{'M', 104, 0}: "S nozzle, R nozzle, B nozzle; T", {'M', 109, 3}: "S nozzle, R nozzle, B nozzle; T", {'M', 140, 0}: "S bed, R bed; ",
		{'M', 190, 0}: "S bed, R bed; ", {'M', 141, 0}: "S chamber, R chamber; ", {'M', 191, 0}: "S chamber, R chamber; ", {'G', 10, 0}: "R nozzle, S nozzle; PT",
		{'M', 568, 0}: "R nozzle, S nozzle; PT", {'G', 26, 0}: "B bed, H nozzle, C chamber; T", {'M', 145, 0}: "H nozzle, B bed, C chamber; ", {'M', 303, 0}: "S anywhere; ET",
		{'M', 106, 0}: "; ", {'G', 1, 0}: "; ", {'M', 205, 0}: "; ",
	} {
		var got []string
		for _, p := range code.Setpoints() {
			got = append(got, string(p.Letter)+" "+string(p.Of))
		}
		if got := strings.Join(got, ", ") + "; " + code.Tools(); got != want {
			t.Errorf("%s: %s, want %s", code, got, want)
		}
	}
}
