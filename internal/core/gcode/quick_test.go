package gcode_test

import (
	"testing"

	"diathermon/internal/core/gcode"
)

// same fails unless whatever Quick reads is what Parse reads.
func same(t *testing.T, raw []byte) bool {
	t.Helper()
	var quick, whole gcode.Line
	if !quick.Quick(raw) {
		return false
	}
	command := gcode.Command(raw)
	if err := whole.Parse(command); err != nil {
		t.Fatalf("%q was read quickly, and plainly it is: %v", raw, err)
	}
	if quick.Code() != whole.Code() {
		t.Fatalf("%q: %v, plainly %v", raw, quick.Code(), whole.Code())
	}
	for letter := byte('A'); letter <= 'Z'; letter++ {
		a, hasA := quick.Value(letter)
		b, hasB := whole.Value(letter)
		if a != b || hasA != hasB || quick.Has(letter) != whole.Has(letter) {
			t.Fatalf("%q: %c is %v %v, plainly %v %v", raw, letter, a, hasA, b, hasB)
		}
	}
	return true
}

func TestWhatIsReadQuicklyIsReadTheSame(t *testing.T) {
	for line, want := range map[string]bool{
		"G1 X10 Y-3.25 E.04 F1200": true, "G0 Z.2": true, "G1 X5. Y0": true, "G1 X1 ; wall": true, "G1 X1;": true, "G1 X1\r": true, "G1 X123456.123456": true,
		"G1": false, "G1 ": false, "G1  X1": true, "G1 X1 X2": false, "G1 X": false, "G1 X1e3": false, "G1 X--1": false, "G1X1": false, "G1 X1Y2": false,
		"G1 X1234567890": false, "G1 X0.12345678901234567": false, "g1 X1": false, "G1 X1 M104": false, "G10 X1": false, "G1 X1 (a)": false, "G1 X+1": false,
		"G1 X1\x00": false, "G1 X1 \r": true, "G1 X1\r ": false, "G1 X.": false, "G1 X-": false, "G2 X1 I1": false, "G1 A1": false, "G1 X1*71": false, "G1 X12345678.1234567 Y12345678.1234567 Z12345678.1234567 E12345678.1234567 F1234567": false, "G1 X1\tY2": false,
	} {
		if got := same(t, []byte(line)); got != want {
			t.Errorf("%q is read quickly: %v, want %v", line, got, want)
		}
	}
}

func FuzzQuick(f *testing.F) {
	f.Add([]byte("G1 X10 Y-3.25 E.04 F1200 ; x"))
	f.Fuzz(func(t *testing.T, raw []byte) { same(t, raw) })
}
