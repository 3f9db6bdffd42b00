// Package queue keeps what waits in turn, and lets it begin.
//
// It promises that nothing begins that nobody asked for: an entry begins when a person
// says so, or at the time that was asked for and no later than queue.Late after it, on a
// bed that somebody has said to be clear. What is printed then is what was on the shelf
// when it was asked for. An entry stays until it has begun or is taken out, whatever
// becomes of process, power and database: the queue is a file of its own. It leaves
// whether a start is possible to the host.
package queue

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"os"
	"sync"
	"time"

	"github.com/google/uuid"

	"diathermon/internal/core/heat"
	"diathermon/internal/core/preflight"
	"diathermon/internal/core/queue"
	"diathermon/internal/core/stock"
	"diathermon/internal/core/toolpath"
	"diathermon/internal/durable"
	"diathermon/internal/host/printing"
)

// ErrEmpty means that nothing waits.
var ErrEmpty = errors.New("nothing waits in the queue")

// Spoilt is what a file that cannot be read is called from then on, behind its name.
const Spoilt = ".spoilt"

// Shelf has the files.
type Shelf interface {
	Known(ctx context.Context, name string) (toolpath.File, error)
	Files(ctx context.Context) ([]toolpath.File, error)
}

// Host prints them.
type Host interface {
	Start(ctx context.Context, o printing.Order) (printing.Now, error)
	Preflights(ctx context.Context, files []toolpath.File) ([]preflight.Report, error)
	Mapped(f toolpath.File, slots stock.Mapping) toolpath.File
}

// Config is what a Queue needs.
type Config struct {
	Path  string // of its file
	Begun string // the turn of an entry whose run was cut off as the host last ended; empty: none was
	Shelf Shelf
	Host  Host
	Tell  func() // is called when it has changed
	Log   *slog.Logger
}

// A Queue is one printer's.
type Queue struct {
	Config
	kept *durable.Value[queue.Queue]

	mu sync.Mutex // one thing is changed at a time
}

// Open returns what waits. A file that cannot be read is put aside. What waited before
// where there was no file yet is taken over.
func Open(c Config, before []queue.Entry) (*Queue, error) {
	kept, err := durable.OpenValue[queue.Queue](c.Path, nil)
	if err != nil {
		c.Log.Error("what waited to be printed is not known any more; its file is put aside", "error", err, "aside", c.Path+Spoilt)
		if err := os.Rename(c.Path, c.Path+Spoilt); err != nil {
			return nil, err
		}
	}
	q := &Queue{Config: c, kept: kept}
	now := kept.Get()
	for _, e := range before {
		if _, _, err := now.Find(e.ID); err != nil {
			e.Copies = 1
			now = append(now, e)
		}
	}
	return q, kept.Put(now.Begun(c.Begun))
}

// Entries are what waits, the next first. It never waits.
func (q *Queue) Entries() queue.Queue { return q.kept.Get() }

// An Outlook is an entry with what stands in its way now.
type Outlook struct {
	queue.Entry
	Checks []preflight.Check // blocks first
	Why    string            // it does not begin, in words; empty: it could
}

// Outlooks are what waits, with what stands in its way.
func (q *Queue) Outlooks(ctx context.Context) ([]Outlook, error) {
	waiting := q.Entries()
	out := make([]Outlook, len(waiting))
	if len(waiting) == 0 {
		return out, nil
	}
	all, err := q.Shelf.Files(ctx)
	if err != nil { // what waits is known all the same
		for i, e := range waiting {
			out[i] = Outlook{Entry: e, Why: "the shelf cannot be looked at now: " + err.Error()}
		}
		return out, nil
	}
	there := map[string]toolpath.File{}
	for _, f := range all {
		there[f.Name] = f
	}
	files := make([]toolpath.File, len(waiting))
	for i, e := range waiting {
		files[i] = q.Host.Mapped(there[e.File], e.Slots)
	}
	reports, err := q.Host.Preflights(ctx, files)
	if err != nil {
		return nil, err
	}
	for i, e := range waiting {
		out[i] = Outlook{Entry: e, Checks: reports[i].Checks}
		if files[i].Digest != e.Digest {
			out[i].Checks = []preflight.Check{gone(e, files[i].Name != "")}
		}
		out[i].Why = out[i].why()
	}
	return out, nil
}

// why says what stands in its way: of the bed, which is cleared as it begins, only where
// that is all.
func (o *Outlook) why() (why string) {
	for _, c := range o.Checks {
		switch {
		case c.Level != preflight.Block:
		case c.Kind != preflight.Bed:
			return c.Title
		default:
			why = c.Title
		}
	}
	if why == "" && o.Missed {
		why = o.Cause
	}
	return why
}

// gone is the check of an entry whose file is not what was meant.
func gone(e queue.Entry, replaced bool) preflight.Check {
	c := preflight.Check{Kind: preflight.File, Level: preflight.Block, Title: e.File + " is not on the shelf any more", Do: "take its entry out"}
	if replaced {
		c.Title, c.Do = e.File+" was replaced since it was asked for", "take its entry out, look at the file, and add it again"
	}
	return c
}

// Add lets a file wait behind all others, as it is now, and returns its entry and its
// place, from 1. Cause says why, if it was to begin at once: then a file that waits for
// such a cause already waits once.
func (q *Queue) Add(ctx context.Context, name, sender, cause string, w queue.Wish) (queue.Entry, int, error) {
	now := time.Now().UTC().Truncate(time.Millisecond)
	if err := w.Check(now); err != nil {
		return queue.Entry{}, 0, err
	}
	f, err := q.Shelf.Known(ctx, name)
	if err != nil {
		return queue.Entry{}, 0, err
	}
	id, err := uuid.NewV7()
	if err != nil {
		return queue.Entry{}, 0, err
	}
	e := queue.Entry{ID: id.String(), File: f.Name, Digest: f.Digest, Sender: sender, Asked: now, Cause: cause, Wish: w}
	place := 0
	_, err = q.change(func(now queue.Queue) (queue.Queue, error) {
		for i, other := range now {
			if cause != "" && other.Cause != "" && other.File == e.File && other.Digest == e.Digest {
				e, place = other, i+1
				return now, nil
			}
		}
		place = len(now) + 1
		return now.Add(e)
	})
	return e, place, err
}

// Remove takes an entry out.
func (q *Queue) Remove(id string) error {
	_, err := q.change(func(now queue.Queue) (queue.Queue, error) { return now.Remove(id) })
	return err
}

// A Change is what is to be different about an entry; nil: it stays.
type Change struct {
	Before *string // it goes to the place before the entry of that ID; empty: to the end
	Wish   func(*queue.Wish)
}

// Change changes an entry.
func (q *Queue) Change(id string, c Change) (queue.Entry, error) {
	var e queue.Entry
	_, err := q.change(func(now queue.Queue) (queue.Queue, error) {
		var err error
		if e, _, err = now.Find(id); err == nil && c.Wish != nil {
			now, err = c.wish(now, &e)
		}
		if err == nil && c.Before != nil {
			now, err = now.Move(id, *c.Before)
		}
		return now, err
	})
	return e, err
}

// wish changes what is wished of an entry.
func (c Change) wish(now queue.Queue, e *queue.Entry) (queue.Queue, error) {
	before := e.After
	c.Wish(&e.Wish)
	checked := e.Wish
	if e.After.Equal(before) { // a time that was asked for once may have passed
		checked.After = time.Time{}
	} else {
		e.Missed, e.Cause = false, ""
	}
	if err := checked.Check(time.Now()); err != nil {
		return now, err
	}
	return now.Change(*e)
}

// change is the one place where the queue changes, but for what begins.
func (q *Queue) change(f func(queue.Queue) (queue.Queue, error)) (queue.Queue, error) {
	q.mu.Lock()
	defer q.mu.Unlock()
	now, err := f(q.kept.Get())
	if err != nil {
		return now, err
	}
	if err := q.kept.Put(now); err != nil {
		return now, err
	}
	q.Tell()
	return now, nil
}

// Next starts the first entry, or the one of that ID, for a person who wants it; expected
// empty: whichever is the first.
func (q *Queue) Next(ctx context.Context, expected string, o printing.Order) (printing.Now, error) {
	q.mu.Lock()
	defer q.mu.Unlock()
	waiting := q.kept.Get()
	switch {
	case len(waiting) == 0:
		return printing.Now{}, fmt.Errorf("%w: send a file, or add one from the shelf", ErrEmpty)
	case expected != "" && waiting[0].ID != expected:
		if _, _, err := waiting.Find(expected); err != nil {
			return printing.Now{}, err
		}
		return printing.Now{}, fmt.Errorf("%w: another one is next now: look at the queue again", queue.ErrMissing)
	}
	return q.begin(ctx, waiting[0], o)
}

// begin starts an entry. The run's journal is on the disk before the entry is taken off, so
// that one of the two is there whenever the power ends.
func (q *Queue) begin(ctx context.Context, e queue.Entry, o printing.Order) (printing.Now, error) {
	o.File, o.Digest, o.Entry = e.File, e.Digest, e.Turn()
	o.Slots = e.Slots
	if e.Around != nil {
		o.Before, o.After = &e.Around.Before, &e.Around.After
	}
	if e.Soak != nil {
		o.Soak = &heat.Soak{For: *e.Soak}
	}
	now, err := q.Host.Start(ctx, o)
	if err != nil {
		return now, err
	}
	err = q.kept.Put(q.kept.Get().Begun(e.Turn()))
	q.Tell()
	return now, err
}

// lookEvery is how often it is looked for what is due.
const lookEvery = 2 * time.Second

// Work lets entries begin at their times until ctx ends.
func (q *Queue) Work(ctx context.Context) {
	ticker := time.NewTicker(lookEvery)
	defer ticker.Stop()
	for {
		select {
		case <-ctx.Done():
			return
		case <-ticker.C:
			q.look(ctx)
		}
	}
}

// look lets what is due begin, and notes why what could not does not.
func (q *Queue) look(ctx context.Context) {
	q.mu.Lock()
	defer q.mu.Unlock()
	before := q.kept.Get()
	due, now := before.Due(time.Now())
	if due != nil {
		_, err := q.begin(ctx, *due, printing.Order{By: due.Sender})
		if err == nil || ctx.Err() != nil {
			return
		}
		if why := fmt.Sprintf("it could not begin at its time: %v", err); why != due.Cause {
			q.Log.Warn("an entry of the queue cannot begin at its time", "file", due.File, "reason", err)
			due.Cause = why
			now, _ = now.Change(*due)
		}
	}
	if len(now) > 0 && &now[0] != &before[0] {
		if err := q.kept.Put(now); err != nil {
			q.Log.Error("the queue is not kept", "error", err)
		}
		q.Tell()
	}
}
