package web

import (
	"context"
	"net/http"
	"time"

	"github.com/danielgtaylor/huma/v2/sse"

	"diathermon/internal/api"
	"diathermon/internal/host"
)

// beat is how often the link is told again, so that both ends notice when the
// connection is gone.
const beat = 15 * time.Second

func (s *Server) eventOperations() {
	op := operation("events", http.MethodGet, "/v1/events", scopeRead, "Live events. First everything as it is now, then what changes")
	sse.Register(s.api, op, map[string]any{
		"link": api.Link{}, "heat": api.Heat{}, "run": api.Run{}, "position": api.Position{}, "wire": api.Wire{}, "message": api.Message{},
	}, func(ctx context.Context, _ *struct{}, send sse.Sender) {
		updates, end := s.Host.Subscribe()
		defer end()
		now, err := s.Host.Bench(ctx)
		if err != nil {
			return
		}
		bench := benchOf(now)
		first := []any{bench.Link, api.Heat{Heaters: bench.Heaters}, bench.Position}
		if bench.Run != nil {
			first = append(first, *bench.Run)
		}
		for _, e := range first {
			if send.Data(e) != nil {
				return
			}
		}
		ticker := time.NewTicker(beat)
		defer ticker.Stop()
		for {
			var event any
			select {
			case u, open := <-updates:
				if !open { // too slow: the client connects anew and gets everything as it is
					return
				}
				event = eventOf(u)
			case <-ticker.C:
				now, err := s.Host.Bench(ctx)
				if err != nil {
					return
				}
				event = linkOf(now.Link)
			case <-ctx.Done():
				return
			}
			if send.Data(event) != nil {
				return
			}
		}
	})
}

func eventOf(u host.Update) any {
	switch {
	case u.Link != nil:
		return linkOf(*u.Link)
	case u.Heat != nil:
		return api.Heat{Heaters: heatersOf(u.Heat)}
	case u.Run != nil:
		return runNowOf(*u.Run)
	case u.Position != nil:
		return positionOf(*u.Position)
	case u.Message != nil:
		return messageOf(*u.Message)
	}
	return wireOf(u.Wire)
}
