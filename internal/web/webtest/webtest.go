// Package webtest lets an area's tests call its operations, without a host, a database
// or a port.
package webtest

import (
	"context"
	"encoding/json"
	"log/slog"
	"net/http"
	"net/http/httptest"
	"strings"
	"testing"

	"github.com/go-chi/chi/v5"

	"diathermon/internal/api"
	"diathermon/internal/web/desk"
)

// A Caller calls the operations of some areas.
type Caller struct {
	t       *testing.T
	lacks   string
	handler http.Handler
}

// Mount returns a caller of areas, who may do everything but what the scope allows
// that is named by lacks.
func Mount(t *testing.T, lacks string, areas ...desk.Area) *Caller {
	r := chi.NewRouter()
	c := &Caller{t: t, lacks: lacks, handler: r}
	d := desk.New(r, c, slog.New(slog.DiscardHandler))
	for _, a := range areas {
		d.Mount("area", "", a)
	}
	return c
}

// Lacking refuses one scope.
func (c *Caller) Lacking(_ context.Context, scope string) *api.Problem {
	if scope == c.lacks {
		return &api.Problem{Status: http.StatusForbidden, Title: "this token may not do that"}
	}
	return nil
}

// Call makes a request with a body, as JSON if it has no header of its own; headers are
// names and values in turn. It decodes the answer into out, unless that is nil.
func (c *Caller) Call(method, path, body string, out any, headers ...string) *httptest.ResponseRecorder {
	c.t.Helper()
	r := httptest.NewRequestWithContext(c.t.Context(), method, path, strings.NewReader(body))
	r.Header.Set("Content-Type", "application/json")
	for i := 0; i < len(headers); i += 2 {
		r.Header.Set(headers[i], headers[i+1])
	}
	w := httptest.NewRecorder()
	c.handler.ServeHTTP(w, r)
	if out != nil {
		if err := json.Unmarshal(w.Body.Bytes(), out); err != nil {
			c.t.Fatalf("%s %s: %d %s: %v", method, path, w.Code, w.Body, err)
		}
	}
	return w
}

// Refused makes a request that must be refused with a status and a title.
func (c *Caller) Refused(method, path, body string, status int, title string, headers ...string) api.Problem {
	c.t.Helper()
	var p api.Problem
	w := c.Call(method, path, body, &p, headers...)
	if w.Code != status || p.Title != title || w.Header().Get("Content-Type") != "application/problem+json" {
		c.t.Errorf("%s %s %s: %d %q %q, want %d %q", method, path, body, w.Code, p.Title, p.Detail, status, title)
	}
	return p
}
