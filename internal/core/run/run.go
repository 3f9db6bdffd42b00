// Package run is the life of one run as a state machine: events go in, effects come
// out. It has no goroutine, no clock, no port and no file, so that a test can lead
// it through any life it likes. Besides, how a nozzle leaves its part and comes back,
// and plans for going on with a run on a printer that has forgotten everything.
//
// It promises that the file's lines are said only while the run draws or warms up
// towards that; that nothing is laid cold; that a nozzle which left comes back to
// where it was, from above; that a run which ends by itself or is stopped leaves
// heaters off; and that a journal told again is the run. It leaves to host to carry
// its effects out.
//
// The stages, and what leads from one to the next:
//
//	fresh       routines are performed first → preparing
//	preparing   they are done → fresh; one was not, a stop, the printer or the host goes → over
//	fresh       a soak is asked for → soaking; the first line is said → heating, drawing
//	soaking     the soak is over → heating
//	heating     the first plastic is laid → drawing
//	drawing     every line is taken → finishing
//	finishing   the last moves are made, for certain → over
//
//	soaking, heating, drawing   a hold → settling; the heaters are turned off → settling;
//	                            the printer pauses by itself → paused
//	heating, drawing            the file asks for a person → settling; the run is where it was to
//	                            be held → settling, or to end → stopping
//	settling    the lines under way are taken → leaving; a resume → on at once
//	leaving     the nozzle is off the part → parked
//	parked      a resume → returning
//	returning   the nozzle is back → soaking, heating, drawing; it was to be held → settling;
//	            the heaters are turned off → cut short
//	cut short   a resume → returning
//	paused      a resume → on; by way of settling if it is cold
//
//	every stage but away, fresh, stopping   a stop → stopping, or over if the printer is out of reach
//	stopping    heaters and fan are off, the nozzle has left → over
//	fresh, away a stop → over
//	every stage a halt → over
//
//	fresh       the printer goes, or starts anew → over, as broken
//	stopping    the printer or the host goes → over
//	every other stage   the printer goes, or starts anew; the host goes → away
//	away        the printer has kept its place → rejoining, but for a pick-up → forgotten;
//	            it has forgotten everything → forgotten
//	rejoining   it is as the lines left it → what it was before; anything else → parked
//	forgotten   a plan → picking up
//	picking up  the nozzle is where the file goes on → heating, drawing; it was to be held
//	            → settling; the heaters are turned off → cut short
//
// What a person is told is the State of a stage. finished, stopped and broken are
// final.
package run

import (
	"errors"
	"fmt"
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

// Going reports whether something is at work: neither is the run over, nor does it
// wait to be found again.
func (s State) Going() bool { return !s.Final() && s != Interrupted }

// ErrUnknown means that no run has the ID that was asked for.
var ErrUnknown = errors.New("no such run")

// A Record is what is kept of one run.
type Record struct {
	ID       string // UUID, in the order of creation
	File     string // name on the shelf when it began
	Digest   string `json:"SHA256"` // of the file's bytes; journals of before call it so
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

	By        string       // who started it
	Entry     string       `json:",omitempty"` // of the queue that it was; empty: it was none
	Overruled []Overruling `json:",omitempty"`
	Slots     []int        `json:",omitempty"` // from which each of the file's tools is printed; empty: from that of its number
	Before    []Performs   `json:",omitempty"` // routines that are performed before its first line
	After     []Performs   `json:",omitempty"` // and once it is finished
}

// Around are the routines that are performed before a run's first line, and once it is
// finished.
type Around struct{ Before, After []Performs }

// Performs is a routine that is performed before a run or after it.
type Performs struct {
	Routine string            // its name
	Values  map[string]string `json:",omitempty"` // of its parameters
}

// Reasons of what a person has done by hand.
const (
	HeldByHand    = "held by hand"
	StoppedByHand = "stopped by hand"
	GivenUp       = "given up"
)

// ByHand reports whether a person has made the run what it is.
func (r Record) ByHand() bool {
	return r.Reason == HeldByHand || r.Reason == StoppedByHand || r.Reason == GivenUp
}

// An Overruling is something that stood in the way of a run, of which a person has said
// that it does not matter.
type Overruling struct {
	Kind  string // of the check
	Title string // what was found
	Why   string
	By    string
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

// An Until is where in its file a run is to be held, or to end.
type Until struct {
	Command int    // commands before it
	Layer   int    // that begins there, from 1
	End     bool   // it ends there; otherwise it is held
	By      string // who wants it
}

// why is the reason of what happens there.
func (u Until) why() string {
	if u.End {
		return fmt.Sprintf("ended after layer %d, as %s wanted", u.Layer-1, u.By)
	}
	return fmt.Sprintf("held before layer %d, as %s wanted", u.Layer, u.By)
}

// A History is how often a file's bytes were run, and how that ended.
type History struct {
	Digest   string
	Runs     int
	Finished int
	Last     time.Time // when the last was asked for
	State    State     // and how it stands
}

// A Mark ties a point in the file to what has been done when it is reached.
type Mark struct {
	Command  int     // commands said before this point
	Seconds  float64 // time the moves before it take
	Z        float64 // height of the layer that begins here, mm
	Filament float64 // mm pushed before it
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

// Measure places a count of commands taken, of a file whose moves take total in all, among
// its marks, which are in order.
func Measure(taken, commands int, marks []Mark, course Course, total time.Duration) Progress {
	p := Progress{Command: taken, Commands: commands, Layers: len(marks)}
	p.Layer, _ = slices.BinarySearchFunc(marks, taken, func(m Mark, n int) int {
		if m.Command <= n {
			return -1
		}
		return 1
	})
	made := course.After(taken, commands, total)
	p.Left = total - made
	switch {
	case total > 0:
		p.Share = made.Seconds() / total.Seconds()
	case commands > 0:
		p.Share = float64(taken) / float64(commands)
	}
	return p
}
