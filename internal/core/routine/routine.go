// Package routine is the language of routines: named sequences of what a person would
// do at the machine by hand, with parameters, questions and waits (docs/routines.md).
//
// A text is parsed, checked against a printer and only then performed:
//
//	Parse ──▶ Routine ──Check──▶ Facts
//	             └───────Begin──▶ Performance
//
// It promises that what a routine may heat, move and wait for is known before it is
// performed: the same evaluator works out ranges of numbers when it checks, and ranges
// of a single number when it performs, so that what happens lies within what was found.
// Everything is bounded: repeats by their number, waits and questions by their time,
// calls by their depth, and all of it by MostSteps.
//
// It leaves to bounds whether a line may be said at the moment it is said, and to the
// host to say it and to tell what has come of it.
package routine

import (
	"errors"
	"fmt"
	"math"
	"slices"
	"strconv"
	"strings"

	"diathermon/internal/core/gcode"
	"diathermon/internal/core/heat"
)

// Version is the language that this package reads.
const Version = 1

// Bounds of a text and of what it does.
const (
	MostText    = 64 << 10 // bytes
	MostSteps   = 20_000   // that a performance can come to
	mostRepeats = 1000
	mostDepth   = 8 // of calls in one another
	mostNesting = 16
	mostNames   = 24
)

// Errors that callers tell apart.
var (
	ErrNewer = errors.New("the routine is written in a newer language")
	ErrValue = errors.New("this value does not go")
)

// An Error is what is wrong with a text, and where.
type Error struct {
	Line int // from 1
	Why  string
	err  error
}

func (e *Error) Error() string { return fmt.Sprintf("line %d: %s", e.Line, e.Why) }

// Unwrap is what callers tell it by.
func (e *Error) Unwrap() error { return e.err }

// A Place is where a routine has a button.
type Place string

// The places.
const (
	OnBench  Place = "bench"
	OnMotion Place = "motion"
	OnPhone  Place = "phone"
)

// A Routine is a text that was understood. It is not changed once it is parsed.
type Routine struct {
	Name, About string
	Buttons     []Place
	Held        bool // it may be performed while a run is held
	Idle        bool // and while there is none
	Safe        Safe
	Parameters  []Parameter
	Text        string

	steps []step
}

// Safe is the state that a routine leaves behind when it is stopped.
type Safe struct {
	HeatersOff bool    // otherwise none is hotter than before
	Up         float64 // mm that the nozzle is lifted
	OutputsOff bool
	MotorsOff  bool
}

func (s Safe) String() string {
	parts := []string{"heaters no hotter than before"}
	if s.HeatersOff {
		parts[0] = "heaters off"
	}
	if s.Up > 0 {
		parts = append(parts, "nozzle up by "+decimal(s.Up)+" mm")
	}
	if s.OutputsOff {
		parts = append(parts, "outputs off")
	}
	if s.MotorsOff {
		parts = append(parts, "motors off")
	}
	return strings.Join(parts, ", ")
}

// A Type is what values a parameter has.
type Type string

// The types.
const (
	Number Type = "number"
	Choice Type = "choice"
	YesNo  Type = "yes/no"
	Heater Type = "heater"
	Spool  Type = "spool" // the name of one, in words
)

// A Parameter is a value that is given when a routine is performed.
type Parameter struct {
	Name    string
	Type    Type
	Unit    string   // of a number; may be empty
	Words   []string // that go, of a choice or a heater; empty for a heater: all
	Default string   // empty: it has to be given

	low, high *expr // of a number
	of        *expr // a number's default
	held      *expr // and where a run is held, if that is known then
	line      int
}

type kind int

const (
	say kind = iota
	heatTo
	cool
	set
	lift
	park
	show
	pause
	until
	ask
	branch
	repeat
	leave
	call
	stop
	done
	tune
	keepTuning
	bedIs
)

// A step is one statement.
type step struct {
	line      int
	kind      kind
	what      string   // of heat, cool and tune a heater or a parameter; of set an output; of call a routine; of bedIs clear or occupied
	text      text     // of show, ask and stop
	gcode     template // of say
	amount    *expr    // of heat, set, lift, pause and tune
	most      *expr    // s, of until and ask
	cond      *cond    // of until and branch
	otherwise string   // of until and ask: empty to stop, goOn, or an answer
	options   []option // of ask
	steps     []step   // of branch and repeat
	orElse    []step   // of branch
	times     int      // of repeat, and the cycles of tune
	with      []assignment
	forGood   bool // of keepTuning
}

const goOn = "go on"

type option struct {
	text  string
	steps []step
}

type assignment struct {
	name string
	expr *expr  // a number
	word string // anything else: a word, or the name of a parameter
}

// A template is a line of G-code with expressions for numbers.
type template struct {
	code  gcode.Code
	text  string // of a command that takes text
	words []word
}

type word struct {
	letter byte
	expr   *expr // nil: the letter is enough
}

// A text is what is shown, with expressions for numbers.
type text []piece

type piece struct {
	plain string
	expr  *expr  // or
	name  string // of a parameter that is no number
}

// line is the template with its numbers.
func (t template) line(s *scope) (string, error) {
	out := t.code.String()
	if t.text != "" {
		out += " " + t.text
	}
	for _, w := range t.words {
		out += " " + string(w.letter)
		if w.expr == nil {
			continue
		}
		v, err := s.number(w.expr)
		if err != nil {
			return "", err
		}
		out += decimal(v)
	}
	return out, nil
}

// in is the text with its numbers.
func (t text) in(s *scope) string {
	var b strings.Builder
	for _, p := range t {
		switch {
		case p.name != "":
			b.WriteString(strings.Join(s.values[p.name].words, ", "))
		case p.expr != nil:
			if v, err := s.number(p.expr); err == nil {
				b.WriteString(strconv.FormatFloat(math.Round(v*100)/100, 'f', -1, 64))
			} else {
				b.WriteByte('?')
			}
		default:
			b.WriteString(p.plain)
		}
	}
	return b.String()
}

// decimal writes a number as a line of G-code takes it.
func decimal(v float64) string {
	return strconv.FormatFloat(math.Round(v*1e4)/1e4+0, 'f', -1, 64)
}

// A Library knows routines by their names.
type Library func(name string) (*Routine, error)

// A Machine is what a routine is checked against.
type Machine struct {
	Size    [3]float64 // mm
	Heaters []heat.Heater
	Limits  heat.Limits
	Outputs []string
	Run     map[heat.Heater]float64 // °C: the setpoints of the run that is held; nil: none is
}

func (m Machine) has(h heat.Heater) bool {
	return slices.Contains(m.Heaters, h)
}
