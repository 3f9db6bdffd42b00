// Package live sends what happens to everyone who watches, as server-sent events.
//
// It promises that a frame is encoded once, however many clients there are, and that a
// client that connects hears everything as it is now before it hears what changes. It
// leaves to the areas what their parts of the host look like in the contract.
package live

import (
	"bytes"
	"context"
	"encoding/json"
	"log/slog"
	"maps"
	"net/http"
	"slices"
	"strings"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"diathermon/internal/api"
	"diathermon/internal/api/ops"
	"diathermon/internal/host"
	"diathermon/internal/host/part"
	"diathermon/internal/web/desk"
	"diathermon/internal/web/guard"
)

// beat is how often the first event is told again, so that both ends notice when the
// connection is gone.
const beat = 15 * time.Second

// Host tells what happens.
type Host interface {
	Bench(context.Context) (host.Bench, error)
	Subscribe() (<-chan part.Update, func())
}

// Area is the area of live events.
type Area struct {
	Host Host
	// Now is everything as it is, as data of the contract's events; the first is told
	// again and again.
	Now func(host.Bench) []any
	// Of is what a part of the host shows as data of one of the contract's events; nil:
	// it is not for clients.
	Of  func(what any) any
	Log *slog.Logger
}

// Mount mounts it.
func (a Area) Mount(d *desk.Desk) {
	op := d.Describe(ops.Events.Call)
	op.Parameters = []*huma.Param{{Name: "without", In: "query", Description: "Names of events that are left out, with commas between: wire is most of the bytes", Schema: &huma.Schema{Type: "string"}}}
	var each []*huma.Schema
	for _, name := range slices.Sorted(maps.Keys(api.Events)) {
		each = append(each, &huma.Schema{
			Type: "object", Title: "Event " + name, Required: []string{"data", "event"},
			Properties: map[string]*huma.Schema{"event": {Type: "string", Enum: []any{name}}, "data": d.Schema(api.Events[name])},
		})
	}
	op.Responses = map[string]*huma.Response{"200": {
		Description: "Server-sent events", Content: map[string]*huma.MediaType{"text/event-stream": {Schema: &huma.Schema{Type: "array", Items: &huma.Schema{OneOf: each}}}},
	}}
	d.Raw(op, "", a.events)
}

// events sends one client what happens.
func (a Area) events(w http.ResponseWriter, r *http.Request) error {
	updates, end := a.Host.Subscribe()
	defer end()
	now, err := a.Host.Bench(r.Context())
	if err != nil {
		return err
	}
	w.Header().Set("Content-Type", "text/event-stream")
	w.Header().Set("X-Accel-Buffering", "no") // a proxy that gathers answers hands these on
	w.Header().Set("Cache-Control", "no-store")
	out := http.NewResponseController(w)
	send := func(frame []byte) bool {
		_, err := w.Write(frame)
		return err == nil && out.Flush() == nil
	}
	var left [][]byte // how frames begin that are left out
	for name := range strings.SplitSeq(r.URL.Query().Get("without"), ",") {
		left = append(left, []byte("event: "+name+"\n"))
	}
	wanted := func(frame []byte) bool {
		return !slices.ContainsFunc(left, func(begins []byte) bool { return bytes.HasPrefix(frame, begins) })
	}
	var first []byte
	for _, event := range a.Now(now) {
		first = append(first, a.frame(event)...)
	}
	if !send(first) {
		return nil
	}
	guard.Waits(r.Context())
	ticker := time.NewTicker(beat)
	defer ticker.Stop()
	for {
		var next []byte
		select {
		case u, open := <-updates:
			if !open { // too slow: the client connects anew and gets everything as it is
				return nil
			}
			next = u.Frame.Bytes(func() []byte { return a.frame(a.Of(u.What)) })
		case <-ticker.C:
			now, err := a.Host.Bench(r.Context())
			if err != nil { // the host has ended
				return nil
			}
			next = a.frame(a.Now(now)[0])
		case <-r.Context().Done(): // or its token has ended
			return nil
		}
		if len(next) > 0 && wanted(next) && !send(next) {
			return nil
		}
	}
}

// frame puts an event into the words of the stream.
func (a Area) frame(event any) []byte {
	if event == nil {
		return nil
	}
	name := api.EventName(event)
	data, err := json.Marshal(event)
	if err != nil { // a number that JSON does not know
		a.Log.Error("an event cannot be encoded", "event", name, "error", err)
		return []byte(": an event could not be told\n\n")
	}
	out := make([]byte, 0, len(data)+len(name)+20)
	out = append(append(out, "event: "...), name...)
	return append(append(append(out, "\ndata: "...), data...), "\n\n"...)
}
