// Package queue is what waits to be printed, in its order.
//
// An entry begins when a person says so, or by itself at the time that was asked for, and
// then only if somebody has said before that the bed is clear. It leaves to the host
// whether a start is possible, and to preflight what stands in its way.
package queue

import (
	"errors"
	"fmt"
	"slices"
	"time"

	"diathermon/internal/core/run"
)

// Errors that callers tell apart.
var (
	ErrMissing = errors.New("no such entry in the queue")
	ErrLong    = errors.New("the queue is full")
	ErrValue   = errors.New("an entry cannot be like that")
)

// Bounds of a queue.
const (
	Longest    = 200                 // entries
	MostCopies = 100                 // of one entry
	farthest   = 31 * 24 * time.Hour // until an entry begins
	longest    = 4 * time.Hour       // that it soaks
	mostSlots  = 16
)

// Late is for how long after its time an entry may begin by itself. Whatever is later a
// person has to want anew: nobody expects it any more.
const Late = 15 * time.Minute

// An Entry is a file that waits in turn.
type Entry struct {
	ID     string // UUID
	File   string // its name on the shelf
	Digest string // of the bytes that were meant
	Sender string // who asked
	Asked  time.Time
	Cause  string `json:",omitempty"` // why it waits, though it was to begin at once or at its time
	Missed bool   `json:",omitempty"` // its time has passed, so that it begins when a person says so
	Wish
}

// A Wish is how an entry is to be run.
type Wish struct {
	Copies int            // that are still to be printed, 1 at the least
	After  time.Time      `json:",omitzero"`  // it begins by itself then; zero: when a person says so
	Soak   *time.Duration `json:",omitempty"` // the bed is held hot for so long before the first line, 0: until it has settled; nil: it is not
	Slots  []int          `json:",omitempty"` // from which each of the file's tools is printed; empty: from that of its number
	Around *run.Around    `json:",omitempty"` // the routines around it; nil: those of every run
}

// Check says what is wrong with a wish.
func (w Wish) Check(now time.Time) error {
	switch {
	case w.Copies < 1 || w.Copies > MostCopies:
		return fmt.Errorf("%w: it is printed 1 to %d times, and not %d", ErrValue, MostCopies, w.Copies)
	case !w.After.IsZero() && (w.After.Before(now.Add(-time.Minute)) || w.After.After(now.Add(farthest))):
		return fmt.Errorf("%w: its time, %s, is not within the next 31 days", ErrValue, w.After.Format(time.DateTime))
	case slices.ContainsFunc(w.Slots, func(s int) bool { return s < 0 || s >= mostSlots }):
		return fmt.Errorf("%w: its tools are printed from slots 0 to %d", ErrValue, mostSlots-1)
	case w.Soak != nil && (*w.Soak < 0 || *w.Soak > longest):
		return fmt.Errorf("%w: it soaks for up to %s, and not %s", ErrValue, longest, *w.Soak)
	}
	return nil
}

// Turn tells the next run of an entry from those before it.
func (e Entry) Turn() string { return fmt.Sprintf("%s/%d", e.ID, e.Copies) }

// A Queue is what waits, the next first. Nothing changes one: what does returns another.
type Queue []Entry

// Find returns an entry and its place, from 1.
func (q Queue) Find(id string) (Entry, int, error) {
	if i := q.at(id); i >= 0 {
		return q[i], i + 1, nil
	}
	return Entry{}, 0, fmt.Errorf("%w: it has begun, or was taken out", ErrMissing)
}

func (q Queue) at(id string) int {
	return slices.IndexFunc(q, func(e Entry) bool { return e.ID == id })
}

// Add lets an entry wait behind all others.
func (q Queue) Add(e Entry) (Queue, error) {
	if len(q) >= Longest {
		return q, fmt.Errorf("%w: %d files wait; take some out first", ErrLong, len(q))
	}
	return append(slices.Clone(q), e), nil
}

// Remove takes an entry out.
func (q Queue) Remove(id string) (Queue, error) {
	_, place, err := q.Find(id)
	if err != nil {
		return q, err
	}
	return slices.Delete(slices.Clone(q), place-1, place), nil
}

// Move takes an entry to the place before another; empty: to the end.
func (q Queue) Move(id, before string) (Queue, error) {
	e, _, err := q.Find(id)
	if err != nil || id == before {
		return q, err
	}
	out, _ := q.Remove(id)
	at := len(out)
	if before != "" {
		if at = out.at(before); at < 0 {
			return q, fmt.Errorf("%w: the one that it was to go before has begun, or was taken out", ErrMissing)
		}
	}
	return slices.Insert(out, at, e), nil
}

// Change puts an entry in the place of the one with its ID.
func (q Queue) Change(e Entry) (Queue, error) {
	_, place, err := q.Find(e.ID)
	if err != nil {
		return q, err
	}
	out := slices.Clone(q)
	out[place-1] = e
	return out, nil
}

// Begun is the queue after an entry's turn has begun; that of a turn that is not known,
// or has been taken off already, is as it was.
func (q Queue) Begun(turn string) Queue {
	i := slices.IndexFunc(q, func(e Entry) bool { return e.Turn() == turn })
	if i < 0 {
		return q
	}
	out := slices.Clone(q)
	if out[i].Copies == 1 {
		return slices.Delete(out, i, i+1)
	}
	out[i].Copies--
	out[i].After, out[i].Cause, out[i].Missed = time.Time{}, "", false
	return out
}

// Due returns the first entry whose time has come, and the queue with those marked that
// have missed theirs.
func (q Queue) Due(now time.Time) (due *Entry, out Queue) {
	out = q
	for i, e := range q {
		switch late := now.Sub(e.After); {
		case e.After.IsZero() || e.Missed || late < 0:
		case late > Late:
			if &out[0] == &q[0] {
				out = slices.Clone(q)
			}
			out[i].Missed = true
			if e.Cause == "" {
				out[i].Cause = "its time passed while the host was off"
			}
		case due == nil:
			due = &e
		}
	}
	return due, out
}
