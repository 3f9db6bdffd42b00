package web

import (
	"context"
	"net/http"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"diathermon/internal/api"
)

// sayWait is how long a call waits for the printer's answer. Homing takes about
// half of it.
const sayWait = 60 * time.Second

func (s *Server) wireOperations() {
	huma.Register(s.api, operation("say", http.MethodPost, "/v1/wire", scopeOperate, "Say a line and get the printer's reply; setpoints are bounded and a running print is not disturbed", 409, 422, 503),
		func(ctx context.Context, in *struct{ Body api.SayLine }) (*answer[api.Said], error) {
			wait, cancel := context.WithTimeout(ctx, sayWait)
			defer cancel()
			said, err := s.Host.Say(wait, in.Body.Line)
			if err != nil {
				return nil, s.problemOf(err)
			}
			reply := said.Reply
			if reply == nil {
				reply = []string{}
			}
			return &answer[api.Said]{api.Said{Line: said.Line, Reply: reply, Taken: said.Taken}}, nil
		})

	huma.Register(s.api, operation("get-wire", http.MethodGet, "/v1/wire", scopeRead, "Recent traffic, the oldest line first"),
		func(_ context.Context, in *struct {
			Since uint64 `query:"since" doc:"Only lines after this sequence number"`
			Limit int    `query:"limit" default:"200" minimum:"1" maximum:"4000" doc:"At most so many, the newest"`
		}) (*answer[api.Wire], error) {
			return &answer[api.Wire]{wireOf(s.Host.Traffic(in.Since, in.Limit))}, nil
		})

	measure := operation("measure-wire", http.MethodPost, "/v1/wire/measure", scopeOperate, "Measure anew what the printer can hold, while it is cold and has nothing to do; the bench tells the outcome in some ten seconds", 409)
	measure.DefaultStatus = http.StatusAccepted
	huma.Register(s.api, measure, func(ctx context.Context, _ *struct{}) (*struct{}, error) {
		if err := s.Host.Measure(ctx); err != nil {
			return nil, s.problemOf(err)
		}
		return nil, nil
	})
}
