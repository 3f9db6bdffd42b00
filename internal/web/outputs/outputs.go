// Package outputs is the area of fans, lights and pins.
package outputs

import (
	"context"
	"net/http"

	"diathermon/internal/api"
	"diathermon/internal/api/ops"
	"diathermon/internal/host/outputs"
	"diathermon/internal/web/desk"
	"diathermon/internal/web/guard"
)

// Host sets outputs.
type Host interface {
	Set(ctx context.Context, name string, level float64, by string) (outputs.Now, error)
}

// Bench tells how they stand.
type Bench func(ctx context.Context) (outputs.Now, error)

// Area is the area.
type Area struct {
	Host  Host
	Bench Bench
}

// Mount mounts the area.
func (a Area) Mount(d *desk.Desk) {
	d.Know(
		desk.Kind{Err: outputs.ErrOutput, Status: http.StatusNotFound, Title: outputs.ErrOutput.Error()},
		desk.Kind{Err: outputs.ErrLevel, Status: http.StatusUnprocessableEntity, Title: outputs.ErrLevel.Error()},
	)
	desk.Show(d, ops.ListOutputs, func(ctx context.Context, _ *ops.Nothing) (api.Outputs, error) {
		now, err := a.Bench(ctx)
		return Of(now), err
	})
	desk.Show(d, ops.SetOutput, func(ctx context.Context, in *ops.NameWith[api.OutputLevel]) (api.Outputs, error) {
		now, err := a.Host.Set(ctx, in.Name, in.Body.Level, guard.Caller(ctx))
		return Of(now), err
	})
}

// Of is how outputs stand, as the contract says it.
func Of(now outputs.Now) api.Outputs {
	out := api.Outputs{Outputs: []api.Output{}}
	for _, s := range now {
		o := api.Output{Name: s.Name, Kind: string(s.Kind), Levels: s.Levels}
		if s.Known {
			level, at := s.Level, s.At
			o.Level, o.By, o.At = &level, s.By, &at
		}
		out.Outputs = append(out.Outputs, o)
	}
	return out
}

// Event is what everyone is told of it, as data of the contract; nil if what is another's.
func Event(what any) any {
	if now, ok := what.(outputs.Now); ok {
		return Of(now)
	}
	return nil
}
