package web

import (
	"context"
	"fmt"
	"math"
	"net/http"
	"slices"
	"time"

	"github.com/danielgtaylor/huma/v2"
	"github.com/go-chi/chi/v5"

	"diathermon/internal/api"
	"diathermon/internal/chart"
	"diathermon/internal/core/heat"
	"diathermon/internal/host"
)

const (
	heatWindow = 15 * time.Minute // when no time is named
	heatMost   = 20_000           // readings in one answer
	mostMarks  = 500              // marks in one chart
)

// HeatQuery is a window of the temperature log.
type HeatQuery struct {
	From   time.Time `query:"from" doc:"Default: 15 minutes before to, or the run's beginning"`
	To     time.Time `query:"to" doc:"Default: now, or the run's end"`
	Heater []string  `query:"heater" doc:"Default: all that the printer has or had" example:"nozzle0"`
	Run    string    `query:"run" doc:"The window in which this run went on"`
}

// window is a HeatQuery that was looked at.
type window struct {
	from, to time.Time
	heaters  []heat.Heater
	title    string
}

func (s *Server) heatOperations(r chi.Router) {
	huma.Register(s.api, operation("get-heat", http.MethodGet, "/v1/heat", scopeRead, "The temperature log: every reading in a window, the oldest first", 404, 422),
		func(ctx context.Context, in *HeatQuery) (*answer[api.HeatLog], error) {
			w, err := s.window(ctx, in)
			if err != nil {
				return nil, s.problemOf(err)
			}
			samples, err := s.Heat.Readings(ctx, w.heaters, w.from, w.to, heatMost+1)
			if err != nil {
				return nil, s.problemOf(err)
			}
			more := len(samples) > heatMost
			if more {
				samples = samples[:heatMost]
			}
			return &answer[api.HeatLog]{api.HeatLog{From: w.from.UTC(), To: w.to.UTC(), Readings: readingsOf(samples), More: more}}, nil
		})

	huma.Register(s.api, operation("get-heat-chart", http.MethodGet, "/v1/heat/chart", scopeRead, "Any window of the temperature log, drawn together: extremes stay, gaps are gaps", 404, 422),
		func(ctx context.Context, in *struct {
			HeatQuery
			Points int `query:"points" default:"1000" minimum:"2" maximum:"10000" doc:"At most about so many for each heater"`
		}) (*answer[api.HeatChart], error) {
			w, err := s.window(ctx, &in.HeatQuery)
			if err != nil {
				return nil, s.problemOf(err)
			}
			c, err := s.chart(ctx, w, in.Points)
			if err != nil {
				return nil, s.problemOf(err)
			}
			return &answer[api.HeatChart]{chartOf(c)}, nil
		})
	s.heatExport(r)

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

// window looks at what was asked for.
func (s *Server) window(ctx context.Context, in *HeatQuery) (window, error) {
	w := window{from: in.From, to: in.To, title: s.Host.Printer().Name}
	if len(in.Heater) == 0 {
		w.heaters = s.Host.Printer().Heaters()
		for _, h := range s.Heat.Heaters() { // those it had before the owner changed it
			if !slices.Contains(w.heaters, h) {
				w.heaters = append(w.heaters, h)
			}
		}
	}
	for _, name := range in.Heater {
		h, err := heaterNamed(name)
		if err != nil {
			return w, err
		}
		if !slices.Contains(w.heaters, h) {
			w.heaters = append(w.heaters, h)
		}
	}
	if in.Run != "" {
		s.settle(ctx)
		r, err := s.Log.Run(ctx, in.Run)
		if err != nil {
			return w, err
		}
		w.title += ": " + r.File
		if w.from.IsZero() {
			w.from = r.Created
		}
		if w.to.IsZero() && !r.Ended.IsZero() {
			w.to = r.Ended
		}
	}
	if w.to.IsZero() {
		w.to = time.Now()
	}
	if w.from.IsZero() {
		w.from = w.to.Add(-heatWindow)
	}
	unprocessable := func(title, detail string) error {
		return &api.Problem{Status: http.StatusUnprocessableEntity, Title: title, Detail: detail}
	}
	switch told := fmt.Sprintf("from is %s and to is %s", w.from.UTC().Format(time.RFC3339), w.to.UTC().Format(time.RFC3339)); {
	case !w.from.Before(w.to):
		return w, unprocessable("this window ends before it begins", told)
	case w.from.Year() < 1971 || w.to.Year() > 2261:
		return w, unprocessable("there are no readings at such times", told)
	}
	return w, nil
}

// chart gathers what a picture of a window shows.
func (s *Server) chart(ctx context.Context, w window, points int) (chart.Heat, error) {
	c := chart.Heat{Title: w.title, From: w.from, To: w.to, Zone: time.Local}
	for _, h := range w.heaters {
		spans, err := s.Heat.Chart(ctx, h, w.from, w.to, points)
		if err != nil {
			return c, err
		}
		if len(spans) > 0 || slices.Contains(s.Host.Printer().Heaters(), h) {
			c.Traces = append(c.Traces, chart.Trace{Heater: h, Spans: spans})
		}
	}
	s.settle(ctx)
	runs, err := s.Log.RunsWithin(ctx, w.from, w.to)
	if err != nil {
		return c, err
	}
	for _, r := range runs {
		to := r.Ended
		if to.IsZero() {
			to = time.Now()
		}
		c.Bands = append(c.Bands, chart.Band{ID: r.ID, Name: r.File, State: string(r.State), From: r.Created, To: to})
	}
	c.Marks, err = s.Log.Marks(ctx, w.from, w.to, mostMarks)
	return c, err
}

func chartOf(c chart.Heat) api.HeatChart {
	out := api.HeatChart{From: c.From.UTC(), To: c.To.UTC(), Traces: []api.HeatTrace{}, Runs: []api.HeatRun{}, Marks: []api.HeatMark{}}
	for _, t := range c.Traces {
		trace := api.HeatTrace{Heater: string(t.Heater), At: []int64{}, Low: []*float64{}, High: []*float64{}, Mean: []*float64{}, Setpoint: []*float64{}, Duty: []*float64{}}
		values := make([]float64, 0, 5*len(t.Spans))
		column := func(known bool, v float64) *float64 {
			if !known || math.IsNaN(v) {
				return nil
			}
			values = append(values, math.Round(v*1000)/1000)
			return &values[len(values)-1]
		}
		for _, s := range t.Spans {
			known := s.Count > 0
			trace.At = append(trace.At, s.Begins.UnixMilli())
			trace.Low, trace.High, trace.Mean = append(trace.Low, column(known, s.Low)), append(trace.High, column(known, s.High)), append(trace.Mean, column(known, s.Mean))
			trace.Setpoint, trace.Duty = append(trace.Setpoint, column(known, s.Setpoint)), append(trace.Duty, column(known, s.Duty))
		}
		out.Traces = append(out.Traces, trace)
	}
	for _, b := range c.Bands {
		out.Runs = append(out.Runs, api.HeatRun{ID: b.ID, File: b.Name, State: b.State, From: b.From.UTC(), To: b.To.UTC()})
	}
	for _, m := range c.Marks {
		out.Marks = append(out.Marks, api.HeatMark{At: m.At.UTC(), Kind: string(m.Kind), Heater: string(m.Heater), Text: m.Text})
	}
	return out
}
