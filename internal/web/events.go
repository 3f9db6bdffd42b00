package web

import (
	"context"
	"encoding/json"
	"maps"
	"net/http"
	"reflect"
	"slices"
	"time"

	"github.com/danielgtaylor/huma/v2"
	"github.com/go-chi/chi/v5"

	"diathermon/internal/api"
	"diathermon/internal/host"
)

// beat is how often the link is told again, so that both ends notice when the
// connection is gone.
const beat = 15 * time.Second

func (s *Server) eventOperations(r chi.Router) {
	op := operation("events", http.MethodGet, "/v1/events", scopeRead, "Live events. First everything as it is now, then what changes")
	var each []*huma.Schema
	for _, name := range slices.Sorted(maps.Keys(api.Events)) {
		each = append(each, &huma.Schema{
			Type: "object", Title: "Event " + name, Required: []string{"data", "event"},
			Properties: map[string]*huma.Schema{
				"event": {Type: "string", Enum: []any{name}},
				"data":  s.api.OpenAPI().Components.Schemas.Schema(reflect.TypeOf(api.Events[name]), true, name),
			},
		})
	}
	op.Responses = map[string]*huma.Response{"200": {
		Description: "Server-sent events", Content: map[string]*huma.MediaType{"text/event-stream": {Schema: &huma.Schema{Type: "array", Items: &huma.Schema{OneOf: each}}}},
	}}
	s.raw(r, op, op.Path, s.events)
}

// events sends one client what happens. A frame is encoded once, however many
// clients there are.
func (s *Server) events(w http.ResponseWriter, r *http.Request) {
	updates, end := s.Host.Subscribe()
	defer end()
	now, err := s.Host.Bench(r.Context())
	if err != nil {
		problem(w, s.problemOf(err))
		return
	}
	w.Header().Set("Content-Type", "text/event-stream")
	w.Header().Set("Cache-Control", "no-store")
	out := http.NewResponseController(w)
	send := func(frame []byte) bool {
		_, err := w.Write(frame)
		return err == nil && out.Flush() == nil
	}
	bench := benchOf(now)
	frame := s.frame
	first := append(frame(bench.Link), frame(api.Heat{Heaters: bench.Heaters, WarmUp: bench.WarmUp, Flow: bench.Flow})...)
	first = append(append(first, frame(bench.Position)...), frame(api.Alarms{Alarms: bench.Alarms})...)
	if bench.Run != nil {
		first = append(first, frame(*bench.Run)...)
	}
	if !send(first) {
		return
	}
	ticker := time.NewTicker(beat)
	defer ticker.Stop()
	gone := goneOf(r.Context())
	for {
		var next []byte
		select {
		case u, open := <-updates:
			if !open { // too slow: the client connects anew and gets everything as it is
				return
			}
			next = u.Frame.Bytes(func() []byte { return s.frame(eventOf(u)) })
		case <-ticker.C:
			if next = s.linkFrame(r.Context()); next == nil || expired(r.Context()) {
				return
			}
		case <-gone: // its token was withdrawn
			return
		case <-r.Context().Done():
			return
		}
		if !send(next) {
			return
		}
	}
}

// linkFrame tells the link as it is; nil if the host has ended.
func (s *Server) linkFrame(ctx context.Context) []byte {
	now, err := s.Host.Bench(ctx)
	if err != nil {
		return nil
	}
	return s.frame(linkOf(now.Link))
}

// frame puts an event into the words of the stream.
func (s *Server) frame(event any) []byte {
	name := api.EventName(event)
	data, err := json.Marshal(event)
	if err != nil { // a number that JSON does not know
		s.Logger.Error("an event cannot be encoded", "event", name, "error", err)
		return []byte(": an event could not be told\n\n")
	}
	out := make([]byte, 0, len(data)+len(name)+20)
	out = append(append(out, "event: "...), name...)
	return append(append(append(out, "\ndata: "...), data...), "\n\n"...)
}

func eventOf(u host.Update) any {
	switch {
	case u.Link != nil:
		return linkOf(*u.Link)
	case u.Heat != nil:
		return api.Heat{Heaters: heatersOf(u.Heat.Heaters), WarmUp: warmingUpOf(u.Heat.WarmUp), Flow: flowOf(u.Heat.Flow, u.Heat.Watch)}
	case u.Run != nil:
		return runNowOf(*u.Run)
	case u.Position != nil:
		return positionOf(*u.Position)
	case u.Told:
		return alarmsOf(u.Alarms)
	case u.Message != nil:
		return messageOf(*u.Message)
	}
	return wireOf(u.Wire)
}
