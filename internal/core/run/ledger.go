package run

import (
	"fmt"
	"maps"

	"diathermon/internal/core/gcode"
	"diathermon/internal/core/heat"
)

// A Ledger tells what the numbers of a run's lines mean: from Number on, those that
// are not in Others are the file's commands after the first Before, in order.
type Ledger struct {
	Said   int // line numbers that may have been used; all below
	More   int // so many from Said on may have been used, too, and nobody remembers
	Taken  int // the number of the last of the file's lines that is known to be taken
	Number int
	Before int
	Others map[int]string
}

// clone returns a copy that shares nothing with l.
func (l Ledger) clone() Ledger {
	l.Others = maps.Clone(l.Others)
	return l
}

// Commands returns how many of the file's commands a printer has taken whose
// last line has that number.
func (l Ledger) Commands(number int) int {
	n := l.Before
	for at := l.Number; at <= number; at++ {
		if _, other := l.Others[at]; !other {
			n++
		}
	}
	return n
}

// A Replayed is what lines lead to.
type Replayed struct {
	Point
	Given map[heat.Heater]float64 // setpoints that the file's lines gave behind some line
}

// Replay returns the point that a printer has come to whose last line has that
// number: the file's commands as next tells them, and those that were said between them.
// It tells the setpoints that the file's own gave behind line after.
func (l Ledger) Replay(next func() (string, bool), number, after int) (Replayed, error) {
	p, err := Replay(next, l.Before)
	out := Replayed{Point: p, Given: map[heat.Heater]float64{}}
	if err != nil {
		return out, err
	}
	var line gcode.Line
	apply := func(command string) {
		if line.Parse([]byte(command)) == nil {
			out.Apply(&line)
		}
	}
	for at := l.Number; at <= number; at++ {
		if other, is := l.Others[at]; is {
			apply(other)
			continue
		}
		command, ok := next()
		if !ok {
			return out, fmt.Errorf("the file ends before line %d", at)
		}
		tool := out.Tool
		apply(command)
		if h, v, gives := Setpoint(&line, tool); gives && at > after && heats(command) {
			out.Given[h] = v
		}
	}
	return out, nil
}

// Factors applies to a point what a person has changed of speed and flow.
func (l Ledger) Factors(p *Point) {
	var line gcode.Line
	for number := l.Number; number < l.Said; number++ {
		if text, ok := l.Others[number]; ok && line.Parse([]byte(text)) == nil && (line.Is('M', 220) || line.Is('M', 221)) {
			p.Apply(&line)
		}
	}
}
