package live_test

import (
	"bufio"
	"context"
	"crypto/sha256"
	"log/slog"
	"math"
	"net"
	"net/http"
	"net/http/httptest"
	"strings"
	"testing"
	"testing/synctest"
	"time"

	"github.com/go-chi/chi/v5"

	"diathermon/internal/api"
	"diathermon/internal/core/access"
	"diathermon/internal/host"
	"diathermon/internal/host/part"
	"diathermon/internal/people"
	"diathermon/internal/web/desk"
	"diathermon/internal/web/guard"
	"diathermon/internal/web/live"
)

// happening is a host of which things are told.
type happening struct {
	updates chan part.Update
	ended   chan struct{}
}

func (h happening) Bench(context.Context) (host.Bench, error) { return host.Bench{}, nil }
func (h happening) Subscribe() (<-chan part.Update, func()) {
	return h.updates, func() { close(h.ended) }
}
func (h happening) Lacking(context.Context, string) *api.Problem { return nil }

// stream lets f read what a client is sent, in virtual time.
func stream(t *testing.T, f func(h happening, next func() string)) {
	synctest.Test(t, func(t *testing.T) {
		h := happening{make(chan part.Update), make(chan struct{})}
		r := chi.NewRouter()
		desk.New(r, h, slog.New(slog.DiscardHandler)).Mount("events", "", live.Area{
			Host: h, Log: slog.New(slog.DiscardHandler),
			Now: func(host.Bench) []any { return []any{api.Link{State: "live"}, api.Position{X: 1}} },
			Of: func(what any) any {
				if line, is := what.(string); is {
					return api.Message{Text: line}
				}
				if f, is := what.(float64); is {
					return api.Position{X: f}
				}
				return nil
			},
		})
		ours, theirs := net.Pipe()
		server := &http.Server{Handler: r}
		go server.Serve(&once{conn: theirs})
		go ours.Write([]byte("GET /v1/events HTTP/1.1\r\nHost: x\r\n\r\n"))
		res, err := http.ReadResponse(bufio.NewReader(ours), nil)
		if err != nil || res.Header.Get("Content-Type") != "text/event-stream" || res.Header.Get("Cache-Control") != "no-store" {
			t.Fatal(res, err)
		}
		lines := bufio.NewScanner(res.Body)
		f(h, func() string {
			frame := ""
			for lines.Scan() && lines.Text() != "" {
				frame += lines.Text() + "\n"
			}
			return frame
		})
		ours.Close()
		server.Close()
		<-h.ended
	})
}

// once is a listener of one connection.
type once struct {
	net.Listener
	conn net.Conn
}

func (o *once) Accept() (net.Conn, error) {
	if c := o.conn; c != nil {
		o.conn = nil
		return c, nil
	}
	return nil, net.ErrClosed
}
func (o *once) Close() error { return nil }

func TestEverythingAsItIsComesBeforeWhatChanges(t *testing.T) {
	stream(t, func(h happening, next func() string) {
		if got := next(); !strings.HasPrefix(got, "event: link\ndata: {\"state\":\"live\"") {
			t.Errorf("first: %s", got)
		}
		if got := next(); !strings.HasPrefix(got, "event: position\n") {
			t.Errorf("second: %s", got)
		}
		frame := &part.Frame{}
		go func() {
			h.updates <- part.Update{What: 7, Frame: &part.Frame{}} // which is for nobody
			h.updates <- part.Update{What: "hello", Frame: frame}
		}()
		if got := next(); !strings.HasPrefix(got, "event: message\n") || !strings.Contains(got, `"text":"hello"`) {
			t.Errorf("an update: %s", got)
		}
		if made := frame.Bytes(func() []byte { return []byte("anew") }); string(made) == "anew" {
			t.Error("its frame is made for each client anew")
		}
		go func() { h.updates <- part.Update{What: math.Inf(1), Frame: &part.Frame{}} }()
		if got := next(); !strings.HasPrefix(got, ": ") {
			t.Errorf("one that cannot be encoded: %s", got)
		}
	})
}

func TestTheLinkIsToldAgainAndAgain(t *testing.T) {
	stream(t, func(_ happening, next func() string) {
		next()
		next()
		begun := time.Now()
		if got := next(); !strings.HasPrefix(got, "event: link\n") || time.Since(begun) > 20*time.Second {
			t.Errorf("after %s: %s", time.Since(begun), got)
		}
	})
}

// names are tokens in memory.
type names []access.Token

func (n names) Tokens(context.Context) ([]access.Token, error)     { return n, nil }
func (n names) PutToken(context.Context, access.Token) error       { return nil }
func (n names) DeleteToken(context.Context, string) error          { return nil }
func (n names) Accounts(context.Context) ([]access.Account, error) { return nil, nil }
func (n names) PutAccount(context.Context, access.Account) error   { return nil }
func (n names) DeleteAccount(context.Context, string) error        { return nil }
func (n names) Passkeys(context.Context) ([]access.Passkey, error) { return nil, nil }
func (n names) PutPasskey(context.Context, access.Passkey) error   { return nil }
func (n names) DeletePasskey(context.Context, string) error        { return nil }

func TestAStreamEndsWithItsToken(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		hash := sha256.Sum256([]byte("short"))
		soon := time.Now().Add(40 * time.Second)
		p, err := people.Open(t.Context(), names{{ID: "1", Hash: hash[:], Scopes: access.Read, Expires: &soon}}, "", slog.New(slog.DiscardHandler))
		if err != nil {
			t.Fatal(err)
		}
		door := guard.NewAccess(p, 8437, slog.New(slog.DiscardHandler))
		h := happening{make(chan part.Update), make(chan struct{})}
		r := chi.NewRouter()
		r.Use(door.Required)
		desk.New(r, door, slog.New(slog.DiscardHandler)).Mount("events", "", live.Area{Host: h, Now: func(host.Bench) []any { return []any{api.Link{}} }, Of: func(any) any { return nil }})
		begun := time.Now()
		request := httptest.NewRequest("GET", "/v1/events", nil)
		request.Header.Set("Authorization", "Bearer short")
		r.ServeHTTP(httptest.NewRecorder(), request)
		if took := time.Since(begun); took < 40*time.Second || took > time.Minute {
			t.Errorf("it ended after %s", took)
		}
	})
}

func TestASlowClientsStreamEnds(t *testing.T) {
	stream(t, func(h happening, next func() string) {
		next()
		next()
		close(h.updates)
		if got := next(); got != "" {
			t.Errorf("it goes on with %s", got)
		}
	})
}
