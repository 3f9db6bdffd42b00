// Package run is the life of one run: the states it goes through and how far it
// has come.
//
// How one state follows another:
//
//	waiting → warming, running                   the first line is said
//	warming → running                            the first line of plastic is said
//	warming, running → held → warming, running   a person holds and resumes
//	warming, running → ending → finished         every line has been taken, the moves play out
//	waiting, warming, running, held, ending → stopped, broken
//	warming, running, held, ending → interrupted   the printer is out of reach
//	interrupted → warming, running, held, ending   it is picked up again
//	interrupted → stopped, broken                  it is given up
//
// finished, stopped and broken are final.
package run

import (
	"errors"
	"slices"
	"time"
)

// State is where a run stands.
type State string

// The states of a run.
const (
	Waiting     State = "waiting"
	Warming     State = "warming"
	Running     State = "running"
	Held        State = "held"
	Ending      State = "ending"
	Finished    State = "finished"
	Stopped     State = "stopped"
	Broken      State = "broken"
	Interrupted State = "interrupted"
)

// Final reports whether nothing follows s.
func (s State) Final() bool { return s == Finished || s == Stopped || s == Broken }

// ErrUnknown means that no run has the ID that was asked for.
var ErrUnknown = errors.New("no such run")

// A Record is what is kept of one run.
type Record struct {
	ID       string // UUID, in the order of creation
	File     string // name on the shelf when it began
	SHA256   string // of the file's bytes, in hexadecimal
	State    State
	Reason   string // why it was held, stopped or broke; in words
	Created  time.Time
	Started  time.Time // the first line was said; zero if none was
	Laying   time.Time // the first plastic was laid; zero if none was
	Ended    time.Time // zero while it goes on
	Commands int       // in the file
	Taken    int       // taken by the printer
	Filament float64   // mm the whole file pushes
	Estimate time.Duration
}

// Lasted is how long the run went on: from its first line to its end, or to now.
func (r Record) Lasted(now time.Time) time.Duration {
	switch {
	case r.Started.IsZero():
		return 0
	case !r.Ended.IsZero():
		now = r.Ended
	}
	return max(now.Sub(r.Started), 0)
}

// A Mark ties a point in the file to what has been done when it is reached.
type Mark struct {
	Command int     // commands said before this point
	Seconds float64 // time the moves before it take
	Z       float64 // height of the layer that begins here, mm
}

// Progress is how far a run has come.
type Progress struct {
	Command  int           // commands taken by the printer
	Commands int           // commands in the file
	Layer    int           // the layer being drawn, from 1; 0 before the first
	Layers   int           // layers in the file
	Share    float64       // of the moves' time, 0 to 1
	Left     time.Duration // time of the moves still to come
}

// Measure places a count of commands taken among the file's marks. The marks
// are in order and total is the time of all moves.
func Measure(taken, commands int, marks []Mark, total time.Duration) Progress {
	p := Progress{Command: taken, Commands: commands, Layers: len(marks)}
	before := Mark{}
	after := Mark{Command: commands, Seconds: total.Seconds()}
	i, _ := slices.BinarySearchFunc(marks, taken, func(m Mark, n int) int {
		if m.Command <= n {
			return -1
		}
		return 1
	})
	p.Layer = i
	if i > 0 {
		before = marks[i-1]
	}
	if i < len(marks) {
		after = marks[i]
	}
	seconds := after.Seconds
	if span := after.Command - before.Command; span > 0 {
		seconds = before.Seconds + (after.Seconds-before.Seconds)*float64(taken-before.Command)/float64(span)
	}
	if commands > 0 && taken >= commands {
		seconds = total.Seconds()
	}
	p.Left = max(total-time.Duration(seconds*float64(time.Second)), 0)
	switch {
	case total > 0:
		p.Share = min(seconds/total.Seconds(), 1)
	case commands > 0:
		p.Share = float64(taken) / float64(commands)
	}
	return p
}
