package run

import (
	"errors"
	"fmt"

	"diathermon/internal/core/gcode"
)

// A Step is one part of a pick-up plan.
type Step struct {
	Why      string   // in words
	Commands []string // said one after another
}

// A Plan says how a run is picked up on a printer that has forgotten everything.
type Plan struct {
	Command int     // the file's commands before the one it goes on with
	Layer   int     // in which that is, from 1; 0 before the first
	Z       float64 // height at which it goes on, mm
	Height  float64 // at which the nozzle is believed to be now, mm
	Steps   []Step
}

// ErrNothingLaid means that there is nothing to pick up: the file can be started
// anew.
var ErrNothingLaid = errors.New("nothing was laid yet: give the run up and start the file anew")

// PickUp plans how to go on at a point of the file with a printer whose firmware
// has forgotten everything and whose nozzle is believed to be at height. The bed
// is heated first, so that the part stays held; then the nozzle, so that it lets
// go of the part; X and Y are homed above the part, and Z is never homed, because
// the part is in the way.
func (k Parking) PickUp(command, layer int, at Point, height float64, part Part) (Plan, error) {
	plan := Plan{Command: command, Layer: layer, Z: at.Machine()[gcode.Z], Height: height}
	switch {
	case !at.Knows() || layer == 0:
		return plan, ErrNothingLaid
	case height < 0 || height > k.Bed[2]:
		return plan, fmt.Errorf("the nozzle cannot be at %g mm: this printer's Z goes from 0 to %g", height, k.Bed[2])
	case at.Nozzle() < Melting:
		return plan, fmt.Errorf("the nozzle's setpoint is %g °C at that line, too cold to go on", at.Nozzle())
	}
	step := func(why string, f func(*sheet)) {
		var s sheet
		if f(&s); len(s) > 0 {
			plan.Steps = append(plan.Steps, Step{Why: why, Commands: s})
		}
	}
	step("heat the bed and keep it hot, so that the part stays held; then the nozzle, so that it lets go of the part", func(s *sheet) {
		if at.Tool != 0 {
			s.say(fmt.Sprintf("T%d", at.Tool))
		}
		heatUp(s, at)
	})
	step(fmt.Sprintf("take the nozzle to be at %s mm, draw the filament back and lift", decimal(height)), func(s *sheet) {
		s.say("G21")
		s.say("G90")
		s.say("M83")
		s.say("G92 Z" + decimal(height))
		s.move("G1", no, no, no, -k.Retract, k.Filament)
		s.move("G1", no, no, k.above(height), no, k.Climb)
	})
	step("home X and Y above the part; Z is not homed, the part is in the way", func(s *sheet) { s.say("G28 X Y") })
	clear := max(k.above(height), k.above(plan.Z))
	step("prime beside the part", func(s *sheet) {
		if clear > k.above(height) {
			s.move("G1", no, no, clear, no, k.Climb)
		}
		x, y := k.place(at.Machine(), part)
		s.move("G0", x, y, no, no, k.Travel)
		s.move("G1", no, no, no, k.Retract+k.Prime, gently)
		s.move("G1", no, no, no, -k.Retract, k.Filament)
	})
	step("restore speed, flow and fan, and come back from above", func(s *sheet) {
		if at.Speed > 0 && at.Speed != 100 {
			s.say("M220 S" + decimal(at.Speed))
		}
		if at.Flow > 0 && at.Flow != 100 {
			s.say("M221 S" + decimal(at.Flow))
		}
		if shift := at.Shift; shift[gcode.X] != 0 || shift[gcode.Y] != 0 || shift[gcode.Z] != 0 { // as the file had it
			x, y := k.place(at.Machine(), part)
			s.say(fmt.Sprintf("G92 X%s Y%s Z%s", decimal(x-shift[gcode.X]), decimal(y-shift[gcode.Y]), decimal(clear-shift[gcode.Z])))
		}
		s.back(k, at, true)
	})
	return plan, nil
}

// Commands returns the plan's commands in order.
func (p Plan) Commands() []string {
	var out []string
	for _, s := range p.Steps {
		out = append(out, s.Commands...)
	}
	return out
}
