// Package toolpath reads a whole file of G-code and tells what it is: layers, extents,
// filament, time, temperatures, speeds, and what a person should know of its lines
// before it is printed. Everything is computed from the moves; comments are hints,
// which are told apart and never believed over moves.
//
// It reads once, from front to back, and memory stays bounded whatever the file. Each
// stroke of the nozzle is handed to whoever wants to draw it.
//
// It leaves to preflight what of that is acceptable, to layers how strokes are kept,
// and to picture how they look.
package toolpath

import (
	"errors"
	"time"

	"diathermon/internal/core/bounds"
	"diathermon/internal/core/gcode"
	"diathermon/internal/core/heat"
	"diathermon/internal/core/run"
)

// Bounds of what a file may ask of any machine. Beyond them it is refused with its
// line: nothing that is computed from it would mean anything.
const (
	farthest     = 1e5           // mm from the origin
	mostFilament = 1e8           // mm, which is a hundred kilometres
	longestMove  = 1e6           // mm
	longestDwell = 7 * 24 * 3600 // s
	longestPrint = 1e8           // s, which is three years
)

// Box is an extent in millimetres; Empty until something is in it.
type Box struct {
	Min, Max [3]float64
	Empty    bool
}

// add adds what lies between two corners, whichever is the lower on an axis.
func (b *Box) add(one, other *[3]float64) {
	if b.Empty {
		b.Min, b.Max, b.Empty = *one, *one, false
	}
	for i := range 3 {
		low, high := one[i], other[i]
		if low > high {
			low, high = high, low
		}
		if low < b.Min[i] {
			b.Min[i] = low
		}
		if high > b.Max[i] {
			b.Max[i] = high
		}
	}
}

// Version is that of the computation: a Summary with another was computed otherwise,
// and is to be computed anew.
const Version = 9

// Summary is what a file amounts to.
type Summary struct {
	Version    int
	Lines      int                     // lines in the file
	Commands   int                     // lines that the printer receives
	Marks      []run.Mark              `json:"-"` // where each layer begins; left out of listings
	Course     run.Course              `json:"-"` // how long its moves take until where; left out of listings
	Layers     int                     // how many there are
	First      int                     // the first command that lays plastic, from 1; 0 if none does
	Second     int                     // commands before the layer that lies on the first one; 0: there is none
	Extent     Box                     // of everything that lays plastic, in the machine's frame
	Part       Box                     // of that without the first layer, where there are others: no priming line, no skirt
	Reach      Reach                   // of every move whose place is known, in the machine's frame
	Unhomed    [3]bool                 // axes that are sent to a place before they are homed
	Waits      []Wait                  // commands that take a time which no plan tells
	Pins       []Pin                   // that M42 switches
	Melts      float64                 // mm of filament a second that a move of a millimetre and more asks for at the most
	Filament   float64                 // mm pushed, retractions taken off
	ByTool     []float64               // mm pushed by each tool
	Spent      []float64               // s of Duration that each tool is in use
	Duration   time.Duration           // of the moves, without warming
	Setpoints  map[heat.Heater]float64 // the highest setpoint that could be meant for each heater
	Given      []Given                 // the setpoints as they are given, by layer
	Warming    []heat.Step             // the setpoints it gives before it lays plastic
	Tools      int                     // highest tool used, plus one
	Unread     int                     // lines that are not plain G-code, sent as they are
	Findings   []Finding               // about its lines, the gravest kept where there are many
	Hidden     float64                 // the highest number, °C or not, that a named command gives with a key that speaks of heat
	HiddenLine int                     // where
	LayerSteps float64                 // the commonest distance between layers, mm
	Features   []Feature               // what is drawn, by height and speed
	Travelling time.Duration           // of Duration, in moves that lay nothing
	Fastest    float64                 // mm/s of a move that lays plastic, as it is asked for
	Flow       float64                 // mm of filament a second that a move asks for at the most
	Fan        float64                 // part fan at the most, 0 to 1
	Hints      Hints                   // what its comments say
	LimitsOf   LimitsOf                // whose limits the times go by
	By         string                  // Options.By of what it was read with
	Objects    []Object                // that its lines tell apart
	Trouble    string                  // why it cannot be printed at all, in words; there is nothing else then
}

// LimitsOf tells whose limits of speed and acceleration a time goes by.
type LimitsOf string

// Whose they may be.
const (
	PrintersLimits LimitsOf = "printer"  // the printer has told them
	SetupsLimits   LimitsOf = "setup"    // the keeper has
	OrdinaryLimits LimitsOf = "ordinary" // a common machine's
)

// Reach is an extent with the line at which each end is reached first.
type Reach struct {
	Box
	MinLine, MaxLine [3]int
}

func (r *Reach) add(low, high float64, axis gcode.Axis, line int) {
	if r.MinLine[axis] == 0 || low < r.Min[axis] {
		r.Min[axis], r.MinLine[axis] = low, line
	}
	if r.MaxLine[axis] == 0 || high > r.Max[axis] {
		r.Max[axis], r.MaxLine[axis] = high, line
	}
	r.Empty = false
}

// Given is a setpoint that a file gives.
type Given struct {
	Line     int
	Layer    int // that was drawn, from 1; 0 before the first
	Heater   heat.Heater
	Setpoint float64 // °C
}

// A Pin is one that a file switches, and the line that does so first.
type Pin struct{ Number, Line int }

// A Wait is a command that takes a time which no plan tells: homing, measuring the bed.
type Wait struct {
	Command int // from 1
	Code    string
}

// A Feature is what is drawn at one layer height and speed.
type Feature struct {
	Height   float64 // mm of the layer
	Speed    float64 // mm/s, as it is asked for
	Seconds  float64 // that it takes
	Length   float64 // mm drawn
	Filament float64 // mm
}

// A Finding is something that a file holds, and where.
type Finding struct {
	bounds.Finding
	Line  int // the first that it is about
	Count int // how many there are
}

// A File is a stored file and what it amounts to.
type File struct {
	Name   string
	Size   int64
	Digest string // of its bytes
	Stored time.Time
	Sender string   // what sent it, by its token's name; empty: nobody knows
	Tags   []string // words that a person has put to it
	Summary
}

// Surveyed reports whether it is known what the file amounts to.
func (f *File) Surveyed() bool { return f.Version == Version }

// At is how far a run of the file has come when so many of its commands are taken.
func (s *Summary) At(taken int) run.Progress {
	return run.Measure(taken, s.Commands, s.Marks, s.Course, s.Duration)
}

// A Stroke is one straight way of the nozzle, or of the filament alone, in the
// machine's frame. Layer counts from 0.
type Stroke struct {
	From, To gcode.Position // mm; E is filament
	Feed     float64        // mm/s asked for
	Command  int            // that asks for it, from 1
	Layer    int
	Height   float64 // mm of the layer
	Fan      float64 // 0 to 1
	Nozzle   float64 // setpoint, °C
	Tool     int
}

// Lays reports whether plastic is laid.
func (s *Stroke) Lays() bool {
	return s.To[gcode.E] > s.From[gcode.E] && (s.From[gcode.X] != s.To[gcode.X] || s.From[gcode.Y] != s.To[gcode.Y])
}

// Bounds of what is kept of a file.
const (
	mostWaits    = 64   // of Summary.Waits
	mostSteps    = 64   // of Summary.Warming
	mostGiven    = 64   // of Summary.Given
	mostFindings = 20   // of each level
	mostFeatures = 40   // of Summary.Features
	mostMarks    = 8192 // of Summary.Marks; a file with more layers has them drawn together
)

// ErrNoCommands means that nothing in a file is for the printer.
var ErrNoCommands = errors.New("there is no G-code in it: slice the model and send the slicer's output")
