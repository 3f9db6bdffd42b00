// Package preflight says what stands between a file and its start.
//
// It looks at facts handed to it and gives checks in words; it leaves to the
// host to gather the facts and to people to decide about warnings.
package preflight

import (
	"fmt"
	"math"
	"slices"

	"diathermon/internal/core/bounds"
	"diathermon/internal/core/gcode"
	"diathermon/internal/core/heat"
	"diathermon/internal/core/machine"
	"diathermon/internal/core/toolpath"
)

// Level says how much a check weighs.
type Level = bounds.Level

// The levels.
const (
	Block = bounds.Block
	Warn  = bounds.Warn
	Note  = bounds.Note
)

// A Check is one thing found.
type Check struct {
	Level Level
	Title string // what is the matter
	Do    string // what to do about it
}

// Facts are what the checks look at.
type Facts struct {
	Printer  machine.Printer
	LinkLive bool
	LinkWhy  string   // why the link is not live
	Sleepy   string   // why the computer may go to sleep in the middle; empty: it cannot
	Alarms   []string // that nobody has acknowledged
	Busy     string   // the file that runs now; empty if none
	File     toolpath.Summary
}

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
	if f.File.Trouble != "" {
		add(Block, "slice it again, or mend that line", "it cannot be printed: %s", f.File.Trouble)
		return out
	}
	if f.File.Version != toolpath.Version {
		add(Block, "wait a moment", "what it is has not been worked out yet")
		return out
	}
	for _, h := range sorted(f.File.Setpoints) {
		if err := f.Printer.Limits.Check(h, f.File.Setpoints[h]); err != nil {
			add(Block, "slice it again for this printer", "the file's setpoint is out of bounds: %v", err)
		}
	}
	if f.File.Tools > f.Printer.Tools {
		add(Block, "slice it again for this printer", "the file uses tool %d, which is the %s, and this printer has %s", f.File.Tools-1, ordinal(f.File.Tools), counted(f.Printer.Tools, "tool"))
	}
	size := f.Printer.Size()
	for axis := gcode.X; axis <= gcode.Z && !f.File.Extent.Empty; axis++ {
		low, high := f.File.Extent.Min[axis], f.File.Extent.Max[axis]
		if low < -bounds.Slack || high > size[axis]+bounds.Slack {
			add(Block, "slice it again for this printer", "it does not fit: %c reaches from %.1f to %.1f mm and this printer has 0 to %.0f mm", gcode.Letters[axis], low, high, size[axis])
		}
	}
	out = append(out, reach(f)...)
	if h := f.File.Hints; h.Nozzle > 0 && f.Printer.Nozzle > 0 && math.Abs(h.Nozzle-f.Printer.Nozzle) > 0.01 {
		add(Warn, "see that the nozzle fits, or slice it again", "its comments say that it is for a nozzle of %g mm and this printer has %g mm", h.Nozzle, f.Printer.Nozzle)
	}
	if h := f.File.Hints; h.Filament > 0 && f.Printer.Filament > 0 && math.Abs(h.Filament-f.Printer.Filament) > 0.3 {
		add(Warn, "slice it again for this printer", "its comments say that it is for filament of %g mm and this printer has %g mm", h.Filament, f.Printer.Filament)
	}
	if f.File.Extent.Empty {
		add(Warn, "start it if that is what you want", "the file lays no plastic")
	}
	if f.Sleepy != "" {
		add(Note, "turn sleep off in its settings, if it has any", "this computer cannot be kept awake: %s", f.Sleepy)
	}
	if hottest := max(f.Printer.Limits.Nozzle, f.Printer.Limits.Bed, f.Printer.Limits.Chamber); f.File.Hidden > hottest {
		add(Block, "slice it again for this printer", "line %d has a named command with %g, which is above every limit of this printer if it is a temperature", f.File.HiddenLine, f.File.Hidden)
	}
	for _, found := range f.File.Findings {
		where := fmt.Sprintf("line %d", found.Line)
		if found.Count > 1 {
			where += fmt.Sprintf(" and %d more", found.Count-1)
		}
		add(found.Level, found.Do, "%s: %s", where, found.Title)
	}
	slices.SortStableFunc(out, func(a, b Check) int { return weight(a.Level) - weight(b.Level) })
	return out
}

// reach finds moves that lead out of the volume, though nothing is laid there.
func reach(f Facts) (out []Check) {
	r, size := f.File.Reach, f.Printer.Size()
	for axis := gcode.X; axis <= gcode.Z; axis++ {
		for _, end := range []struct {
			at   float64
			line int
		}{{r.Min[axis], r.MinLine[axis]}, {r.Max[axis], r.MaxLine[axis]}} {
			if end.line > 0 && (end.at < -bounds.Slack || end.at > size[axis]+bounds.Slack) {
				out = append(out, Check{Level: Warn, Title: fmt.Sprintf("line %d: it moves to %c %.1f mm and this printer has 0 to %.0f mm", end.line, gcode.Letters[axis], end.at, size[axis]), Do: "start it only if your printer's firmware can go there or stops at its ends"})
			}
		}
	}
	return out
}

// ordinal is the place of the n-th of at most sixteen.
func ordinal(n int) string {
	words := []string{"first", "second", "third", "fourth"}
	if n >= 1 && n <= len(words) {
		return words[n-1]
	}
	return fmt.Sprintf("%dth", n)
}

// counted is a number with its noun.
func counted(n int, noun string) string {
	if n != 1 {
		noun += "s"
	}
	return fmt.Sprintf("%d %s", n, noun)
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
