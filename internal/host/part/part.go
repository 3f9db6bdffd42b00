// Package part is what the parts of the live machine have in common: the verbs that
// the host's loop knows them by, the events they hear, the loop as they see it, and
// the line to the printer.
//
// All parts belong to one goroutine, the loop's: what is called here is called there,
// unless its comment says otherwise, so that no part needs a lock. A part knows the
// parts before it in the host's list by their doors, and those behind it by what it
// announces or by an interface that it declares.
package part

import (
	"context"
	"errors"

	"diathermon/internal/core/heat"
	"diathermon/internal/core/wire"
)

// A Part is one of the things that the loop owns.
type Part interface {
	// Hear hears what has happened: what the conversation tells (a *wire.Event), or
	// an event of this package. What is a part's alone goes to nobody behind it.
	Hear(event any) (mine bool)
	// Tick lets time pass, four times a second while a port is open.
	Tick()
	// Busy reports whether it has something to do before the host may end.
	Busy() bool
}

// A Memory keeps a value over restarts. Neither method waits for a disk, and what was set
// may not be changed afterwards.
type Memory[T any] interface {
	Get() T
	Set(T)
}

// Plain is a part that does none of it.
type Plain struct{}

// Hear hears nothing.
func (Plain) Hear(any) bool { return false }

// Tick does nothing.
func (Plain) Tick() {}

// Busy keeps nobody waiting.
func (Plain) Busy() bool { return false }

// What happens besides what the conversation tells.
type (
	// Cut means that the printer is out of reach.
	Cut struct{ Reason string }
	// Reset means that the printer has begun anew and forgotten everything.
	Reset struct{ Reason string }
	// Forgotten means that what the printer has told of its heaters and its head no
	// longer holds. Cut or Reset have been heard before it, by everyone.
	Forgotten struct{}
	// Answers means that the printer answers, or does so again.
	Answers struct{}
	// Halted means that the emergency stop has been said.
	Halted struct{}
	// Alarmed means that a guard has raised an alarm.
	Alarmed struct{ heat.Alarm }
	// Cooled means that every heater is being turned off, whatever goes on.
	Cooled struct{ Reason string }
	// Leaving means that the host ends as soon as nobody is busy.
	Leaving struct{}
)

// A Line is what a part says things by.
type Line interface {
	Live() bool                     // the printer answers
	Open() bool                     // there is a port to say things to
	Hears() bool                    // it is not given up: what it says still holds
	Reason() string                 // how the link stands, in words
	HaltsAtOnce() bool              // the firmware reads what is urgent as it arrives
	Reports(capability string) bool // the firmware says that it can do this
	// Say says a command and calls answer, which may be nil, when the printer has
	// taken it or it is lost.
	Say(command string, answer func(lines []string, err error))
	// Urge says a command ahead of what is queued in the printer.
	Urge(command string)
	// Halt says the emergency stop.
	Halt()
	// Order says a command where allowed agrees, and waits for its answer until ctx
	// ends; then it may still be taken. It may be called from anywhere.
	Order(ctx context.Context, command string, allowed func() error) (Said, error)
}

// A Said is a line and what the printer answered.
type Said struct {
	Line  string
	Reply []string
	Taken bool // the printer has acknowledged it
}

// Errors that more than one part returns.
var (
	ErrClosed = errors.New("the host is shutting down")
	ErrLost   = errors.New("the printer did not take it")
)

// A Recorder keeps what everybody tells. Neither method may wait for anything.
type Recorder interface {
	Message(wire.Message)
	Mark(heat.Mark)
}
