package gcode_test

import (
	"testing"

	"diathermon/internal/core/gcode"
)

func TestObjectsAreTold(t *testing.T) {
	for command, want := range map[string]string{
		"M486 S1": "1", "m486 s12": "12", "M486S3": "3", "M486 S-1": "-", "M486 S0 AKnob": "0", "M486 T4": "", "M486 AS5 thing": "", "M486 A\"S5\"": "", "M486 P1": "", "M486 S": "", "M486": "", "M4861 S1": "",
		"EXCLUDE_OBJECT_START NAME=knob_id_0": "knob_id_0", "exclude_object_start name=Knob": "Knob", "EXCLUDE_OBJECT_START": "", "EXCLUDE_OBJECT_END NAME=knob": "-", "EXCLUDE_OBJECT_END": "-", "EXCLUDE_OBJECT_DEFINE NAME=a": "",
		"EXCLUDE_OBJECT NAME=a": "", "M104 S1": "", "E": "", "G1 X1": "", "": "", "M117 S1": "",
	} {
		key, says := gcode.ObjectOf(command)
		if got := key; says && key == "" {
			if want != "-" {
				t.Errorf("%q says of none, want %q", command, want)
			}
		} else if got != want || says != (want != "") {
			t.Errorf("%q is of %q, %v; want %q", command, got, says, want)
		}
	}
	for command, want := range map[string]string{"M486 AKnob": "Knob", `M486 S1 A"Left knob"`: "Left knob", "M486 S1": "", "M486 T2 A": "", "M117 A": "", "M486": ""} {
		if got := gcode.ObjectName(command); got != want {
			t.Errorf("%q names %q, want %q", command, got, want)
		}
	}
}
