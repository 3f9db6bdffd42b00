// Package queue is the area of what waits to be printed.
package queue

import (
	"context"
	"net/http"
	"time"

	"diathermon/internal/api"
	"diathermon/internal/api/ops"
	"diathermon/internal/core/access"
	"diathermon/internal/core/bed"
	core "diathermon/internal/core/queue"
	"diathermon/internal/facts"
	"diathermon/internal/host/occupancy"
	"diathermon/internal/host/printing"
	"diathermon/internal/queue"
	"diathermon/internal/web/desk"
	"diathermon/internal/web/guard"
	"diathermon/internal/web/runs"
)

// Queue is what waits.
type Queue interface {
	Outlooks(ctx context.Context) ([]queue.Outlook, error)
	Add(ctx context.Context, name, sender, cause string, w core.Wish) (core.Entry, int, error)
	Change(id string, c queue.Change) (core.Entry, error)
	Remove(id string) error
	Next(ctx context.Context, expected string, o printing.Order) (printing.Now, error)
}

// Bed is what lies on the bed.
type Bed interface {
	Say(ctx context.Context, s bed.State, by string, seen time.Time) (occupancy.Now, error)
}

// Area is the area.
type Area struct {
	Queue Queue
	Bed   Bed
}

// Mount mounts the area.
func (a Area) Mount(d *desk.Desk) {
	d.Know(
		desk.Kind{Err: queue.ErrEmpty, Status: http.StatusConflict, Title: "nothing waits in the queue"},
		desk.Kind{Err: core.ErrMissing, Status: http.StatusNotFound, Title: "there is no such entry in the queue"},
		desk.Kind{Err: core.ErrLong, Status: http.StatusConflict, Title: "the queue is full"},
		desk.Kind{Err: core.ErrValue, Status: http.StatusUnprocessableEntity, Title: core.ErrValue.Error()},
	)
	desk.Show(d, ops.ListQueue, func(ctx context.Context, _ *ops.Nothing) (api.Queue, error) {
		waiting, err := a.Queue.Outlooks(ctx)
		out := api.Queue{Entries: make([]api.QueueEntry, len(waiting))}
		for i, o := range waiting {
			out.Entries[i] = of(o.Entry)
			out.Entries[i].Checks, out.Entries[i].Why = facts.Checks(o.Checks), o.Why
		}
		return out, err
	})
	desk.Show(d, ops.AddQueueEntry, func(ctx context.Context, in *ops.With[api.AddEntry]) (api.QueueEntry, error) {
		w := core.Wish{Copies: max(in.Body.Copies, 1), After: in.Body.After.UTC(), Soak: soakOf(in.Body.SoakSeconds), Slots: in.Body.Slots}
		if in.Body.Around != nil {
			if p := d.Lacking(ctx, access.Operate); p != nil {
				return api.QueueEntry{}, p
			}
			w.Around = runs.ToAround(*in.Body.Around)
		}
		e, _, err := a.Queue.Add(ctx, in.Body.File, guard.Caller(ctx), "", w)
		return of(e), err
	})
	desk.Show(d, ops.ChangeQueueEntry, func(ctx context.Context, in *ops.IDWith[api.ChangeEntry]) (api.QueueEntry, error) {
		b := in.Body
		if p := d.Lacking(ctx, access.Operate); b.Around != nil && p != nil {
			return api.QueueEntry{}, p
		}
		c := queue.Change{Before: b.Before}
		if b.Copies != nil || b.After != nil || b.SoakSeconds != nil || b.Slots != nil || b.Around != nil {
			c.Wish = func(w *core.Wish) {
				if b.Copies != nil {
					w.Copies = *b.Copies
				}
				if b.After != nil {
					w.After = b.After.UTC()
				}
				if b.Slots != nil {
					w.Slots = *b.Slots
				}
				if b.Around != nil {
					w.Around = runs.ToAround(*b.Around)
				}
				if b.SoakSeconds != nil {
					if w.Soak = nil; *b.SoakSeconds >= 0 {
						w.Soak = soakOf(b.SoakSeconds)
					}
				}
			}
		}
		e, err := a.Queue.Change(in.ID, c)
		return of(e), err
	})
	desk.Do(d, ops.RemoveQueueEntry, func(_ context.Context, in *ops.ID) error { return a.Queue.Remove(in.ID) })
	desk.Show(d, ops.StartNext, func(ctx context.Context, in *ops.With[api.StartNext]) (api.Run, error) {
		b, by := in.Body, guard.Caller(ctx)
		whys, err := runs.Overruling(ctx, d, b.Overrule)
		if err != nil {
			return api.Run{}, err
		}
		if b.Clear {
			if p := d.Lacking(ctx, access.Operate); p != nil {
				return api.Run{}, p
			}
			if _, err := a.Bed.Say(ctx, bed.Clear, by, b.Seen); err != nil {
				return api.Run{}, err
			}
		}
		now, err := a.Queue.Next(ctx, b.ID, printing.Order{By: by, Overrule: whys})
		return runs.NowOf(now), err
	})
}

// soakOf is how long a bed soaks; nil: it does not.
func soakOf(seconds *float64) *time.Duration {
	if seconds == nil {
		return nil
	}
	d := api.Seconds(*seconds)
	return &d
}

// of is an entry as the contract says it.
func of(e core.Entry) api.QueueEntry {
	out := api.QueueEntry{ID: e.ID, File: e.File, Digest: e.Digest, Sender: e.Sender, Asked: e.Asked, Cause: e.Cause, Missed: e.Missed}
	out.Copies, out.After = e.Copies, api.Moment(e.After)
	out.Slots = e.Slots
	if e.Around != nil {
		around := runs.AroundOf(*e.Around)
		out.Around = &around
	}
	if e.Soak != nil {
		s := e.Soak.Seconds()
		out.SoakSeconds = &s
	}
	return out
}
