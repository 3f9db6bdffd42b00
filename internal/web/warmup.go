package web

import (
	"cmp"
	"context"
	"fmt"
	"math"
	"net/http"
	"slices"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"diathermon/internal/api"
	"diathermon/internal/core/heat"
	"diathermon/internal/host"
)

// WarmUps keeps warm-ups under their names.
type WarmUps interface {
	WarmUps(ctx context.Context) ([]heat.WarmUp, error)
	PutWarmUp(ctx context.Context, w heat.WarmUp) error
	DeleteWarmUp(ctx context.Context, name string) error // or heat.ErrNoWarmUp
}

func (s *Server) warmUpOperations() {
	huma.Register(s.api, operation("list-warm-ups", http.MethodGet, "/v1/heat/warm-ups", scopeRead, "The warm-ups that were made"),
		func(ctx context.Context, _ *struct{}) (*answer[api.WarmUps], error) {
			kept, err := s.WarmUps.WarmUps(ctx)
			if err != nil {
				return nil, s.problemOf(err)
			}
			out := api.WarmUps{WarmUps: []api.WarmUp{}}
			for _, w := range kept {
				out.WarmUps = append(out.WarmUps, warmUpOf(w))
			}
			return &answer[api.WarmUps]{out}, nil
		})

	huma.Register(s.api, operation("put-warm-up", http.MethodPut, "/v1/heat/warm-ups/{name}", scopeOperate, "Make a warm-up, or change one", 422),
		func(ctx context.Context, in *struct {
			Name string `path:"name"`
			Body api.WarmUp
		}) (*answer[api.WarmUp], error) {
			in.Body.Name = cmp.Or(in.Body.Name, in.Name)
			w, err := s.warmUp(in.Body)
			if err == nil && w.Name != in.Name {
				err = fmt.Errorf("%w: it is called %q in the address and %q in the body", heat.ErrWarmUp, in.Name, w.Name)
			}
			if err == nil {
				err = s.WarmUps.PutWarmUp(ctx, w)
			}
			if err != nil {
				return nil, s.problemOf(err)
			}
			return &answer[api.WarmUp]{warmUpOf(w)}, nil
		})

	huma.Register(s.api, operation("delete-warm-up", http.MethodDelete, "/v1/heat/warm-ups/{name}", scopeOperate, "Forget a warm-up", 404),
		func(ctx context.Context, in *struct {
			Name string `path:"name"`
		}) (*struct{}, error) {
			if err := s.WarmUps.DeleteWarmUp(ctx, in.Name); err != nil {
				return nil, s.problemOf(err)
			}
			return nil, nil
		})

	huma.Register(s.api, operation("begin-warm-up", http.MethodPost, "/v1/heat/warm-up", scopeOperate, "Begin a warm-up, in place of one that goes on; not while a run goes on", 404, 409, 422, 503),
		func(ctx context.Context, in *struct{ Body api.BeginWarmUp }) (*answer[api.WarmingUp], error) {
			w, err := s.chosenWarmUp(ctx, in.Body)
			if err == nil {
				err = s.Host.WarmUp(ctx, w)
			}
			if err != nil {
				return nil, s.problemOf(err)
			}
			now, err := s.Host.Bench(ctx)
			if err != nil || now.WarmUp == nil {
				return nil, s.problemOf(cmp.Or(err, host.ErrState))
			}
			return &answer[api.WarmingUp]{*warmingUpOf(now.WarmUp)}, nil
		})

	huma.Register(s.api, operation("end-warm-up", http.MethodDelete, "/v1/heat/warm-up", scopeOperate, "Give up the warm-up that goes on; heaters stay as they are"),
		func(ctx context.Context, _ *struct{}) (*struct{}, error) {
			if err := s.Host.EndWarmUp(ctx); err != nil {
				return nil, s.problemOf(err)
			}
			return nil, nil
		})

	cool := operation("cool", http.MethodPost, "/v1/heat/cool", scopeOperate, "Turn every heater off; not while a run needs its heat", 409, 503)
	cool.DefaultStatus = http.StatusNoContent
	huma.Register(s.api, cool, func(ctx context.Context, _ *struct{}) (*struct{}, error) {
		if err := s.Host.Cool(ctx); err != nil {
			return nil, s.problemOf(err)
		}
		return nil, nil
	})
}

// warmUp turns a warm-up of the contract into the core's, if this printer can do
// it.
func (s *Server) warmUp(in api.WarmUp) (heat.WarmUp, error) {
	w := heat.WarmUp{Name: in.Name, Order: heat.Order(cmp.Or(in.Order, string(heat.Together))), Soak: in.Soak, SoakFor: inSeconds(in.SoakSeconds), Setpoints: map[heat.Heater]float64{}}
	for name, setpoint := range in.Setpoints {
		h, err := heaterNamed(name)
		if err != nil {
			return w, err
		}
		w.Setpoints[h] = setpoint
	}
	p := s.Host.Printer()
	return w, w.Check(p.Heaters(), p.Limits)
}

// chosenWarmUp is the warm-up that a request is about.
func (s *Server) chosenWarmUp(ctx context.Context, in api.BeginWarmUp) (heat.WarmUp, error) {
	given := 0
	for _, is := range []bool{in.Name != "", in.File != "", in.WarmUp != nil} {
		if is {
			given++
		}
	}
	switch {
	case given != 1:
		return heat.WarmUp{}, fmt.Errorf("%w: give one of name, file and warm_up; %d are there", heat.ErrWarmUp, given)
	case in.WarmUp != nil:
		in.WarmUp.Name = cmp.Or(in.WarmUp.Name, "warm-up")
		return s.warmUp(*in.WarmUp)
	case in.File != "":
		f, err := s.Shelf.File(ctx, in.File)
		return host.WarmUpFor(f), err
	}
	kept, err := s.WarmUps.WarmUps(ctx)
	if err != nil {
		return heat.WarmUp{}, err
	}
	i := slices.IndexFunc(kept, func(w heat.WarmUp) bool { return w.Name == in.Name })
	if i < 0 {
		return heat.WarmUp{}, fmt.Errorf("%w: %q", heat.ErrNoWarmUp, in.Name)
	}
	return kept[i], nil
}

func inSeconds(s float64) time.Duration { return time.Duration(s * float64(time.Second)) }

// leftSeconds is a time left that may not be known.
func leftSeconds(d time.Duration) *float64 {
	if d < 0 {
		return nil
	}
	s := math.Round(d.Seconds())
	return &s
}

func warmUpOf(w heat.WarmUp) api.WarmUp {
	out := api.WarmUp{Name: w.Name, Order: string(w.Order), Soak: w.Soak, SoakSeconds: w.SoakFor.Seconds(), Setpoints: map[string]float64{}}
	for h, v := range w.Setpoints {
		out.Setpoints[string(h)] = v
	}
	return out
}

func warmingUpOf(w *host.WarmUpNow) *api.WarmingUp {
	if w == nil {
		return nil
	}
	return &api.WarmingUp{WarmUp: warmUpOf(w.WarmUp), Begun: w.Begun.UTC(), LeftSeconds: leftSeconds(w.Left), Soaking: w.Soaking, Done: w.Done}
}

func flowOf(f heat.FlowState, watch heat.FlowAction) api.Flow {
	out := api.Flow{Watch: string(watch), Asked: math.Round(f.Asked*100) / 100, Stopped: f.Stopped}
	if f.Enough && !math.IsNaN(f.Seen) {
		seen := math.Round(f.Seen*100) / 100
		out.Seen = &seen
	}
	return out
}
