// Package doors takes files in, by whichever door they come: each says the same about
// starting. A file is stored first; whether it begins then, waits in turn or is only kept
// is a second thing, and its failing takes nothing away from the first.
package doors

import (
	"context"
	"fmt"
	"path"
	"slices"
	"strings"

	"diathermon/internal/core/queue"
	"diathermon/internal/core/toolpath"
	"diathermon/internal/host/printing"
	"diathermon/internal/shelf"
)

// Then is what becomes of a file once it is stored.
type Then string

// What a sender may ask for.
const (
	Store Then = "store" // nothing: a person starts it
	Print Then = "print" // it is started at once
	Queue Then = "queue" // it waits in turn
)

// Thens lists them all.
var Thens = []Then{Store, Print, Queue}

// Named returns what a word asks for; nothing is Store.
func Named(word string) (Then, error) {
	if word == "" {
		return Store, nil
	}
	if t := Then(strings.ToLower(word)); slices.Contains(Thens, t) {
		return t, nil
	}
	return "", fmt.Errorf("%q is not known here; it may be store, print or queue", word)
}

// Starts reports whether a file is printed in the end without being asked for again, which
// takes the right to start.
func (t Then) Starts() bool { return t == Print || t == Queue }

// Shelf stores files.
type Shelf interface {
	Store(ctx context.Context, a shelf.Arrival) (toolpath.File, shelf.Outcome, error)
}

// Host starts them.
type Host interface {
	Start(ctx context.Context, o printing.Order) (printing.Now, error)
}

// Line is where they wait.
type Line interface {
	Add(ctx context.Context, name, sender, cause string, w queue.Wish) (queue.Entry, int, error)
}

// An Intake is what is behind every door.
type Intake struct {
	Shelf Shelf
	Host  Host
	Line  Line
}

// Taken is what became of a file.
type Taken struct {
	File    toolpath.File
	Outcome shelf.Outcome
	Run     *printing.Now // that has begun
	Place   int           // in the queue, from 1; 0: it does not wait
	Entry   queue.Entry   // with a place
	Why     error         // it waits, though it was to begin at once
	Not     error         // why it has neither begun nor waits, though that was asked for
}

// Take stores an arrival and does with it what its sender wants.
func (in Intake) Take(ctx context.Context, a shelf.Arrival, then Then) (Taken, error) {
	a.Whole = a.Whole || then == Print
	f, outcome, err := in.Shelf.Store(ctx, a)
	if err != nil {
		return Taken{File: f}, err
	}
	t := in.After(ctx, f, then, a.Sender)
	t.Outcome = outcome
	return t, nil
}

// After does with a file that has been stored what its sender wants.
func (in Intake) After(ctx context.Context, f toolpath.File, then Then, sender string) Taken {
	t := Taken{File: f}
	once := queue.Wish{Copies: 1}
	switch then {
	case Print:
		now, err := in.Host.Start(ctx, printing.Order{File: f.Name, Digest: f.Digest, By: sender})
		switch {
		case err == nil:
			t.Run = &now
		case printing.Passes(err): // a person lets it begin when what is in its way has gone
			t.Why = err
			t.Entry, t.Place, t.Not = in.Line.Add(ctx, f.Name, sender, err.Error(), once)
		default:
			t.Not = err
		}
	case Queue:
		t.Entry, t.Place, t.Not = in.Line.Add(ctx, f.Name, sender, "", once)
	}
	return t
}

// Passing reports whether a name is one of those that programs give a file for the time
// being, or notes of their own.
func Passing(name string) bool {
	lower := strings.ToLower(name)
	return strings.HasPrefix(name, ".") || strings.HasPrefix(name, "~") || strings.HasSuffix(name, "~") || lower == "thumbs.db" || lower == "desktop.ini" ||
		slices.Contains([]string{".part", ".partial", ".tmp", ".temp", ".crdownload", ".filepart", ".download", ".swp", ".lock"}, path.Ext(lower))
}
