// Package preflight says what stands between a file and its start.
//
// It looks at facts handed to it and gives checks in words, each of a stable kind; it
// leaves to the host to gather the facts and to people to decide about warnings, and
// about those blocks that are not dangerous.
package preflight

import (
	"errors"
	"fmt"
	"slices"
	"strings"

	"diathermon/internal/core/bed"
	"diathermon/internal/core/bounds"
	"diathermon/internal/core/gcode"
	"diathermon/internal/core/heat"
	"diathermon/internal/core/machine"
	"diathermon/internal/core/run"
	"diathermon/internal/core/stock"
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

// A Kind is what a check is about. It is stable: programs go by it.
type Kind string

// The kinds, in the order in which they are read.
const (
	Link     Kind = "link"     // the printer answers
	Busy     Kind = "run"      // another run goes on
	Alarm    Kind = "alarm"    // one waits for a person
	Bed      Kind = "bed"      // what lies on it
	File     Kind = "file"     // it is whole, and can be read
	Survey   Kind = "survey"   // it is known what it is
	Setpoint Kind = "setpoint" // within the heaters' limits
	Tool     Kind = "tool"     // the printer has it
	Volume   Kind = "volume"   // what is laid fits
	Depth    Kind = "depth"    // nothing goes below the bed
	Travel   Kind = "travel"   // all other moves stay inside, too
	Frame    Kind = "frame"    // the printer's places are those of the file
	Flow     Kind = "flow"     // a hot end melts as much
	Pin      Kind = "pin"      // what is switched heats nothing
	Nozzle   Kind = "nozzle"   // of the diameter that the file is for
	Filament Kind = "filament" // of the diameter that the file is for
	Slot     Kind = "slot"     // something is loaded
	Material Kind = "material" // what is loaded is what the file is for
	Plastic  Kind = "plastic"  // some is laid
	Named    Kind = "command"  // a named command with a number that could heat
	Line     Kind = "line"     // what else is found in a line of the file
	Odd      Kind = "odd"      // the same, where it may be meant so
	Sensor   Kind = "sensor"   // the heaters are read
	Guards   Kind = "guards"   // they watch
	Disk     Kind = "disk"     // has room
	Database Kind = "database" // takes records
	Clock    Kind = "clock"    // can be right
	Sleep    Kind = "sleep"    // the computer stays awake
)

// A Check is one thing found.
type Check struct {
	Kind     Kind
	Level    Level
	Title    string // what was found
	Expected string // what was expected; empty where the title says it
	Do       string // what to do about it

	Overrule bool // a block of which a person may say that it does not matter
	Passing  bool // it may be different later without the file being another
}

// Fine is something that is as it is expected.
type Fine struct {
	Kind  Kind
	Title string
}

// A Report is all that was looked at: what stands in the way, blocks first, and what is
// as it should be.
type Report struct {
	Checks []Check
	Fine   []Fine
}

// Facts are what the checks look at.
type Facts struct {
	Printer  machine.Printer
	LinkLive bool
	LinkWhy  string   // why the link is not live
	Sleepy   string   // why the computer may go to sleep in the middle; empty: it cannot
	Alarms   []string // that nobody has acknowledged
	Busy     string   // the file that runs now; empty if none
	Bed      bed.Bed  // its state is empty where nobody looks at it
	Slots    []stock.Slot
	Unread   []heat.Heater // of which the printer tells no temperature
	Around   Around
	At       gcode.State // where the lines lead that the printer has taken
	File     toolpath.Summary
}

// Around is what holds for the computer that the host runs on.
type Around struct {
	Free      int64  // bytes that its disk has; negative: not known
	Database  string // why it takes no records; empty: it does
	Clock     string // why it cannot be right; empty: it can
	Unguarded bool   // no guard looks at the heaters
}

// Errors that callers tell apart.
var (
	ErrDanger = errors.New("this cannot be overruled")
	ErrWhy    = errors.New("a word why is wanted")
)

// Overrule takes blocks away that a person overrules, and returns with them what they
// were. Others cannot be overruled. What is overruled and not there is nothing.
func (r Report) Overrule(whys map[Kind]string, by string) (Report, []run.Overruling, error) {
	var out []run.Overruling
	left := make([]Check, 0, len(r.Checks))
	for _, c := range r.Checks {
		why, asked := whys[c.Kind]
		why = strings.TrimSpace(why)
		switch {
		case !asked || c.Level != Block:
			left = append(left, c)
		case !c.Overrule:
			return r, nil, fmt.Errorf("%w: %s: %s", ErrDanger, c.Title, c.Do)
		case why == "" || len(why) > 200:
			return r, nil, fmt.Errorf("%w: say in up to 200 letters why it does not matter that %s", ErrWhy, c.Title)
		default:
			out = append(out, run.Overruling{Kind: string(c.Kind), Title: c.Title, Why: why, By: by})
		}
	}
	r.Checks = left
	return r, out, nil
}

// Blocks returns the checks that stand in the way, and whether all of them may be
// different later without the file being another.
func (r Report) Blocks() (out []Check, passing bool) {
	passing = true
	for _, c := range r.Checks {
		if c.Level == Block {
			out, passing = append(out, c), passing && c.Passing
		}
	}
	return out, passing
}

// Unseen reports whether more than notes has come since somebody has seen the checks of
// some kinds.
func (r Report) Unseen(seen []Kind) bool {
	return slices.ContainsFunc(r.Checks, func(c Check) bool { return c.Level != Note && !slices.Contains(seen, c.Kind) })
}
