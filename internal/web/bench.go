package web

import (
	"context"
	"net/http"

	"github.com/danielgtaylor/huma/v2"

	"diathermon/internal/api"
	"diathermon/internal/host"
)

func (s *Server) benchOperations() {
	huma.Register(s.api, operation("get-bench", http.MethodGet, "/v1/bench", scopeRead, "Link, firmware, heaters, position and the run, now"),
		func(ctx context.Context, _ *struct{}) (*answer[api.Bench], error) {
			now, err := s.Host.Bench(ctx)
			if err != nil {
				return nil, s.problemOf(err)
			}
			return &answer[api.Bench]{benchOf(now)}, nil
		})

	reconnect := operation("reconnect", http.MethodPost, "/v1/bench/reconnect", scopeOperate, "Close the port and open it anew, which restarts most boards; not while a run goes on", 409)
	reconnect.DefaultStatus = http.StatusAccepted
	huma.Register(s.api, reconnect, func(ctx context.Context, _ *struct{}) (*struct{}, error) {
		if err := s.Host.Reconnect(ctx); err != nil {
			return nil, s.problemOf(err)
		}
		return nil, nil
	})

	huma.Register(s.api, operation("list-ports", http.MethodGet, "/v1/bench/ports", scopeRead, "The serial ports of the host's computer"),
		func(ctx context.Context, _ *struct{}) (*answer[api.Ports], error) {
			now, err := s.Host.Bench(ctx)
			if err != nil {
				return nil, s.problemOf(err)
			}
			return &answer[api.Ports]{portsOf(host.Ports(), now.Link)}, nil
		})

	halt := operation("halt", http.MethodPost, "/v1/halt", scopeOperate, "Emergency stop, ahead of everything; the printer must be reset afterwards", 503)
	halt.DefaultStatus = http.StatusNoContent
	huma.Register(s.api, halt, func(ctx context.Context, _ *struct{}) (*struct{}, error) {
		if err := s.Host.Halt(ctx); err != nil {
			return nil, s.problemOf(err)
		}
		return nil, nil
	})
}
