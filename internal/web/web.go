// Package web is the HTTP side of the host: the areas under /v1, who may use them,
// live events and the console.
//
// Each area is a room below this one that declares what it needs; whoever puts the rooms
// together lists them. Web promises that every answer is described by the OpenAPI document it
// serves, and that every error is problem+json with words for a maker. It leaves what
// happens to host and where things are kept to shelf and records.
package web

import (
	"context"
	"errors"
	"log/slog"
	"net/http"
	"runtime/debug"
	"strings"

	"github.com/go-chi/chi/v5"

	"diathermon/internal/api"
	"diathermon/internal/doors/dav"
	"diathermon/internal/web/desk"
	"diathermon/internal/web/guard"
)

// Server answers HTTP for one host.
type Server struct {
	Name   string // of the printer
	Areas  Areas
	Access *guard.Access
	Logger *slog.Logger

	Folder   *dav.Door // the shelf as a folder; nil: it is none
	Sealed   bool      // it speaks TLS
	Proxy    guard.Proxy
	Names    func() []string // of the host, besides those of its network; nil: any will do
	FramedBy []string        // origins whose pages may frame the console
}

// Handler returns the whole of the HTTP side.
func (s *Server) Handler() http.Handler {
	r := chi.NewRouter()
	r.Use(guard.Limited, s.recover, s.Proxy.Behind, guard.Named(s.Names), guard.Sealed(s.Sealed), s.secure, s.Access.Paced)
	r.NotFound(s.tokenFirst(func(r *http.Request) *api.Problem {
		return &api.Problem{Status: http.StatusNotFound, Title: "there is nothing at this address", Detail: "the addresses are listed in /v1/openapi.json"}
	}))
	r.MethodNotAllowed(s.tokenFirst(func(r *http.Request) *api.Problem {
		return &api.Problem{Status: http.StatusMethodNotAllowed, Title: "this address does not take " + r.Method, Detail: "what it takes is listed in /v1/openapi.json"}
	}))
	r.Use(pack)
	r.Get("/healthz", func(w http.ResponseWriter, _ *http.Request) {
		desk.WriteJSON(w, http.StatusOK, "application/json", api.Health{Status: "ok"})
	})
	s.Access.SignIn(r, s.Name)
	var d *desk.Desk
	r.Group(func(r chi.Router) {
		r.Use(s.Access.Required)
		d = s.Areas.mount(desk.New(r, s.Access, s.Logger))
	})
	if s.Folder != nil {
		r.Group(func(r chi.Router) {
			r.Use(s.Access.RequiredAsPassword)
			folder := s.Folder.For(caller{s.Access}, func(w http.ResponseWriter, err error) { desk.WriteProblem(w, d.Of(err)) })
			r.Handle(dav.Prefix, folder)
			r.Handle(dav.Prefix+"/*", folder)
		})
	}
	r.Group(func(r chi.Router) {
		r.Use(s.Access.RequiredOrSignIn)
		console(r)
	})
	return r
}

func init() {
	for _, method := range dav.Methods {
		chi.RegisterMethod(method)
	}
}

// caller tells the folder who calls.
type caller struct{ *guard.Access }

// Base is the path below which the host is seen from outside.
func (caller) Base(ctx context.Context) string { return guard.Base(ctx) }

// Caller is who sent a request, by name.
func (caller) Caller(ctx context.Context) string { return guard.Caller(ctx) }

// Self is who sent a request, whatever they are called.
func (caller) Self(ctx context.Context) string { return guard.Self(ctx) }

// tokenFirst answers with a problem, to those who have a token.
func (s *Server) tokenFirst(p func(*http.Request) *api.Problem) http.HandlerFunc {
	return s.Access.Required(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) { desk.WriteProblem(w, p(r)) })).ServeHTTP
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
			err, _ := v.(error)
			var unencoded desk.EncodeError
			switch {
			case v == http.ErrAbortHandler:
			case errors.As(err, &unencoded):
				s.Logger.Error("an answer cannot be encoded", "method", r.Method, "path", r.URL.Path, "error", unencoded)
			default:
				s.Logger.Error("a request panicked", "method", r.Method, "path", r.URL.Path, "panic", v, "stack", string(debug.Stack()))
			}
			if guard.Begun(w) || v == http.ErrAbortHandler {
				panic(http.ErrAbortHandler)
			}
			desk.WriteProblem(w, &api.Problem{Status: http.StatusInternalServerError, Title: "something went wrong in the host", Detail: "its log says more"})
		}()
		next.ServeHTTP(w, r)
	})
}

// held reports whether an address is of what is kept, and not of the console: nothing that
// somebody has put there is run in a browser.
func held(path string) bool {
	return path == dav.Prefix || strings.HasPrefix(path, dav.Prefix+"/") || strings.HasPrefix(path, "/v1/")
}

// secure sets the headers that keep a browser from doing what the console never
// asks for.
func (s *Server) secure(next http.Handler) http.Handler {
	framed := strings.Join(append([]string{"frame-ancestors"}, s.FramedBy...), " ")
	if len(s.FramedBy) == 0 {
		framed = "frame-ancestors 'none'"
	}
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		h := w.Header()
		h.Set("Content-Security-Policy", "default-src 'self'; style-src 'self' 'unsafe-inline'; img-src 'self' data:; "+framed+"; base-uri 'self'; form-action 'self'")
		if held(r.URL.Path) {
			h.Set("Content-Security-Policy", "default-src 'none'; style-src 'unsafe-inline'; sandbox; "+framed)
		}
		h.Set("X-Content-Type-Options", "nosniff")
		h.Set("Referrer-Policy", "no-referrer")
		next.ServeHTTP(w, r)
	})
}
