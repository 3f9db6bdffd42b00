// Package queue is the area of what waits to be printed.
package queue

import (
	"context"
	"net/http"

	"diathermon/internal/api"
	core "diathermon/internal/core/queue"
	"diathermon/internal/host/printing"
	"diathermon/internal/queue"
	"diathermon/internal/web/desk"
	"diathermon/internal/web/guard"
	"diathermon/internal/web/runs"
)

// Queue is what waits.
type Queue interface {
	Entries(ctx context.Context) ([]core.Entry, error)
	Add(ctx context.Context, name, sender string) (core.Entry, int, error)
	Remove(ctx context.Context, id string) error
	Next(ctx context.Context, expected string) (printing.Now, error)
}

// Area is the area.
type Area struct{ Queue Queue }

type entry struct {
	ID string `path:"id" doc:"Of the entry"`
}

// Mount mounts the area.
func (a Area) Mount(d *desk.Desk) {
	d.Know(
		desk.Kind{Err: queue.ErrEmpty, Status: http.StatusConflict, Title: "nothing waits in the queue"},
		desk.Kind{Err: queue.ErrMissing, Status: http.StatusNotFound, Title: "there is no such entry in the queue"},
		desk.Kind{Err: queue.ErrReplaced, Status: http.StatusConflict, Title: "the file is not what it was when it was asked for"},
		desk.Kind{Err: queue.ErrLong, Status: http.StatusConflict, Title: "the queue is full"},
	)
	desk.Show(d, d.Op("list-queue", http.MethodGet, "/v1/queue", desk.Read, "What waits to be printed, the next first"),
		func(ctx context.Context, _ *struct{}) (api.Queue, error) {
			waiting, err := a.Queue.Entries(ctx)
			out := api.Queue{Entries: make([]api.QueueEntry, len(waiting))}
			for i, e := range waiting {
				out.Entries[i] = api.QueueEntry(e)
			}
			return out, err
		})
	desk.Show(d, desk.Answering(http.StatusCreated, d.Op("add-queue-entry", http.MethodPost, "/v1/queue", desk.Start, "Let a file wait in turn", 404, 409)),
		func(ctx context.Context, in *struct{ Body api.AddEntry }) (api.QueueEntry, error) {
			e, _, err := a.Queue.Add(ctx, in.Body.File, guard.Caller(ctx))
			return api.QueueEntry(e), err
		})
	desk.Do(d, desk.Answering(http.StatusNoContent, d.Op("remove-queue-entry", http.MethodDelete, "/v1/queue/{id}", desk.Start, "Take an entry out", 404)),
		func(ctx context.Context, in *entry) error { return a.Queue.Remove(ctx, in.ID) })
	desk.Show(d, desk.Answering(http.StatusCreated, d.Op("start-next", http.MethodPost, "/v1/queue/next", desk.Start, "Say that the bed is clear: the next entry begins", 404, 409)),
		func(ctx context.Context, in *struct{ Body api.BedClear }) (api.Run, error) {
			now, err := a.Queue.Next(ctx, in.Body.ID)
			return runs.NowOf(now), err
		})
}
