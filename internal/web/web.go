// Package web is the HTTP side of the host: the resources under /v1, who may
// use them, live events and the console.
//
// It promises that every answer is described by the OpenAPI document it serves,
// and that every error is problem+json with words for a maker. It leaves what
// happens to host and where things are kept to shelf and records.
package web

import (
	"context"
	"log/slog"
	"net/http"
	"os"
	"runtime/debug"
	"time"

	"github.com/danielgtaylor/huma/v2"
	"github.com/danielgtaylor/huma/v2/adapters/humachi"
	"github.com/go-chi/chi/v5"
	"github.com/go-chi/chi/v5/middleware"

	"diathermon/internal/api"
	"diathermon/internal/core/heat"
	"diathermon/internal/core/run"
	"diathermon/internal/host"
	"diathermon/internal/shelf"
)

// Log is what the web asks of the records.
type Log interface {
	Runs(ctx context.Context, before time.Time, limit int) ([]run.Record, error)
	Run(ctx context.Context, id string) (run.Record, error)
	RunsWithin(ctx context.Context, from, to time.Time) ([]run.Record, error)
	Marks(ctx context.Context, from, to time.Time, limit int) ([]heat.Mark, error)
	Flush(ctx context.Context) error // what the host has told is in the log
}

// HeatLog is what the web asks of the temperature log. Windows begin at from and
// end before to.
type HeatLog interface {
	Readings(ctx context.Context, heaters []heat.Heater, from, to time.Time, limit int) ([]heat.Sample, error)
	Chart(ctx context.Context, h heat.Heater, from, to time.Time, points int) ([]heat.Span, error)
	Heaters() []heat.Heater
}

// Recordings are what was kept of runs that went wrong.
type Recordings interface {
	Recording(id string) (*os.File, error) // or fs.ErrNotExist
}

// Server answers HTTP for one host.
type Server struct {
	Host    *host.Host
	Shelf   *shelf.Shelf
	Log     Log
	Heat    HeatLog
	Heaters HeaterLog
	WarmUps WarmUps
	PartOff float64 // °C of the bed at which a part comes off
	Access  *Access

	Recordings Recordings
	Logger     *slog.Logger

	api huma.API
}

// Handler returns the whole of the HTTP side.
func (s *Server) Handler() http.Handler {
	r := chi.NewRouter()
	r.Use(limited, s.recover, secure)
	r.NotFound(s.tokenFirst(func(r *http.Request) *api.Problem {
		return &api.Problem{Status: http.StatusNotFound, Title: "there is nothing at this address", Detail: "the addresses are listed in /v1/openapi.json"}
	}))
	r.MethodNotAllowed(s.tokenFirst(func(r *http.Request) *api.Problem {
		return &api.Problem{Status: http.StatusMethodNotAllowed, Title: "this address does not take " + r.Method, Detail: "what it takes is listed in /v1/openapi.json"}
	}))
	r.Use(middleware.Compress(5, "application/json", "application/problem+json", "text/html", "text/css", "text/javascript", "image/svg+xml"))
	r.Get("/healthz", func(w http.ResponseWriter, _ *http.Request) {
		writeJSON(w, http.StatusOK, "application/json", api.Health{Status: "ok"})
	})
	s.signIn(r)
	r.Group(func(r chi.Router) {
		r.Use(s.Access.required)
		s.operations(r)
	})
	r.Group(func(r chi.Router) {
		r.Use(s.Access.requiredOrSignIn)
		console(r)
	})
	return r
}

// operations mounts every resource under /v1 and describes it.
func (s *Server) operations(r chi.Router) {
	config := huma.DefaultConfig("Diathermon", version)
	config.Info.Description = "The print host of one 3D printer. Temperatures are °C, lengths mm, durations seconds, times RFC 3339 in UTC. Every error is application/problem+json (RFC 9457)."
	config.OpenAPIPath, config.DocsPath, config.SchemasPath = "", "", ""
	config.CreateHooks = nil // no links to schemas in bodies
	config.Transformers = []huma.Transformer{encode}
	config.Formats = map[string]huma.Format{"application/json": encodedFormat, "json": encodedFormat}
	config.DefaultFormat = "application/json"
	config.Components.SecuritySchemes = map[string]*huma.SecurityScheme{
		"token": {Type: "http", Scheme: "bearer", Description: "A token with the scopes that the operation names"},
	}
	s.api = humachi.New(r, config)
	s.api.UseMiddleware(s.scoped)
	s.shelfOperations(r)
	s.runOperations()
	s.pickUpOperations(r)
	s.benchOperations()
	s.heatOperations(r)
	s.heaterOperations()
	s.warmUpOperations()
	s.tuningOperations()
	s.wireOperations()
	s.eventOperations(r)
	s.documentOperation()
}

// Document returns the OpenAPI document as indented JSON.
func (s *Server) Document() ([]byte, error) {
	if s.api == nil {
		s.operations(chi.NewRouter())
	}
	return document(s.api)
}

// version is that of the contract.
const version = "1.0.0"

// operation describes one call: what it needs and what it may answer besides
// success.
func operation(id, method, path, scope, summary string, errors ...int) huma.Operation {
	return huma.Operation{
		BodyReadTimeout: bodyWait,
		OperationID:     id, Method: method, Path: path, Summary: summary,
		Security: []map[string][]string{{"token": {scope}}},
		Errors:   append([]int{http.StatusUnauthorized, http.StatusForbidden}, errors...),
	}
}

// tokenFirst answers with a problem, to those who have a token.
func (s *Server) tokenFirst(p func(*http.Request) *api.Problem) http.HandlerFunc {
	return s.Access.required(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) { problem(w, p(r)) })).ServeHTTP
}

// recover answers for a handler that panicked, and logs where. An answer that has
// begun is broken off, so that nobody takes the part for the whole.
func (s *Server) recover(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		defer func() {
			v := recover()
			if v == nil {
				return
			}
			out, ours := w.(*progress)
			begun := ours && out.begun
			switch failed, is := v.(encodeError); {
			case v == http.ErrAbortHandler:
			case is:
				s.Logger.Error("an answer cannot be encoded", "method", r.Method, "path", r.URL.Path, "error", failed.error)
			default:
				s.Logger.Error("a request panicked", "method", r.Method, "path", r.URL.Path, "panic", v, "stack", string(debug.Stack()))
			}
			if begun || v == http.ErrAbortHandler {
				panic(http.ErrAbortHandler)
			}
			problem(w, &api.Problem{Status: http.StatusInternalServerError, Title: "something went wrong in the host", Detail: "its log says more"})
		}()
		next.ServeHTTP(w, r)
	})
}

// secure sets the headers that keep a browser from doing what the console never
// asks for.
func secure(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		h := w.Header()
		h.Set("Content-Security-Policy", "default-src 'self'; style-src 'self' 'unsafe-inline'; img-src 'self' data:; frame-ancestors 'none'; base-uri 'none'; form-action 'self'")
		h.Set("X-Content-Type-Options", "nosniff")
		h.Set("Referrer-Policy", "no-referrer")
		next.ServeHTTP(w, r)
	})
}
