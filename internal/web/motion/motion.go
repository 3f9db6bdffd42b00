// Package motion is the area of moving the head and the filament by hand.
package motion

import (
	"context"
	"net/http"
	"strings"
	"time"

	"diathermon/internal/api"
	"diathermon/internal/api/ops"
	"diathermon/internal/core/gcode"
	"diathermon/internal/core/jog"
	"diathermon/internal/host/moving"
	"diathermon/internal/web/desk"
)

// Host moves.
type Host interface {
	Press(ctx context.Context, p jog.Press) (moving.Now, error)
	Drop(ctx context.Context) (moving.Now, error)
	Home(ctx context.Context, axes []gcode.Axis) (moving.Now, error)
	Park(ctx context.Context) (moving.Now, error)
	MotorsOff(ctx context.Context) (moving.Now, error)
	Endstops(ctx context.Context) ([]moving.Endstop, error)
}

// Area is the area.
type Area struct{ Host Host }

// doWait is how long a call waits for the printer to have done it: homing takes about
// half of it. It goes on behind that, and the live events tell.
const doWait = 60 * time.Second

// Mount mounts the area.
func (a Area) Mount(d *desk.Desk) {
	d.Know(
		desk.Kind{Err: jog.ErrPress, Status: http.StatusUnprocessableEntity, Title: jog.ErrPress.Error()},
		desk.Kind{Err: jog.ErrVolume, Status: http.StatusUnprocessableEntity, Title: jog.ErrVolume.Error()},
		desk.Kind{Err: jog.ErrUnknown, Status: http.StatusConflict, Title: jog.ErrUnknown.Error()},
		desk.Kind{Err: moving.ErrAtWork, Status: http.StatusConflict, Title: moving.ErrAtWork.Error()},
		desk.Kind{Err: moving.ErrCold, Status: http.StatusConflict, Title: moving.ErrCold.Error()},
	)
	desk.Show(d, ops.Press, func(ctx context.Context, in *ops.With[api.Press]) (api.Motion, error) {
		p, err := pressOf(in.Body)
		if err != nil {
			return api.Motion{}, err
		}
		now, err := a.Host.Press(ctx, p)
		return Of(now), err
	})
	desk.Show(d, ops.DropPresses, func(ctx context.Context, _ *ops.Nothing) (api.Motion, error) {
		now, err := a.Host.Drop(ctx)
		return Of(now), err
	})
	desk.Show(d, ops.Home, func(ctx context.Context, in *ops.With[api.Home]) (api.Motion, error) {
		var axes []gcode.Axis
		for axis, letter := range "XYZ" {
			if strings.ContainsRune(in.Body.Axes, letter) {
				axes = append(axes, gcode.Axis(axis))
			}
		}
		return done(ctx, func(ctx context.Context) (moving.Now, error) { return a.Host.Home(ctx, axes) })
	})
	desk.Show(d, ops.Park, func(ctx context.Context, _ *ops.Nothing) (api.Motion, error) { return done(ctx, a.Host.Park) })
	desk.Show(d, ops.TurnMotorsOff, func(ctx context.Context, _ *ops.Nothing) (api.Motion, error) { return done(ctx, a.Host.MotorsOff) })
	desk.Show(d, ops.GetEndstops, func(ctx context.Context, _ *ops.Nothing) (api.Endstops, error) {
		all, err := a.Host.Endstops(ctx)
		out := api.Endstops{Endstops: []api.Endstop{}}
		for _, e := range all {
			out.Endstops = append(out.Endstops, api.Endstop(e))
		}
		return out, err
	})
}

// done waits for what takes its time.
func done(ctx context.Context, do func(context.Context) (moving.Now, error)) (api.Motion, error) {
	ctx, cancel := context.WithTimeout(ctx, doWait)
	defer cancel()
	now, err := do(ctx)
	return Of(now), err
}

// pressOf is a press as the host takes it.
func pressOf(in api.Press) (jog.Press, error) {
	var p jog.Press
	if by := in.By; by != nil {
		for axis, v := range []*float64{by.X, by.Y, by.Z, by.E} {
			if v != nil {
				p.By[axis] = *v
			}
		}
	}
	if to := in.To; to != nil {
		p.To = [3]*float64{to.X, to.Y, to.Z}
		if to.E != nil {
			return p, &api.Problem{Status: http.StatusUnprocessableEntity, Title: jog.ErrPress.Error(), Detail: "filament has no place to be moved to; say how far, in by"}
		}
	}
	if in.Speed != nil {
		p.Speed = *in.Speed
	}
	return p, nil
}

// Homed names the axes that have been homed.
func Homed(axes [3]bool) string {
	homed := ""
	for i, known := range axes {
		if known {
			homed += string("XYZ"[i])
		}
	}
	return homed
}

// Of is where the head is going, as the contract says it.
func Of(now moving.Now) api.Motion {
	return api.Motion{Going: now.Going, X: now.To[0], Y: now.To[1], Z: now.To[2], Homed: Homed(now.Homed), Free: now.Free, Why: now.Why}
}

// Event is what everyone is told of it, as data of the contract; nil if what is another's.
func Event(what any) any {
	if now, ok := what.(moving.Now); ok {
		return Of(now)
	}
	return nil
}
