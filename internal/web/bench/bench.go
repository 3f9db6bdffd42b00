// Package bench is the area of the live view: everything of one moment, the link, the
// emergency stop.
package bench

import (
	"context"
	"net/http"
	"time"

	"diathermon/internal/api"
	"diathermon/internal/api/ops"
	"diathermon/internal/core/bed"
	"diathermon/internal/core/bounds"
	"diathermon/internal/core/run"
	"diathermon/internal/host"
	"diathermon/internal/host/occupancy"
	"diathermon/internal/host/part"
	"diathermon/internal/port"
	"diathermon/internal/web/desk"
	"diathermon/internal/web/guard"
)

// Host is the live machine.
type Host interface {
	Bench(ctx context.Context) (host.Bench, error)
	Halt(ctx context.Context) error
}

// Bed is what lies on its bed.
type Bed interface {
	State(ctx context.Context) (occupancy.Now, error)
	Say(ctx context.Context, s bed.State, by string, seen time.Time) (occupancy.Now, error)
}

// Link is its serial connection.
type Link interface {
	Reconnect(ctx context.Context) error
}

// Area is the area.
type Area struct {
	Host  Host
	Link  Link
	Bed   Bed
	Ports func() []port.Port // of this computer
}

// Mount mounts the area.
func (a Area) Mount(d *desk.Desk) {
	d.Know(
		desk.Kind{Err: bed.ErrLater, Status: http.StatusConflict, Title: bed.ErrLater.Error()},
		desk.Kind{Err: bed.ErrLaid, Status: http.StatusConflict, Title: bed.ErrLaid.Error()},
		desk.Kind{Err: bed.ErrState, Status: http.StatusUnprocessableEntity, Title: bed.ErrState.Error()},
		desk.Kind{Err: bounds.ErrBusy, Status: http.StatusConflict, Title: "a run is going on"},
		desk.Kind{Err: run.ErrLive, Status: http.StatusServiceUnavailable, Title: "the printer is not answering"},
		desk.Kind{Err: part.ErrLost, Status: http.StatusServiceUnavailable, Title: "the printer did not take it"},
		desk.Kind{Err: part.ErrClosed, Status: http.StatusServiceUnavailable, Title: "the host is shutting down"},
	)
	a.mountBench(d)
}

func (a Area) mountBench(d *desk.Desk) {
	desk.Show(d, ops.GetBench, func(ctx context.Context, _ *ops.Nothing) (api.Bench, error) {
		now, err := a.Host.Bench(ctx)
		if err != nil {
			return api.Bench{}, err
		}
		return Of(now), nil
	})

	desk.Do(d, ops.Reconnect, func(ctx context.Context, _ *ops.Nothing) error {
		return a.Link.Reconnect(ctx)
	})

	desk.Show(d, ops.ListPorts, func(ctx context.Context, _ *ops.Nothing) (api.Ports, error) {
		now, err := a.Host.Bench(ctx)
		if err != nil {
			return api.Ports{}, err
		}
		return portsOf(a.Ports(), now.Link), nil
	})

	desk.Show(d, ops.Bed, func(ctx context.Context, _ *ops.Nothing) (api.Bed, error) {
		now, err := a.Bed.State(ctx)
		return bedOf(now), err
	})
	desk.Show(d, ops.SayBed, func(ctx context.Context, in *ops.With[api.SayBed]) (api.Bed, error) {
		if in.Body.State == string(bed.Unknown) {
			now, err := a.Bed.State(ctx)
			return bedOf(now), err
		}
		now, err := a.Bed.Say(ctx, bed.State(in.Body.State), guard.Caller(ctx), in.Body.Since)
		return bedOf(now), err
	})

	desk.Do(d, ops.Halt, func(ctx context.Context, _ *ops.Nothing) error {
		return a.Host.Halt(ctx)
	})
}
