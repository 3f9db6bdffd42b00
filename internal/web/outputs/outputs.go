// Package outputs is the area of fans, lights and pins.
package outputs

import (
	"context"
	"net/http"

	"diathermon/internal/api"
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
	desk.Show(d, d.Op("list-outputs", http.MethodGet, "/v1/outputs", desk.Read, "Fans, lights and pins, with what each was last set to, and by whom"),
		func(ctx context.Context, _ *struct{}) (api.Outputs, error) {
			now, err := a.Bench(ctx)
			return Of(now), err
		})
	desk.Show(d, d.Op("set-output", http.MethodPut, "/v1/outputs/{name}", desk.Operate, "Set a fan, a light or a pin", 404, 422, 503),
		func(ctx context.Context, in *struct {
			Name string `path:"name"`
			Body api.OutputLevel
		}) (api.Outputs, error) {
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
