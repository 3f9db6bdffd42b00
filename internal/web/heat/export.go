package heat

import (
	"encoding/csv"
	"encoding/json"
	"fmt"
	"net/http"
	"strconv"
	"strings"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"diathermon/internal/api"
	"diathermon/internal/api/ops"
	"diathermon/internal/chart"
	"diathermon/internal/core/heat"
	"diathermon/internal/web/desk"
)

// exported are the formats of an exported window and their media types.
var exported = map[string]string{"csv": "text/csv; charset=utf-8", "json": "application/json", "svg": "image/svg+xml", "png": "image/png"}

// pageOf is how much of a window is in memory at a time while it is exported.
const pageOf = 6 * time.Hour

// mountExport describes and mounts the export of a window as a file.
func (a Area) mountExport(d *desk.Desk) {
	op := d.Describe(ops.ExportHeat.Call)
	text := func(name, doc string, enum ...string) *huma.Param {
		schema := &huma.Schema{Type: "string"}
		for _, one := range enum {
			schema.Enum = append(schema.Enum, one)
		}
		return &huma.Param{Name: name, In: "query", Description: doc, Schema: schema}
	}
	op.Parameters = []*huma.Param{
		text("format", "Default: "+ops.HeatFormats[0], ops.HeatFormats...),
		text("from", "RFC 3339; default: 15 minutes before to, or the run's beginning"), text("to", "RFC 3339; default: now, or the run's end"),
		text("heater", "One or more, with commas between; default: all that the printer has or had"), text("run", "The window in which this run went on"),
		{Name: "width", In: "query", Description: "Of a picture, pixels; default: 1200", Schema: &huma.Schema{Type: "integer"}},
		{Name: "height", In: "query", Description: "Default: 700", Schema: &huma.Schema{Type: "integer"}},
	}
	content := map[string]*huma.MediaType{}
	for _, media := range exported {
		content[media] = &huma.MediaType{Schema: &huma.Schema{Type: "string", Format: "binary"}}
	}
	op.Responses = map[string]*huma.Response{"200": {Description: "The file", Content: content}}
	d.Raw(op, "", a.export)
}

func (a Area) export(w http.ResponseWriter, r *http.Request) error {
	q := r.URL.Query()
	in := &ops.Window{Run: q.Get("run")}
	for name, at := range map[string]*time.Time{"from": &in.From, "to": &in.To} {
		if text := q.Get(name); text != "" {
			t, err := time.Parse(time.RFC3339, text)
			if err != nil {
				return &api.Problem{Status: http.StatusUnprocessableEntity, Title: "this is not a time", Detail: fmt.Sprintf("%s is %q and should look like 2026-11-23T12:00:00Z", name, text)}
			}
			*at = t
		}
	}
	for _, list := range q["heater"] {
		for name := range strings.SplitSeq(list, ",") {
			in.Heater = append(in.Heater, name)
		}
	}
	size := map[string]int{"width": 1200, "height": 700}
	for name := range size {
		if text := q.Get(name); text != "" {
			n, err := strconv.Atoi(text)
			if err != nil || n < chart.Smallest || n > chart.Largest {
				return &api.Problem{Status: http.StatusUnprocessableEntity, Title: "a picture of that size cannot be drawn", Detail: fmt.Sprintf("%s is %q and must be from %d to %d pixels", name, text, chart.Smallest, chart.Largest)}
			}
			size[name] = n
		}
	}
	if pixels := size["width"] * size["height"]; pixels > chart.Most {
		return &api.Problem{Status: http.StatusUnprocessableEntity, Title: "a picture of that size cannot be drawn", Detail: fmt.Sprintf("it would have %d pixels, and has at most %d", pixels, chart.Most)}
	}
	format := q.Get("format")
	if format == "" {
		format = ops.HeatFormats[0]
	}
	media, ok := exported[format]
	if !ok {
		return &api.Problem{Status: http.StatusUnprocessableEntity, Title: "there is no such format", Detail: fmt.Sprintf("format is %q: use one of %s", format, strings.Join(ops.HeatFormats, ", "))}
	}
	win, err := a.window(r.Context(), in)
	if err != nil {
		return err
	}
	var picture chart.Heat
	if format == "svg" || format == "png" {
		if picture, err = a.chart(r.Context(), win, size["width"]); err != nil {
			return err
		}
	}
	w.Header().Set("Content-Type", media)
	w.Header().Set("Content-Disposition", fmt.Sprintf("attachment; filename=%q", "heat-"+win.from.UTC().Format("20060102-150405")+"."+format))
	switch format {
	case "csv":
		err = a.exportCSV(w, r, win)
	case "json":
		err = a.exportJSON(w, r, win)
	default:
		err = chart.Draw(w, format, size["width"], size["height"], picture)
	}
	if err != nil {
		a.Logger.Warn("an export was broken off", "error", err)
		panic(http.ErrAbortHandler) // so that nobody takes the part for the whole
	}
	return nil
}

// pages calls f with a window's readings, a page at a time.
func (a Area) pages(r *http.Request, w window, f func([]heat.Sample) error) error {
	for from := w.from; from.Before(w.to); from = from.Add(pageOf) {
		to := from.Add(pageOf)
		if to.After(w.to) {
			to = w.to
		}
		samples, err := a.Log.Readings(r.Context(), w.heaters, from, to, 1<<30)
		if err != nil {
			return err
		}
		if err := f(samples); err != nil {
			return err
		}
	}
	return nil
}

func (a Area) exportCSV(w http.ResponseWriter, r *http.Request, win window) error {
	out := csv.NewWriter(w)
	out.Write([]string{"time", "heater", "actual_c", "setpoint_c", "duty"})
	number := func(known bool, v float64) string {
		if !known {
			return ""
		}
		return strconv.FormatFloat(v, 'f', -1, 64)
	}
	err := a.pages(r, win, func(samples []heat.Sample) error {
		for _, x := range samples {
			out.Write([]string{x.At.Format("2006-01-02T15:04:05.000Z"), string(x.Heater), number(true, x.Actual), number(x.HasSetpoint, x.Setpoint), number(x.HasDuty, x.Duty)})
		}
		out.Flush()
		return out.Error()
	})
	return err
}

func (a Area) exportJSON(w http.ResponseWriter, r *http.Request, win window) error {
	head, err := json.Marshal(api.HeatLog{From: win.from.UTC(), To: win.to.UTC(), Readings: []api.Reading{}})
	if err != nil {
		return err
	}
	at := len(head) - len(`],"more":false}`)
	if _, err := w.Write(head[:at]); err != nil {
		return err
	}
	comma := false
	out := json.NewEncoder(w)
	err = a.pages(r, win, func(samples []heat.Sample) error {
		for _, reading := range readingsOf(samples) {
			if comma {
				w.Write([]byte{','})
			}
			comma = true
			if err := out.Encode(reading); err != nil {
				return err
			}
		}
		return nil
	})
	w.Write(head[at:])
	return err
}
