package guard

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"log/slog"
	"net/http"
	"net/http/httptest"
	"net/url"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"testing/synctest"
	"time"

	"github.com/go-chi/chi/v5"

	"diathermon/internal/core/access"
	"diathermon/internal/people"
	"diathermon/internal/web/desk"
)

// hashes keeps tokens in memory.
type hashes struct {
	mu   sync.Mutex
	kept map[string]access.Token
	away bool
}

func (h *hashes) Tokens(context.Context) ([]access.Token, error) {
	h.mu.Lock()
	defer h.mu.Unlock()
	var out []access.Token
	for _, t := range h.kept {
		out = append(out, t)
	}
	return out, nil
}

func (h *hashes) Accounts(context.Context) ([]access.Account, error) { return nil, nil }
func (h *hashes) PutAccount(context.Context, access.Account) error   { return nil }
func (h *hashes) DeleteAccount(context.Context, string) error        { return nil }
func (h *hashes) Passkeys(context.Context) ([]access.Passkey, error) { return nil, nil }
func (h *hashes) PutPasskey(context.Context, access.Passkey) error   { return nil }
func (h *hashes) DeletePasskey(context.Context, string) error        { return nil }
func (h *hashes) PutToken(_ context.Context, t access.Token) error {
	h.mu.Lock()
	defer h.mu.Unlock()
	h.kept[t.ID] = t
	return nil
}

func (h *hashes) DeleteToken(_ context.Context, id string) error {
	h.mu.Lock()
	defer h.mu.Unlock()
	if h.away {
		return errors.New("the database is away")
	}
	delete(h.kept, id)
	return nil
}

// entrance is the way in, with one operation behind it.
type entrance struct {
	t      *testing.T
	access *Access
	kept   *hashes
	keeper string
	path   string
	log    bytes.Buffer
	http.Handler
}

func newEntrance(t *testing.T) *entrance {
	d := &entrance{t: t, kept: &hashes{kept: map[string]access.Token{}}, path: filepath.Join(t.TempDir(), "keeper-token")}
	d.restart()
	return d
}

// restart lets the service begin anew on the tokens that are kept.
func (d *entrance) restart() {
	d.t.Helper()
	log := slog.New(slog.NewTextHandler(&d.log, nil))
	p, err := people.Open(d.t.Context(), d.kept, "", log)
	if err != nil {
		d.t.Fatal(err)
	}
	d.access = NewAccess(p, 8437, log)
	if d.keeper, err = p.Keeper(d.t.Context(), d.path); err != nil {
		d.t.Fatal(err)
	}
	r := chi.NewRouter()
	r.Use(Limited)
	d.access.SignIn(r, "Vesper")
	r.Group(func(r chi.Router) {
		r.Use(d.access.Required)
		desk.New(r, d.access, log).Mount("document", "", desk.Document{})
	})
	d.Handler = r
}

// ask makes a request; headers are names and values in turn.
func (d *entrance) ask(method, path, body string, headers ...string) *httptest.ResponseRecorder {
	r := httptest.NewRequestWithContext(d.t.Context(), method, path, strings.NewReader(body))
	for i := 0; i < len(headers); i += 2 {
		r.Header.Set(headers[i], headers[i+1])
	}
	w := httptest.NewRecorder()
	d.ServeHTTP(w, r)
	return w
}

// good reports whether a token is let in.
func (d *entrance) good(token string) bool {
	return d.ask("GET", "/v1/openapi.json", "", "Authorization", "Bearer "+token).Code == http.StatusOK
}

func (d *entrance) pair(code, name string, headers ...string) *httptest.ResponseRecorder {
	return d.ask("POST", "/sign-in", fmt.Sprintf(`{"code":%q,"name":%q}`, code, name), append([]string{"Content-Type", "application/json"}, headers...)...)
}

func TestThereIsOneKeepersToken(t *testing.T) {
	d := newEntrance(t)
	first := d.keeper
	d.restart()
	if d.keeper != first || !d.good(first) {
		t.Error("it changed for no reason")
	}
	os.Remove(d.path)
	d.restart()
	if d.keeper == first || !d.good(d.keeper) || d.good(first) {
		t.Error("its file was deleted, and the first token is still good")
	}
	second := d.keeper
	os.WriteFile(d.path, []byte("a-token-that-the-owner-has-chosen\n"), 0o600)
	d.restart()
	if d.keeper != "a-token-that-the-owner-has-chosen" || !d.good(d.keeper) || d.good(second) {
		t.Error("its file has another token, and the one before is still good")
	}
	if len(d.kept.kept) != 1 {
		t.Errorf("%d tokens are kept", len(d.kept.kept))
	}
}

func TestAllTokensCanBeWithdrawnOnTheHost(t *testing.T) {
	d := newEntrance(t)
	var in struct{ Token string }
	fmt.Sscanf(d.pair(d.access.People.Code(), "slicer").Body.String(), `{"token":%q`, &in.Token)
	if !d.good(in.Token) || !d.good(d.keeper) {
		t.Fatalf("pairing gave %q", in.Token)
	}
	if err := d.access.People.WithdrawAll(t.Context(), d.path); err != nil {
		t.Fatal(err)
	}
	old := d.keeper
	d.restart()
	if d.good(in.Token) || d.good(old) || !d.good(d.keeper) {
		t.Error("not all of them are dead, or the new one is not good")
	}
}

func TestAWithdrawnTokenIsDeadWithoutTheDatabase(t *testing.T) {
	d := newEntrance(t)
	d.kept.away = true
	h, _ := d.access.People.Find(d.keeper)
	ended := make(chan struct{})
	defer d.access.People.Pass(h, func() { close(ended) }).Close()
	if err := d.access.People.Withdraw(t.Context(), h, "here"); err == nil {
		t.Error("that it is not dead for good was not told")
	}
	if d.good(d.keeper) {
		t.Error("it is good still")
	}
	select {
	case <-ended:
	default:
		t.Error("streams that use it do not end")
	}
}

func TestOnlyABrowserSignsOut(t *testing.T) {
	d := newEntrance(t)
	if w := d.ask("POST", "/sign-out", "", "Authorization", "Bearer "+d.keeper); w.Code != http.StatusConflict || !d.good(d.keeper) {
		t.Errorf("signing out with the keeper's token: %d, and it is good: %v", w.Code, d.good(d.keeper))
	}
	if d.ask("POST", "/sign-out", "", "Cookie", d.access.cookie+"="+d.keeper); !d.good(d.keeper) {
		t.Error("the keeper's token in a cookie was withdrawn")
	}
	w := d.ask("POST", "/sign-in", url.Values{"code": {d.keeper}}.Encode(), "Content-Type", "application/x-www-form-urlencoded")
	cookie := w.Result().Cookies()[0]
	if !d.good(cookie.Value) {
		t.Fatal("the session's token is not good")
	}
	if w := d.ask("POST", "/sign-out", "", "Cookie", cookie.Name+"="+cookie.Value); w.Code != http.StatusNoContent || d.good(cookie.Value) {
		t.Errorf("after signing out (%d) it is good still", w.Code)
	}
}

func TestSigningInFromAnotherOriginIsRefused(t *testing.T) {
	d := newEntrance(t)
	if w := d.pair(d.access.People.Code(), "thief", "Sec-Fetch-Site", "cross-site"); w.Code != http.StatusForbidden {
		t.Errorf("by JSON: %d %s", w.Code, w.Body)
	}
	if w := d.pair(d.access.People.Code(), "slicer"); w.Code != http.StatusCreated {
		t.Errorf("a program: %d %s", w.Code, w.Body)
	}
	for _, name := range []string{"keeper", "console", "\u200b", "a\nb", strings.Repeat("x", 61), " x"} {
		if w := d.pair(d.access.People.Code(), name); w.Code != http.StatusBadRequest {
			t.Errorf("a program called %q: %d", name, w.Code)
		}
	}
}

func TestWhoComesAndGoesIsLoggedWithoutSecrets(t *testing.T) {
	d := newEntrance(t)
	code := d.access.People.Code()
	d.pair(code, "slicer")
	d.pair("a-wrong-code", "thief")
	d.ask("GET", "/v1/openapi.json", "", "Authorization", "Bearer a-wrong-token")
	h, _ := d.access.People.Find(d.keeper)
	d.access.People.Withdraw(t.Context(), h, "192.0.2.1")
	said := d.log.String()
	for _, want := range []string{"signed in", "address=192.0.2.1 name=slicer", "a code was refused", "for=thief", "a token was refused", "withdrawn"} {
		if !strings.Contains(said, want) {
			t.Errorf("the log does not say %q:\n%s", want, said)
		}
	}
	for _, secret := range []string{code, d.keeper, "a-wrong-code", "a-wrong-token"} {
		if strings.Contains(said, secret) {
			t.Errorf("the log tells %q", secret)
		}
	}
}

func TestTheOwnerIsNotLockedOutByGuesses(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		d := newEntrance(t)
		ctx, end := context.WithCancel(t.Context())
		for range 20 {
			go func() {
				for ctx.Err() == nil {
					d.pair("wrong", "thief")
					time.Sleep(time.Millisecond)
				}
			}()
		}
		time.Sleep(10 * time.Second)
		if w := d.pair(d.access.People.Code(), "the owner's laptop"); w.Code != http.StatusCreated {
			t.Errorf("the owner with the right code from the same address: %d %s", w.Code, w.Body)
		}
		end()
		time.Sleep(time.Minute) // they see it
	})
}

func TestASessionEndsByItself(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		d := newEntrance(t)
		in := d.ask("POST", "/sign-in", url.Values{"code": {d.access.People.Code()}}.Encode(), "Content-Type", "application/x-www-form-urlencoded")
		cookie := in.Result().Cookies()[0]
		if !cookie.HttpOnly || cookie.SameSite != http.SameSiteStrictMode || !strings.HasSuffix(cookie.Name, "-8437") {
			t.Errorf("its cookie is %v", cookie)
		}
		time.Sleep(90*24*time.Hour - time.Minute)
		if !d.good(cookie.Value) || !d.good(d.keeper) {
			t.Error("it ended too early")
		}
		h, _ := d.access.People.Find(cookie.Value)
		ended := false
		defer d.access.People.Pass(h, func() { ended = true }).Close()
		time.Sleep(2 * time.Minute)
		synctest.Wait()
		if d.good(cookie.Value) || !ended {
			t.Error("it is good still")
		}
		if !d.good(d.keeper) {
			t.Error("the keeper's token ended, too")
		}
	})
}

func TestACodeIsGoodOnceAndForADay(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		d := newEntrance(t)
		code, old := d.access.People.Code(), d.access.People.Code()
		if d.pair(code, "slicer").Code != http.StatusCreated || d.pair(code, "slicer").Code != http.StatusUnauthorized {
			t.Error("a code was good twice, or never")
		}
		time.Sleep(24*time.Hour + time.Second)
		if d.pair(old, "slicer").Code != http.StatusUnauthorized {
			t.Error("a code of yesterday was good")
		}
	})
}

func TestAnotherSiteDoesNothingWithABrowsersSession(t *testing.T) {
	d := newEntrance(t)
	in := d.ask("POST", "/sign-in", url.Values{"code": {d.access.People.Code()}}.Encode(), "Content-Type", "application/x-www-form-urlencoded")
	cookie := in.Result().Cookies()[0]
	session := cookie.Name + "=" + cookie.Value
	for _, headers := range [][]string{{"Sec-Fetch-Site", "cross-site"}, {"Sec-Fetch-Site", "same-site"}, {"Origin", "http://elsewhere.example"}} {
		if w := d.ask("POST", "/sign-out", "", append([]string{"Cookie", session}, headers...)...); w.Code != http.StatusForbidden || !d.good(cookie.Value) {
			t.Errorf("with %q: %d", headers, w.Code)
		}
	}
	if w := d.ask("POST", "/sign-out", "", "Cookie", session, "Sec-Fetch-Site", "same-origin"); w.Code != http.StatusNoContent {
		t.Errorf("the console itself: %d %s", w.Code, w.Body)
	}
}
