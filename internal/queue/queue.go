// Package queue lets files wait in turn.
//
// It promises that nothing starts by itself: the next entry begins when a person says
// that the bed is clear, and then what is printed is what was on the shelf when it was
// asked for. An entry stays until it has begun or is taken out. It leaves whether a start
// is possible to the host.
package queue

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"sync"
	"time"

	"github.com/google/uuid"

	"diathermon/internal/core/heat"
	"diathermon/internal/core/queue"
	"diathermon/internal/core/toolpath"
	"diathermon/internal/host/printing"
)

// Errors that callers tell apart.
var (
	ErrEmpty    = errors.New("nothing waits in the queue")
	ErrMissing  = errors.New("no such entry in the queue")
	ErrReplaced = errors.New("its file is not what it was")
	ErrLong     = errors.New("the queue is full")
)

// longest is how many entries there may be.
const longest = 200

// Kept is where entries are kept, in the order of asking.
type Kept interface {
	Entries(ctx context.Context) ([]queue.Entry, error)
	PutEntry(ctx context.Context, e queue.Entry) error
	DeleteEntry(ctx context.Context, id string) error
}

// Shelf has the files.
type Shelf interface {
	Known(ctx context.Context, name string) (toolpath.File, error)
}

// Host prints them.
type Host interface {
	Start(ctx context.Context, file string, soak *heat.Soak) (printing.Now, error)
}

// A Queue is one printer's.
type Queue struct {
	kept  Kept
	shelf Shelf
	host  Host

	mu sync.Mutex // one thing is changed at a time
}

// New returns a queue of what is kept.
func New(kept Kept, shelf Shelf, host Host) *Queue {
	return &Queue{kept: kept, shelf: shelf, host: host}
}

// Entries are what waits, the next first.
func (q *Queue) Entries(ctx context.Context) ([]queue.Entry, error) { return q.kept.Entries(ctx) }

// Add lets a file wait, as it is now, and returns its entry and its place, from 1.
func (q *Queue) Add(ctx context.Context, name, sender string) (queue.Entry, int, error) {
	q.mu.Lock()
	defer q.mu.Unlock()
	f, err := q.shelf.Known(ctx, name)
	if err != nil {
		return queue.Entry{}, 0, err
	}
	before, err := q.kept.Entries(ctx)
	if err != nil {
		return queue.Entry{}, 0, err
	}
	if len(before) >= longest {
		return queue.Entry{}, 0, fmt.Errorf("%w: %d files wait; take some out first", ErrLong, len(before))
	}
	id, err := uuid.NewV7()
	if err != nil {
		return queue.Entry{}, 0, err
	}
	e := queue.Entry{ID: id.String(), File: f.Name, Digest: f.Digest, Sender: sender, Asked: time.Now().UTC().Truncate(time.Millisecond)}
	return e, len(before) + 1, q.kept.PutEntry(ctx, e)
}

// Remove takes an entry out.
func (q *Queue) Remove(ctx context.Context, id string) error {
	q.mu.Lock()
	defer q.mu.Unlock()
	if err := q.kept.DeleteEntry(ctx, id); !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	return fmt.Errorf("%w: it has begun, or was taken out", ErrMissing)
}

// Next starts the first entry, for a person who says that the bed is clear. Expected is
// the entry that the person saw there; empty: whichever it is.
func (q *Queue) Next(ctx context.Context, expected string) (printing.Now, error) {
	q.mu.Lock()
	defer q.mu.Unlock()
	waiting, err := q.kept.Entries(ctx)
	switch {
	case err != nil:
		return printing.Now{}, err
	case len(waiting) == 0:
		return printing.Now{}, fmt.Errorf("%w: send a file, or add one from the shelf", ErrEmpty)
	case expected != "" && waiting[0].ID != expected:
		return printing.Now{}, fmt.Errorf("%w: another one is next now: look at the queue again", ErrMissing)
	}
	e := waiting[0]
	f, err := q.shelf.Known(ctx, e.File)
	if err != nil {
		return printing.Now{}, fmt.Errorf("%w: %s: take its entry out: %w", ErrReplaced, e.File, err)
	}
	if f.Digest != e.Digest {
		return printing.Now{}, fmt.Errorf("%w: %s was replaced since it was asked for: take its entry out, look at the file, and add it again", ErrReplaced, e.File)
	}
	now, err := q.host.Start(ctx, e.File, nil)
	if err != nil {
		return now, err
	}
	return now, q.kept.DeleteEntry(context.WithoutCancel(ctx), e.ID) // it has begun: a second time would be one too many
}
