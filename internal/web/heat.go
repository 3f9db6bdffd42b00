package web

import (
	"context"
	"fmt"
	"net/http"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"diathermon/internal/api"
	"diathermon/internal/core/heat"
	"diathermon/internal/host"
)

const (
	heatWindow = 15 * time.Minute // when no time is named
	heatMost   = 20_000           // readings in one answer
)

// heatQuery is a window of the temperature log.
type heatQuery struct {
	From   time.Time `query:"from" doc:"Default: 15 minutes before to"`
	To     time.Time `query:"to" doc:"Default: now"`
	Heater string    `query:"heater" doc:"Default: all" example:"nozzle0"`
}

func (s *Server) heatOperations() {
	huma.Register(s.api, operation("get-heat", http.MethodGet, "/v1/heat", scopeRead, "The temperature log: every reading in a window, the oldest first", 404, 422),
		func(ctx context.Context, in *heatQuery) (*answer[api.HeatLog], error) {
			log, err := s.heatLog(ctx, in)
			if err != nil {
				return nil, s.problemOf(err)
			}
			return &answer[api.HeatLog]{log}, nil
		})

	huma.Register(s.api, operation("set-heat", http.MethodPut, "/v1/heat/{heater}", scopeOperate, "Give a heater a setpoint within the printer's limits; 0 turns it off", 404, 422, 503),
		func(ctx context.Context, in *struct {
			Heater string `path:"heater" doc:"nozzle0, bed or chamber" example:"nozzle0"`
			Body   api.SetHeat
		}) (*answer[api.HeatSet], error) {
			h, err := heaterNamed(in.Heater)
			if err != nil {
				return nil, s.problemOf(err)
			}
			taken, err := s.Host.SetHeat(ctx, h, in.Body.Setpoint)
			if err != nil {
				return nil, s.problemOf(err)
			}
			return &answer[api.HeatSet]{api.HeatSet{Heater: string(h), Setpoint: in.Body.Setpoint, Taken: taken}}, nil
		})
}

func heaterNamed(s string) (heat.Heater, error) {
	h, err := heat.ParseHeater(s)
	if err != nil {
		return "", fmt.Errorf("%w: %v", host.ErrHeater, err)
	}
	return h, nil
}

func (s *Server) heatLog(ctx context.Context, in *heatQuery) (api.HeatLog, error) {
	var h heat.Heater
	if in.Heater != "" {
		var err error
		if h, err = heaterNamed(in.Heater); err != nil {
			return api.HeatLog{}, err
		}
	}
	to, from := in.To, in.From
	if to.IsZero() {
		to = time.Now()
	}
	if from.IsZero() {
		from = to.Add(-heatWindow)
	}
	if !from.Before(to) {
		return api.HeatLog{}, &api.Problem{Status: http.StatusUnprocessableEntity, Title: "this window ends before it begins", Detail: fmt.Sprintf("from is %s and to is %s", from.UTC().Format(time.RFC3339), to.UTC().Format(time.RFC3339))}
	}
	s.settle(ctx)
	samples, err := s.Log.Readings(ctx, from, to, h, heatMost+1)
	if err != nil {
		return api.HeatLog{}, err
	}
	more := len(samples) > heatMost
	if more {
		samples = samples[:heatMost]
	}
	return api.HeatLog{From: from.UTC(), To: to.UTC(), Readings: readingsOf(samples), More: more}, nil
}
