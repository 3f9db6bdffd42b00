package client

import (
	"context"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"strings"
	"time"

	"diathermon/internal/api"
)

// Cool turns every heater off.
func (c *Client) Cool(ctx context.Context) error {
	return c.call(ctx, http.MethodPost, "/v1/heat/cool", nil, nil)
}

// WarmUps returns the warm-ups that were made.
func (c *Client) WarmUps(ctx context.Context) (api.WarmUps, error) {
	return get[api.WarmUps](ctx, c, "/v1/warm-ups")
}

// PutWarmUp makes a warm-up, or changes one.
func (c *Client) PutWarmUp(ctx context.Context, w api.WarmUp) (api.WarmUp, error) {
	var out api.WarmUp
	return out, c.call(ctx, http.MethodPut, "/v1/warm-ups/"+url.PathEscape(w.Name), w, &out)
}

// DeleteWarmUp forgets a warm-up.
func (c *Client) DeleteWarmUp(ctx context.Context, name string) error {
	return c.call(ctx, http.MethodDelete, "/v1/warm-ups/"+url.PathEscape(name), nil, nil)
}

// BeginWarmUp begins a warm-up.
func (c *Client) BeginWarmUp(ctx context.Context, b api.BeginWarmUp) (api.WarmingUp, error) {
	var out api.WarmingUp
	return out, c.call(ctx, http.MethodPost, "/v1/heat/warm-up", b, &out)
}

// EndWarmUp gives up the warm-up that goes on.
func (c *Client) EndWarmUp(ctx context.Context) error {
	return c.call(ctx, http.MethodDelete, "/v1/heat/warm-up", nil, nil)
}

// HeatModels returns how the heaters behave.
func (c *Client) HeatModels(ctx context.Context) (api.HeatModels, error) {
	return get[api.HeatModels](ctx, c, "/v1/heat/models")
}

// HeatHealth returns how a heater has been doing.
func (c *Client) HeatHealth(ctx context.Context, heater string) (api.HeatHealth, error) {
	return get[api.HeatHealth](ctx, c, "/v1/heat/"+url.PathEscape(heater)+"/health")
}

// Tune lets the firmware tune a heater's PID.
func (c *Client) Tune(ctx context.Context, heater string, t api.Tune) (api.Tuning, error) {
	var out api.Tuning
	return out, c.call(ctx, http.MethodPost, "/v1/heat/"+url.PathEscape(heater)+"/tuning", t, &out)
}

// Tuning returns how the last tuning stands.
func (c *Client) Tuning(ctx context.Context) (api.Tuning, error) {
	return getAny[api.Tuning](ctx, c, "/v1/heat/tuning", "nothing has been tuned since the service started")
}

// ApplyTuning gives the firmware the constants that were found, and lets it keep
// them if save.
func (c *Client) ApplyTuning(ctx context.Context, save bool) (api.Tuning, error) {
	var out api.Tuning
	return out, c.call(ctx, http.MethodPost, "/v1/heat/tuning/apply", api.ApplyTuning{Save: save}, &out)
}

// Alarms returns alarms, the newest first; those that nobody has acknowledged if
// waiting.
func (c *Client) Alarms(ctx context.Context, waiting bool) (api.Alarms, error) {
	return get[api.Alarms](ctx, c, fmt.Sprintf("/v1/heat/alarms?waiting=%t", waiting))
}

// Acknowledge says that a person has seen an alarm, and what it was.
func (c *Client) Acknowledge(ctx context.Context, id string, said api.Acknowledgement) (api.Alarm, error) {
	var out api.Alarm
	return out, c.call(ctx, http.MethodPost, "/v1/heat/alarms/"+url.PathEscape(id)+"/acknowledge", said, &out)
}

// Guards says what each guard may do by itself.
func (c *Client) Guards(ctx context.Context) (api.Guards, error) {
	return get[api.Guards](ctx, c, "/v1/heat/guards")
}

// BoundGuard says what a guard may do at the most.
func (c *Client) BoundGuard(ctx context.Context, heater, guard string, b api.GuardBound) (api.Guard, error) {
	var out api.Guard
	return out, c.call(ctx, http.MethodPut, "/v1/heat/guards/"+url.PathEscape(heater)+"/"+url.PathEscape(guard), b, &out)
}

// LookBack lets the guards look at the log.
func (c *Client) LookBack(ctx context.Context, l api.Look) (api.Hindsight, error) {
	var out api.Hindsight
	return out, c.call(ctx, http.MethodPost, "/v1/heat/hindsight", l, &out)
}

// Hindsight says what the guards would have said, as far as they have looked.
func (c *Client) Hindsight(ctx context.Context) (api.Hindsight, error) {
	return getAny[api.Hindsight](ctx, c, "/v1/heat/hindsight", "the guards have not looked back")
}

// Window is a window of the temperature log. What is zero the host chooses.
type Window struct {
	From, To time.Time
	Run      string // the window of this run
	Heaters  []string
}

func (w Window) query() url.Values {
	q := url.Values{}
	if !w.From.IsZero() {
		q.Set("from", w.From.UTC().Format(time.RFC3339Nano))
	}
	if !w.To.IsZero() {
		q.Set("to", w.To.UTC().Format(time.RFC3339Nano))
	}
	if w.Run != "" {
		q.Set("run", w.Run)
	}
	if len(w.Heaters) > 0 {
		q.Set("heater", strings.Join(w.Heaters, ","))
	}
	return q
}

// HeatChart returns a window of the temperature log in at most about points
// points for each heater.
func (c *Client) HeatChart(ctx context.Context, w Window, points int) (api.HeatChart, error) {
	q := w.query()
	q.Set("points", fmt.Sprint(points))
	return get[api.HeatChart](ctx, c, "/v1/heat/chart?"+q.Encode())
}

// HeatFormats are what ExportHeat can make.
var HeatFormats = []string{"csv", "json", "svg", "png"}

// ExportHeat writes a window of the temperature log as a file in one of
// HeatFormats.
func (c *Client) ExportHeat(ctx context.Context, win Window, format string, w io.Writer) error {
	q := win.query()
	q.Set("format", format)
	return c.download(ctx, "/v1/heat/export?"+q.Encode(), w)
}
