// Package heat is the area of the heaters: the temperature log in any window, setpoints,
// warm-ups, alarms, models, health and tuning.
package heat

import (
	"context"
	"fmt"
	"log/slog"
	"math"
	"net/http"
	"slices"
	"time"

	"diathermon/internal/api"
	"diathermon/internal/api/ops"
	"diathermon/internal/chart"
	"diathermon/internal/core/bounds"
	"diathermon/internal/core/heat"
	"diathermon/internal/core/machine"
	"diathermon/internal/core/run"
	"diathermon/internal/core/toolpath"
	"diathermon/internal/hindsight"
	"diathermon/internal/host/heating"
	"diathermon/internal/web/desk"
)

// Log is the temperature log. Windows begin at from and end before to.
type Log interface {
	Readings(ctx context.Context, heaters []heat.Heater, from, to time.Time, limit int) ([]heat.Sample, error)
	Chart(ctx context.Context, h heat.Heater, from, to time.Time, points int) ([]heat.Span, error)
	Heaters() []heat.Heater
}

// Past is what happened besides.
type Past interface {
	Run(ctx context.Context, id string) (run.Record, error)
	RunsWithin(ctx context.Context, from, to time.Time) ([]run.Record, error)
	Marks(ctx context.Context, from, to time.Time, limit int) ([]heat.Mark, error)
}

// Kept is what is kept of the heaters besides their readings.
type Kept interface {
	Alarms(ctx context.Context, waiting bool, limit int) ([]heat.Alarm, error)
	Episodes(ctx context.Context, h heat.Heater, since time.Time) ([]heat.Episode, error)
}

// WarmUps keeps warm-ups under their names.
type WarmUps interface {
	WarmUps(ctx context.Context) ([]heat.WarmUp, error)
	PutWarmUp(ctx context.Context, w heat.WarmUp) error
	DeleteWarmUp(ctx context.Context, name string) error // or heat.ErrNoWarmUp
}

// Files are the stored files.
type Files interface {
	File(ctx context.Context, name string) (toolpath.File, error)
}

// Host is the live machine's heaters.
type Host interface {
	State(ctx context.Context) (heating.Now, error)
	Behaviour(ctx context.Context) (heating.Behaviour, error)
	Set(ctx context.Context, h heat.Heater, setpoint float64) (taken bool, err error)
	Cool(ctx context.Context) error
	WarmUp(ctx context.Context, w heat.WarmUp) error
	GiveUpWarmUp(ctx context.Context) error
	Acknowledge(ctx context.Context, id, by string, was heat.Verdict, reason string) (heat.Alarm, error)
	Tune(ctx context.Context, h heat.Heater, setpoint float64, cycles int) error
	Tuning(ctx context.Context) (*heating.TuningNow, error)
	ApplyTuning(ctx context.Context, save bool) error
	Guards(ctx context.Context) ([]heating.GuardNow, error)
	Bound(ctx context.Context, h heat.Heater, g heat.GuardName, most heat.Action) (heating.GuardNow, error)
}

// Hindsight lets the guards look at the log.
type Hindsight interface {
	Look(from, to time.Time) error // or hindsight.ErrBusy
	State() hindsight.State
}

// Area is the area.
type Area struct {
	Printer   machine.Printer
	Host      Host
	Log       Log
	Hindsight Hindsight
	Past      Past
	Kept      Kept
	WarmUps   WarmUps
	Files     Files
	Settle    func(context.Context) // lets the records catch up with what the host has told
	PartOff   float64               // °C of the bed at which a part comes off
	Logger    *slog.Logger
}

// Mount mounts the area.
func (a Area) Mount(d *desk.Desk) {
	d.Know(
		desk.Kind{Err: heating.ErrHeater, Status: http.StatusNotFound, Title: "there is no such heater"},
		desk.Kind{Err: bounds.ErrSetpoint, Status: http.StatusUnprocessableEntity, Title: "the setpoint is out of bounds"},
		desk.Kind{Err: run.ErrAlarm, Status: http.StatusConflict, Title: "an alarm waits for you"},
		desk.Kind{Err: heating.ErrNoAlarm, Status: http.StatusNotFound, Title: "there is no such alarm"},
		desk.Kind{Err: heat.ErrWarmUp, Status: http.StatusUnprocessableEntity, Title: "this is no warm-up"},
		desk.Kind{Err: heat.ErrNoWarmUp, Status: http.StatusNotFound, Title: "there is no such warm-up"},
		desk.Kind{Err: heating.ErrGuard, Status: http.StatusUnprocessableEntity, Title: "that guard cannot be bounded like that"},
		desk.Kind{Err: hindsight.ErrBusy, Status: http.StatusConflict, Title: "the guards are looking at the log already"},
		desk.Kind{Err: heating.ErrTuning, Status: http.StatusNotFound, Title: "there is no tuning for that"},
	)
	a.mountLog(d)
	a.mountExport(d)
	a.mountHeaters(d)
	a.mountWarmUps(d)
	a.mountTuning(d)
	a.mountGuards(d)
}

const (
	heatWindow = 15 * time.Minute // when no time is named
	heatMost   = 20_000           // readings in one answer
	mostMarks  = 500              // marks in one chart
)

// window is an ops.Window that was looked at.
type window struct {
	from, to time.Time
	heaters  []heat.Heater
	title    string
}

func (a Area) mountLog(d *desk.Desk) {
	desk.Show(d, ops.GetHeat, func(ctx context.Context, in *ops.Window) (api.HeatLog, error) {
		w, err := a.window(ctx, in)
		if err != nil {
			return api.HeatLog{}, err
		}
		samples, err := a.Log.Readings(ctx, w.heaters, w.from, w.to, heatMost+1)
		if err != nil {
			return api.HeatLog{}, err
		}
		more := len(samples) > heatMost
		if more {
			samples = samples[:heatMost]
		}
		return api.HeatLog{From: w.from.UTC(), To: w.to.UTC(), Readings: readingsOf(samples), More: more}, nil
	})

	desk.Show(d, ops.GetHeatChart, func(ctx context.Context, in *ops.Chart) (api.HeatChart, error) {
		w, err := a.window(ctx, &in.Window)
		if err != nil {
			return api.HeatChart{}, err
		}
		c, err := a.chart(ctx, w, in.Points)
		if err != nil {
			return api.HeatChart{}, err
		}
		return chartOf(c), nil
	})

	desk.Show(d, ops.SetHeat, func(ctx context.Context, in *ops.HeaterWith[api.SetHeat]) (api.HeatSet, error) {
		h, err := heaterNamed(in.Heater)
		if err != nil {
			return api.HeatSet{}, err
		}
		taken, err := a.Host.Set(ctx, h, in.Body.Setpoint)
		if err != nil {
			return api.HeatSet{}, err
		}
		return api.HeatSet{Heater: string(h), Setpoint: in.Body.Setpoint, Taken: taken}, nil
	})
}

func heaterNamed(s string) (heat.Heater, error) {
	h, err := heat.ParseHeater(s)
	if err != nil {
		return "", fmt.Errorf("%w: %v", heating.ErrHeater, err)
	}
	return h, nil
}

// window looks at what was asked for.
func (a Area) window(ctx context.Context, in *ops.Window) (window, error) {
	w := window{from: in.From, to: in.To, title: a.Printer.Name}
	if len(in.Heater) == 0 {
		w.heaters = a.Printer.Heaters()
		for _, h := range a.Log.Heaters() { // those it had before the owner changed it
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
		a.Settle(ctx)
		r, err := a.Past.Run(ctx, in.Run)
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
func (a Area) chart(ctx context.Context, w window, points int) (chart.Heat, error) {
	c := chart.Heat{Title: w.title, From: w.from, To: w.to, Zone: time.Local}
	for _, h := range w.heaters {
		spans, err := a.Log.Chart(ctx, h, w.from, w.to, points)
		if err != nil {
			return c, err
		}
		if len(spans) > 0 || slices.Contains(a.Printer.Heaters(), h) {
			c.Traces = append(c.Traces, chart.Trace{Heater: h, Spans: spans})
		}
	}
	a.Settle(ctx)
	runs, err := a.Past.RunsWithin(ctx, w.from, w.to)
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
	c.Marks, err = a.Past.Marks(ctx, w.from, w.to, mostMarks)
	return c, err
}

func chartOf(c chart.Heat) api.HeatChart {
	out := api.HeatChart{From: c.From.UTC(), To: c.To.UTC(), Traces: []api.HeatTrace{}, Runs: []api.HeatRun{}, Marks: []api.HeatMark{}}
	for _, t := range c.Traces {
		out.Traces = append(out.Traces, TraceOf(t.Heater, t.Spans))
	}
	for _, b := range c.Bands {
		out.Runs = append(out.Runs, api.HeatRun{ID: b.ID, File: b.Name, State: b.State, From: b.From.UTC(), To: b.To.UTC()})
	}
	for _, m := range c.Marks {
		out.Marks = append(out.Marks, api.HeatMark{At: m.At.UTC(), Kind: string(m.Kind), Heater: string(m.Heater), Text: m.Text})
	}
	return out
}

// TraceOf is a heater's share of a chart.
func TraceOf(h heat.Heater, spans []heat.Span) api.HeatTrace {
	out := api.HeatTrace{Heater: string(h), At: []int64{}, Low: []*float64{}, High: []*float64{}, Mean: []*float64{}, Setpoint: []*float64{}, Duty: []*float64{}}
	values := make([]float64, 0, 5*len(spans))
	column := func(known bool, v float64) *float64 {
		if !known || math.IsNaN(v) {
			return nil
		}
		values = append(values, math.Round(v*1000)/1000)
		return &values[len(values)-1]
	}
	for _, s := range spans {
		known := s.Count > 0
		out.At = append(out.At, s.Begins.UnixMilli())
		out.Low, out.High, out.Mean = append(out.Low, column(known, s.Low)), append(out.High, column(known, s.High)), append(out.Mean, column(known, s.Mean))
		out.Setpoint, out.Duty = append(out.Setpoint, column(known, s.Setpoint)), append(out.Duty, column(known, s.Duty))
	}
	return out
}
