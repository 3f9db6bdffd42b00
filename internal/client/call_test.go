package client_test

import (
	"context"
	"errors"
	"log/slog"
	"net/http"
	"net/http/httptest"
	"reflect"
	"strings"
	"testing"
	"time"

	"github.com/go-chi/chi/v5"

	"diathermon/internal/api"
	"diathermon/internal/api/ops"
	"diathermon/internal/client"
	"diathermon/internal/web/desk"
)

// everything is an input with every kind of parameter that operations have.
type everything struct {
	ops.Window
	Name   string  `path:"name"`
	Number int     `path:"number"`
	Since  uint64  `query:"since"`
	Height float64 `query:"height"`
	Asked  bool    `query:"asked"`
	Slots  []int   `query:"slots"`
	Body   *api.SayLine
}

var echoed = ops.Op[everything, api.SayLine]{Call: ops.Call{
	ID: "echo", Method: http.MethodPost, Path: "/v1/echo/{name}/{number}", Scope: "read", Summary: "Answer with what came",
}}

var maybe = ops.Op[ops.Name, api.SayLine]{Call: ops.Call{
	ID: "maybe", Method: http.MethodGet, Path: "/v1/maybe/{name}", Scope: "read", Summary: "Answer if there is anything", None: "there is no such line yet",
}}

// echo is a host that keeps what came.
type echo struct{ came everything }

func (*echo) Lacking(context.Context, string) *api.Problem { return nil }

func (e *echo) Mount(d *desk.Desk) {
	desk.Show(d, echoed, func(_ context.Context, in *everything) (api.SayLine, error) {
		if e.came = *in; in.Body == nil {
			return api.SayLine{}, &api.Problem{Status: http.StatusConflict, Title: "there is no line"}
		}
		return *in.Body, nil
	})
	desk.ShowIfAny(d, maybe, func(context.Context, *ops.Name) (*api.SayLine, error) { return nil, nil })
}

func host(t *testing.T) (*echo, *client.Client) {
	e, r := &echo{}, chi.NewRouter()
	desk.New(r, e, slog.New(slog.DiscardHandler)).Mount("echo", "", e)
	s := httptest.NewServer(r)
	t.Cleanup(s.Close)
	c, err := client.New(s.URL, "a token")
	if err != nil {
		t.Fatal(err)
	}
	return e, c
}

func TestWhatGoesIntoACallComesToItsHandler(t *testing.T) {
	e, c := host(t)
	at := time.Date(2026, 3, 4, 5, 6, 7, 891_000_000, time.UTC)
	for name, in := range map[string]everything{
		"all of it": {
			Window: ops.Window{From: at, To: at.Add(time.Hour), Heater: []string{"nozzle0", "bed"}, Run: "5e1f & more"},
			Name:   "a/b {number} ü?.gcode", Number: -3, Since: 1 << 63, Height: 0.1, Asked: true, Slots: []int{2, 0}, Body: &api.SayLine{Line: "M117 <ü>"},
		},
		"little":      {Name: "x", Body: &api.SayLine{Line: "G28"}},
		"empty lists": {Name: "x", Window: ops.Window{Heater: []string{}}, Slots: []int{}, Body: &api.SayLine{Line: "G28"}},
	} {
		out, err := client.Call(t.Context(), c, echoed, in)
		if in.Body != nil && (err != nil || out != *in.Body) {
			t.Errorf("%s: answered %+v, %v", name, out, err)
		}
		if len(in.Slots) == 0 {
			in.Slots, in.Heater = nil, nil
		}
		if !reflect.DeepEqual(e.came, in) {
			t.Errorf("%s: came %+v, want %+v", name, e.came, in)
		}
	}
}

func TestWhatIsNotThereYetIsSaidInWords(t *testing.T) {
	_, c := host(t)
	_, err := client.Call(t.Context(), c, maybe, ops.Name{Name: "x"})
	var p *api.Problem
	if !errors.As(err, &p) || p.Status != http.StatusNotFound || p.Title != maybe.None {
		t.Errorf("found %v, want %q", err, maybe.None)
	}
}

func TestOperationsAreDeclaredWhole(t *testing.T) {
	ids, places := map[string]bool{}, map[string]bool{}
	for _, c := range ops.All() {
		place := c.Method + " " + c.Path
		if ids[c.ID] || places[place] {
			t.Errorf("%s %s is declared twice", c.ID, place)
		}
		ids[c.ID], places[place] = true, true
		if c.Scope == "" || c.Summary == "" || strings.HasSuffix(c.Summary, ".") || !strings.HasPrefix(c.Path, "/v1/") {
			t.Errorf("%+v lacks its scope, a summary without its full stop, or its place", c)
		}
	}
	if len(ids) < 100 {
		t.Errorf("%d operations are declared", len(ids))
	}
}
