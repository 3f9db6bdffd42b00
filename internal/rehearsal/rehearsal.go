// Package rehearsal tries a file against the stand-in printer: as fast as that goes, in
// the stand-in's own time, with this printer's limits and heaters that behave as this
// printer's were learned to, watched by its guards.
//
// What comes of it is told by a printer that shares no code with the core: what it
// refuses or leaves undone, with the file's lines; how long it is in each state; how hot
// its heaters are; what the guards would have said; where the cable would keep it
// waiting. Nothing is said to the real printer.
//
// Play rehearses one file. A Stage does so in the background, one file at a time, for
// whoever asks.
package rehearsal

import (
	"time"

	"diathermon/internal/core/heat"
	"diathermon/internal/core/machine"
	"diathermon/internal/core/motion"
	"diathermon/internal/core/run"
	"diathermon/internal/core/toolpath"
)

// A Printer is what a file is rehearsed for.
type Printer struct {
	Machine  machine.Printer
	Motion   motion.Limits
	Baud     int // of its cable; 0: not known, and the cable keeps nothing waiting
	Heaters  map[heat.Heater]Heater
	Pace     float64 // how many times faster its clock runs than ours: of a stand-in; 0 is 1
	LimitsOf toolpath.LimitsOf
}

// A Heater is what is known of one.
type Heater struct {
	Model      heat.Model
	Shape      heat.Shape      // of its warm-ups
	Climbs     []heat.Climb    // the last ones
	Experience heat.Experience // of its guards
}

// A Report is what came of a rehearsal. Times are the printer's own.
type Report struct {
	Commands int           // that were carried out
	Took     time.Duration // from the first line to the last move
	Laying   time.Duration // from the first line to the first plastic; 0: none was laid
	States   []Spell       // that the run would be in, in their order
	Homing   time.Duration // of what it was running
	Dwelling time.Duration // of that, too, in waits for a time
	Starved  time.Duration // by which layers took longer because their lines came too late
	Problems []toolpath.Finding
	Alarms   []Alarm // of the guards, the first ones first
	More     int     // alarms besides
	Learned  []heat.Heater
	Limits   toolpath.LimitsOf           // whose it moved by
	Begins   time.Time                   // when Heat begins: as if it had been started then
	Heat     map[heat.Heater][]heat.Span // how hot the heaters were
	Step     time.Duration               // that a span stands for
}

// A Spell is the time in one state.
type Spell struct {
	State run.State
	Took  time.Duration
	Times int // that it came to be in it
}

// An Alarm is what a guard would have said.
type Alarm struct {
	heat.Alarm
	After time.Duration // the first line
	Line  int           // that was said last
}

// Progress is how far a rehearsal has come.
type Progress struct {
	Share float64       // of the file's bytes
	Line  int           // of the file
	Clock time.Duration // the printer's
}
