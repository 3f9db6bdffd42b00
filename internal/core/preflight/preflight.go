// Package preflight says what stands between a file and its start.
//
// It looks at facts handed to it and gives checks in words; it leaves to the
// host to gather the facts and to people to decide about warnings.
package preflight

import (
	"fmt"
	"math"
	"slices"

	"diathermon/internal/core/gcode"
	"diathermon/internal/core/heat"
	"diathermon/internal/core/toolpath"
)

// Level says how much a check weighs.
type Level string

// The levels.
const (
	Block Level = "block" // it cannot start
	Warn  Level = "warn"  // it can, and a person should know
	Note  Level = "note"  // worth knowing
)

// A Check is one thing found.
type Check struct {
	Level Level
	Title string // what is the matter
	Do    string // what to do about it
}

// A Printer is what the machine can take.
type Printer struct {
	Width, Depth, Height float64 // mm
	Tools                int
	Limits               heat.Limits
}

// Facts are what the checks look at.
type Facts struct {
	Printer  Printer
	LinkLive bool
	LinkWhy  string   // why the link is not live
	Sleepy   string   // why the computer may go to sleep in the middle; empty: it cannot
	Alarms   []string // that nobody has acknowledged
	Busy     string   // the file that runs now; empty if none
	File     toolpath.Summary
}

// slack is how far outside the bed, in mm, a purge line may lie.
const slack = 0.5

// Checks returns what is found, blocks first.
func Checks(f Facts) []Check {
	var out []Check
	add := func(l Level, do, format string, args ...any) {
		out = append(out, Check{Level: l, Title: fmt.Sprintf(format, args...), Do: do})
	}
	if !f.LinkLive {
		add(Block, f.LinkWhy, "the printer is not answering")
	}
	if f.Busy != "" {
		add(Block, "wait until it ends, stop it, or pick it up", "%s is not done yet", f.Busy)
	}
	for _, text := range f.Alarms {
		add(Block, "see to its cause, then acknowledge it", "an alarm waits for you: %s", text)
	}
	for _, h := range sorted(f.File.Setpoints) {
		if err := f.Printer.Limits.Check(h, f.File.Setpoints[h]); err != nil {
			add(Block, "slice it again for this printer", "the file's setpoint is out of bounds: %v", err)
		}
	}
	if f.File.Tools > f.Printer.Tools {
		add(Block, "slice it again for this printer", "the file uses tool %d and this printer has %d", f.File.Tools-1, f.Printer.Tools)
	}
	size := [3]float64{f.Printer.Width, f.Printer.Depth, f.Printer.Height}
	for axis := gcode.X; axis <= gcode.Z && !f.File.Extent.Empty; axis++ {
		low, high := f.File.Extent.Min[axis], f.File.Extent.Max[axis]
		if low < -slack || high > size[axis]+slack {
			add(Block, "slice it again for this printer", "it does not fit: %c reaches from %.1f to %.1f mm and this printer has 0 to %.0f mm", gcode.Letters[axis], low, high, size[axis])
		}
	}
	if f.File.Extent.Empty {
		add(Warn, "start it if that is what you want", "the file lays no plastic")
	}
	if f.Sleepy != "" {
		add(Note, "turn sleep off in its settings, if it has any", "this computer cannot be kept awake: %s", f.Sleepy)
	}
	if f.File.Unread > 0 {
		add(Note, "the firmware will judge them", "%d lines are not plain G-code; the first is %s", f.File.Unread, f.File.FirstOdd)
	}
	slices.SortStableFunc(out, func(a, b Check) int { return weight(a.Level) - weight(b.Level) })
	return out
}

func weight(l Level) int { return slices.Index([]Level{Block, Warn, Note}, l) }

func sorted(m map[heat.Heater]float64) []heat.Heater {
	var hs []heat.Heater
	for h, v := range m {
		if !math.IsNaN(v) {
			hs = append(hs, h)
		}
	}
	slices.Sort(hs)
	return hs
}
