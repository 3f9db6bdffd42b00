package trim

import (
	"fmt"
	"math"
	"slices"

	"diathermon/internal/core/gcode"
)

// The lines of an object that is skipped are read and not said: each of its moves becomes a
// dwell of no time, so that every command of the file is one line still. Meanwhile the head
// waits where it was, lifted above all that was laid. What takes it off and brings it back
// are lines besides the file's.

// nothing is what a move becomes that is left out.
const nothing = "G4 P0"

// How the head waits while an object is left out, and goes on: mm, and mm/min.
const (
	above    = 2
	holdBack = 1 // of filament
	climb    = 600
	across   = 6000
	pull     = 1800
)

// leaving is where a rewriter stands with objects.
type leaving struct {
	object string  // whose lines these are; empty: of none
	away   bool    // moves have been left out since the head was where it is
	lifted bool    // and it was told to wait above
	drawn  float64 // mm of filament that the file has drawn back
	still  float64 // and had where the head waits
	top    float64 // mm: the highest that plastic was laid
}

// follow notes whose lines follow a command.
func (r *Rewriter) follow(command string) {
	if key, says := gcode.ObjectOf(command); says {
		r.object = key
	}
}

// skips reports whether the lines are an object's that is left out.
func (r *Rewriter) skips() bool { return r.object != "" && slices.Contains(r.now.Skip, r.object) }

// draw follows the filament that the file pushes, mm.
func (r *Rewriter) draw(pushed float64) { r.drawn = max(r.drawn-pushed, 0) }

// leaveOut follows a move that is not made.
func (r *Rewriter) leaveOut() string {
	if !r.away {
		r.away, r.still = true, r.drawn
	}
	before := r.is.At[gcode.E]
	r.is.Apply(&r.line)
	r.draw(r.is.At[gcode.E] - before)
	r.said.feed = 0 // what comes next says its own
	return nothing
}

// moves reports whether a line is a move.
func moves(l *gcode.Line) bool {
	return l.Letter == 'G' && (l.Number <= 3 || l.Number == 5) && l.Sub == 0
}

// Detours reports whether something is to be said besides before the next command.
func (r *Rewriter) Detours(command string) bool {
	if len(r.file.Objects) == 0 || len(r.now.Skip) == 0 && !r.away && len(r.rest) == 0 {
		return false
	}
	r.turn()
	var l gcode.Line
	leaves := r.skips()
	return l.Parse([]byte(command)) == nil && moves(&l) && (leaves && !r.lifted || !leaves && r.away)
}

// Besides is what is to be said before the next command of the file, once every line before
// it has been taken, so that the head leaves an object that is left out, and comes back.
func (r *Rewriter) Besides(command string) (out []string) {
	if !r.Detours(command) {
		return nil
	}
	unit := 1.0
	if r.is.Inches {
		unit = 25.4
	}
	line := func(format string, values ...float64) {
		words := make([]any, len(values))
		for i, v := range values {
			words[i] = math.Round(v*1e5) / 1e5
		}
		out = append(out, fmt.Sprintf(format, words...))
	}
	pulls := func(to float64) { line("G1 E%v F%v", to/unit, pull/unit) }
	rises := func() {
		safe := max(r.top, r.said.z) + above
		if r.file.Room > 0 {
			safe = max(min(safe, r.file.Room-max(r.base, 0)), r.said.z)
		}
		line("G1 Z%v F%v", safe/unit, climb/unit)
	}
	switch {
	case r.skips():
		if r.lifted = true; r.is.RelativeExtruder {
			pulls(-holdBack)
		} else {
			pulls(r.said.e - holdBack)
		}
		rises()
	default:
		owes := r.still - r.drawn
		if r.lifted {
			owes += holdBack
		} else {
			rises()
		}
		at := r.is.At
		line("G1 X%v Y%v F%v", at[gcode.X]/unit, at[gcode.Y]/unit, across/unit)
		line("G1 Z%v F%v", (at[gcode.Z]+r.now.Height-r.base)/unit, climb/unit)
		if r.is.RelativeExtruder {
			if owes != 0 {
				pulls(owes)
			}
		} else {
			line("G92 E%v", (r.said.e-owes)/unit)
			pulls(r.said.e)
		}
		r.lifted = false
	}
	return out
}
