// Package parttest lets a part's tests drive it without a conversation, a run or a
// port.
package parttest

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"testing"

	"diathermon/internal/core/heat"
	"diathermon/internal/core/run"
	"diathermon/internal/core/wire"
	"diathermon/internal/host/part"
)

// Line is a line to a printer that takes everything at once, and writes down what is
// said.
type Line struct {
	Said, Urged []string
	Halted      int
	Off         bool // it does not answer
	Gone        bool // what it says does not hold any more
	Slow        bool // it has no emergency parser
	Deaf        bool // it takes nothing
	Loop        *part.Loop
}

// Live reports whether the printer answers.
func (l *Line) Live() bool { return !l.Off }

// Open reports whether there is a port.
func (l *Line) Open() bool { return !l.Off }

// Hears reports whether what the printer says holds.
func (l *Line) Hears() bool { return !l.Gone }

// Reason says why it does not answer.
func (l *Line) Reason() string { return "the cable is out" }

// HaltsAtOnce reports whether it reads what is urgent as it arrives.
func (l *Line) HaltsAtOnce() bool { return !l.Slow }

// Reports reports that it can do everything.
func (l *Line) Reports(string) bool { return true }

// Say takes a command.
func (l *Line) Say(command string, answer func([]string, error)) {
	l.Said = append(l.Said, command)
	if answer != nil && !l.Deaf {
		answer(nil, nil)
	}
}

// Urge takes an urgent command.
func (l *Line) Urge(command string) { l.Urged = append(l.Urged, command) }

// Halt takes the emergency stop.
func (l *Line) Halt() { l.Halted++ }

// Order takes a command if that is allowed.
func (l *Line) Order(ctx context.Context, command string, allowed func() error) (part.Said, error) {
	var refused error
	err := l.Loop.Ask(ctx, func() {
		if refused = allowed(); refused == nil {
			l.Say(command, nil)
		}
	})
	return part.Said{Line: command, Taken: refused == nil}, errors.Join(err, refused)
}

// Run is a run of which only its file and its state are known.
type Run struct {
	File  string
	State run.State
	Keeps bool // its bed is kept hot
}

// Brief is its file and its state.
func (r *Run) Brief() (string, run.State) { return r.File, r.State }

// KeepsBed reports whether its bed is kept hot.
func (r *Run) KeepsBed() bool { return r.Keeps }

// Records keep what parts tell.
type Records struct {
	Messages []string
	Marks    []heat.Mark
	Samples  []heat.Sample
	Raised   []heat.Alarm
	Known    map[heat.Heater]heat.Learned
}

// Message keeps a message.
func (r *Records) Message(m wire.Message) {
	r.Messages = append(r.Messages, fmt.Sprintf("%s: %s", m.Kind, m.Text))
}

// Mark keeps a mark.
func (r *Records) Mark(m heat.Mark) { r.Marks = append(r.Marks, m) }

// Readings keeps readings.
func (r *Records) Readings(s []heat.Sample) { r.Samples = append(r.Samples, s...) }

// Alarm keeps an alarm.
func (r *Records) Alarm(a heat.Alarm) { r.Raised = append(r.Raised, a) }

// Episode takes an episode.
func (r *Records) Episode(heat.Episode) {}

// Learned takes what was learned.
func (r *Records) Learned(h heat.Heater, l heat.Learned) {
	if r.Known == nil {
		r.Known = map[heat.Heater]heat.Learned{}
	}
	r.Known[h] = l
}

// Add is the flight recorder's.
func (r *Records) Add(byte, []byte) {}

// Ear is a part that writes down what it hears.
type Ear struct {
	part.Plain
	Heard []any
}

// Hear writes an event down.
func (e *Ear) Hear(event any) bool {
	e.Heard = append(e.Heard, event)
	return false
}

// NewLoop returns a loop that answers questions until the test ends, and the records
// that it tells.
func NewLoop(t *testing.T) (*part.Loop, *Records) {
	r := &Records{}
	loop := part.NewLoop(r, r, slog.New(slog.DiscardHandler), nil)
	loop.Alone = true // the test is the loop
	ended := make(chan struct{})
	go func() {
		for {
			select {
			case f := <-loop.Asks():
				f()
			case <-ended:
				return
			}
		}
	}()
	t.Cleanup(func() { close(ended) })
	return loop, r
}

// Report is what the conversation tells of a line that the printer has said.
func Report(text string) *wire.Event {
	return &wire.Event{Kind: wire.Heard, Reply: wire.Reply{Kind: wire.Report, Text: text}}
}
