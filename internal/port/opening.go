// Package port finds the printer's port, opens it, reads it and writes to it.
//
// It promises that nobody waits for a port: one that hangs in opening, in closing or
// in writing keeps only its own goroutine. It leaves to whoever holds the
// conversation what is read and written, and when it is tried again.
package port

import (
	"fmt"
	"io"
)

// An Opening is a port that is being found and opened, which may take for ever where
// a driver hangs.
type Opening struct {
	Found <-chan string // the device, before it is opened
	Done  <-chan Opened
}

// Opened is what has come of an opening.
type Opened struct {
	Device string
	Port   io.ReadWriteCloser // nil: there is none
	Why    string             // in words, with what to do
}

// Opener opens the port at a device.
type Opener func(device string, baud int) (io.ReadWriteCloser, error)

// Begin finds and opens a port once closed says that the one before it is closed.
// Without a device it is the only one that there is.
func Begin(device string, baud int, open Opener, closed <-chan struct{}) *Opening {
	found, done := make(chan string, 1), make(chan Opened, 1)
	go func() {
		<-closed
		device, err := choose(device)
		if err != nil {
			done <- Opened{Device: device, Why: err.Error()}
			return
		}
		if other := holder(device); other != "" {
			done <- Opened{Device: device, Why: fmt.Sprintf("%s has %s open: close that program, then it is tried again", other, device)}
			return
		}
		found <- device
		port, err := open(device, baud)
		if err != nil {
			done <- Opened{Device: device, Why: explain(device, err)}
			return
		}
		done <- Opened{Device: device, Port: port}
	}()
	return &Opening{Found: found, Done: done}
}

// Leave closes the port as soon as it is open after all.
func (o *Opening) Leave() {
	go func() {
		if got := <-o.Done; got.Port != nil {
			got.Port.Close()
		}
	}()
}

// Close closes a port, which may take for ever, too, and tells when it is closed.
func Close(port io.Closer) <-chan struct{} {
	closed := make(chan struct{})
	go func() {
		port.Close()
		close(closed)
	}()
	return closed
}
