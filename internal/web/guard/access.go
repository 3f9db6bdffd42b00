// Package guard is who may come in: tokens, signing in, and how long a stage of a
// request may take.
//
// It promises that a token that was withdrawn is worthless at once, that guessing is
// slow and locks nobody out, and that no secret is in the log. It leaves what a scope
// allows to the operations, which name it.
package guard

import (
	"context"
	"crypto/rand"
	"crypto/sha256"
	"errors"
	"fmt"
	"io/fs"
	"log/slog"
	"net/http"
	"os"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/google/uuid"

	"diathermon/internal/api"
	"diathermon/internal/core/access"
	"diathermon/internal/durable"
	"diathermon/internal/gate"
	"diathermon/internal/web/desk"
)

const allScopes = desk.Read + " " + desk.Send + " " + desk.Start + " " + desk.Operate + " " + desk.Keep

// Tokens keeps tokens' hashes.
type Tokens interface {
	Tokens(ctx context.Context) ([]access.Token, error)
	PutToken(ctx context.Context, t access.Token) error
	DeleteToken(ctx context.Context, id string) error
}

// Access knows who may do what. It answers from memory, so that the database
// may go away.
type Access struct {
	tokens Tokens
	log    *slog.Logger
	errors desk.Problems
	cookie string // the session cookie's name

	wrongCodes, wrongTokens *guesses

	mu     sync.Mutex
	byHash map[[sha256.Size]byte]*holder
	codes  map[string]time.Time // one-time codes and when they expire
}

// holder is who has a token.
type holder struct {
	access.Token
	gone chan struct{} // closed when the token is withdrawn
}

func (h *holder) expired() bool { return h.Expires != nil && h.Expires.Before(time.Now()) }

// session reports whether the token is a browser's, from its signing in.
func (h *holder) session() bool { return h.Expires != nil }

const (
	codeLife    = 24 * time.Hour
	sessionLife = 90 * 24 * time.Hour
	keeperName  = "keeper"
	consoleName = "console"
	longestName = 60 // characters of a program's name
)

// NewAccess returns the access to one host. Cookies carry the port in their
// name: browsers share them among the hosts of one computer.
func NewAccess(ctx context.Context, tokens Tokens, port int, log *slog.Logger) (*Access, error) {
	a := &Access{tokens: tokens, log: log, errors: desk.NewProblems(log), cookie: fmt.Sprintf("diathermon-%d", port), wrongCodes: newGuesses(codesOfOne, codesOfAll), wrongTokens: newGuesses(tokensOfOne, tokensOfAll), byHash: map[[sha256.Size]byte]*holder{}, codes: map[string]time.Time{}}
	known, err := tokens.Tokens(ctx)
	if err != nil {
		return nil, err
	}
	for _, t := range known {
		h := &holder{t, make(chan struct{})}
		if h.expired() {
			if err := tokens.DeleteToken(ctx, t.ID); err != nil {
				return nil, err
			}
			continue
		}
		a.byHash[[sha256.Size]byte(t.Hash)] = h
	}
	return a, nil
}

// Keeper makes sure that the file at path, mode 0600, holds a token that may do
// everything, and returns it. There is one keeper's token: where the file is gone, or
// holds another, those of before are withdrawn.
func (a *Access) Keeper(ctx context.Context, path string) (string, error) {
	b, err := os.ReadFile(path)
	token := strings.TrimSpace(string(b))
	kept := err == nil && len(token) >= 20
	ours, known := a.find(token)
	if err := a.withdrawAll(ctx, func(h *holder) bool { return h.Name == keeperName && !h.session() && h != ours }); err != nil {
		return "", err
	}
	if known && !ours.session() {
		return token, nil
	}
	if !kept {
		token = rand.Text()
	}
	if err := a.put(ctx, token, keeperName, allScopes, nil); err != nil || kept {
		return token, err
	}
	return token, durable.Replace(path, durable.Bytes([]byte(token+"\n")))
}

// WithdrawAll makes every token worthless, the keeper's too, whose file at path goes.
func (a *Access) WithdrawAll(ctx context.Context, path string) error {
	if err := os.Remove(path); err != nil && !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	return a.withdrawAll(ctx, func(*holder) bool { return true })
}

func (a *Access) withdrawAll(ctx context.Context, which func(*holder) bool) error {
	a.mu.Lock()
	var all []*holder
	for _, h := range a.byHash {
		if which(h) {
			all = append(all, h)
		}
	}
	a.mu.Unlock()
	for _, h := range all {
		if err := a.withdraw(ctx, h, "this computer"); err != nil {
			return err
		}
	}
	return nil
}

func (a *Access) put(ctx context.Context, token, name, scopes string, expires *time.Time) error {
	hash := sha256.Sum256([]byte(token))
	id, err := uuid.NewV7()
	if err != nil {
		return err
	}
	t := access.Token{ID: id.String(), Name: name, Hash: hash[:], Scopes: scopes, Created: time.Now().UTC(), Expires: expires}
	if err := a.tokens.PutToken(ctx, t); err != nil {
		return err
	}
	a.mu.Lock()
	defer a.mu.Unlock()
	a.byHash[hash] = &holder{t, make(chan struct{})}
	return nil
}

// find returns the token's holder if it is good now. Looking a hash up takes no
// time that depends on the token.
func (a *Access) find(token string) (*holder, bool) {
	a.mu.Lock()
	defer a.mu.Unlock()
	h, ok := a.byHash[sha256.Sum256([]byte(token))]
	if ok && h.expired() {
		return nil, false
	}
	return h, ok
}

// Code returns a new one-time code. Whoever has it may sign in once.
func (a *Access) Code() string {
	code := rand.Text()
	a.mu.Lock()
	defer a.mu.Unlock()
	for c, expires := range a.codes {
		if expires.Before(time.Now()) {
			delete(a.codes, c)
		}
	}
	a.codes[code] = time.Now().Add(codeLife)
	return code
}

// spend takes a one-time code, or a token that may do everything, and returns a
// new token of the given name for it. Wrong codes are answered slowly.
func (a *Access) spend(r *http.Request, code, name string, expires *time.Time) (string, error) {
	a.mu.Lock()
	until, ok := a.codes[code]
	delete(a.codes, code)
	a.mu.Unlock()
	if ok = ok && until.After(time.Now()); !ok {
		h, known := a.find(code)
		ok = known && slices.Contains(strings.Fields(h.Scopes), desk.Keep)
	}
	if !ok {
		a.log.Warn("a code was refused", "address", addressOf(r), "for", name)
		if wait := a.wrongCodes.wrong(r.Context(), addressOf(r)); wait > 0 {
			return "", tooMany("codes", wait)
		}
		return "", &api.Problem{Status: http.StatusUnauthorized, Title: "this code does not sign in", Detail: "it was used already, is too old or was mistyped; take the token from the file keeper-token in the data folder, or restart the service for a new link"}
	}
	token := rand.Text()
	if err := a.put(r.Context(), token, name, allScopes, expires); err != nil {
		return "", err
	}
	a.log.Info("signed in", "address", addressOf(r), "name", name, "session", expires != nil)
	return token, nil
}

func tooMany(what string, wait time.Duration) *api.Problem {
	return &api.Problem{Status: http.StatusTooManyRequests, Title: "too many wrong " + what, Detail: fmt.Sprintf("try again in %.0f s", max(wait.Seconds(), 1))}
}

// withdraw makes a token worthless, at once: also on the connections on which it is
// in use.
func (a *Access) withdraw(ctx context.Context, h *holder, by string) error {
	a.mu.Lock()
	hash := [sha256.Size]byte(h.Hash)
	if a.byHash[hash] == h {
		delete(a.byHash, hash)
		close(h.gone)
	}
	a.mu.Unlock()
	a.log.Info("a token was withdrawn", "address", by, "name", h.Name)
	if err := a.tokens.DeleteToken(ctx, h.ID); err != nil {
		return fmt.Errorf("the token of %s is dead until the service is started again, and the database does not take that for good: %w", h.Name, err)
	}
	return nil
}

type holderKey struct{}

// bearer returns the token that came with a request, and whether a browser sent
// it by itself.
func (a *Access) bearer(r *http.Request) (token string, cookie bool) {
	if _, password, ok := r.BasicAuth(); ok && r.Context().Value(passwordKey{}) != nil {
		return strings.TrimSpace(password), false
	}
	if header := r.Header.Get("Authorization"); header != "" {
		scheme, token, _ := strings.Cut(header, " ")
		if strings.EqualFold(scheme, "Bearer") {
			return strings.TrimSpace(token), false
		}
		return "", false
	}
	if r.Context().Value(passwordKey{}) != nil { // where no browser's cookie opens
		return "", false
	}
	if c, err := r.Cookie(a.cookie); err == nil {
		return c.Value, true
	}
	return "", false
}

// crossOrigin refuses what another site makes a browser send.
var crossOrigin = http.NewCrossOriginProtection()

// admit returns the request with its token's holder, or the problem with it.
func (a *Access) admit(r *http.Request) (*http.Request, *api.Problem) {
	token, cookie := a.bearer(r)
	if token == "" {
		if r.Context().Value(passwordKey{}) != nil {
			return nil, &api.Problem{Status: http.StatusUnauthorized, Title: "a token is needed", Detail: "it is the password; the name may be any"}
		}
		return nil, &api.Problem{Status: http.StatusUnauthorized, Title: "a token is needed", Detail: "send it as 'Authorization: Bearer …'; the first one is in the file keeper-token in the data folder"}
	}
	h, ok := a.find(token)
	if !ok {
		a.log.Warn("a token was refused", "address", addressOf(r))
		if wait := a.wrongTokens.wrong(r.Context(), addressOf(r)); wait > 0 {
			return nil, tooMany("tokens", wait)
		}
		return nil, &api.Problem{Status: http.StatusUnauthorized, Title: "this token is not known here", Detail: "it was mistyped or withdrawn, or belongs to another host"}
	}
	if byPassword := r.Context().Value(passwordKey{}) != nil; (cookie || byPassword) && crossOrigin.Check(r) != nil {
		a.log.Warn("another site's request was refused", "address", addressOf(r), "name", h.Name)
		return nil, &api.Problem{Status: http.StatusForbidden, Title: "another site sent this request", Detail: "use the console at the host's own address"}
	}
	gate.Admit(r.Context())
	return r.WithContext(context.WithValue(r.Context(), holderKey{}, h)), nil
}

// Gone is closed when the token that a request came with is withdrawn.
func Gone(ctx context.Context) <-chan struct{} {
	if h, ok := ctx.Value(holderKey{}).(*holder); ok {
		return h.gone
	}
	return nil
}

// Expired reports whether the token that a request came with has become too old.
func Expired(ctx context.Context) bool {
	h, ok := ctx.Value(holderKey{}).(*holder)
	return ok && h.expired()
}

// Required lets nobody through without a token.
func (a *Access) Required(next http.Handler) http.Handler { return a.required(next, "Bearer") }

// RequiredAsPassword is Required for programs that know names and passwords alone: the
// token is the password (RFC 7617), and the name may be any. Browsers' cookies do not
// open there.
func (a *Access) RequiredAsPassword(next http.Handler) http.Handler {
	required := a.required(next, "Basic")
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		required.ServeHTTP(w, r.WithContext(context.WithValue(r.Context(), passwordKey{}, true)))
	})
}

type passwordKey struct{}

func (a *Access) required(next http.Handler, scheme string) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		admitted, p := a.admit(r)
		if p != nil {
			if p.Status == http.StatusUnauthorized {
				w.Header().Set("WWW-Authenticate", scheme+` realm="diathermon", charset="UTF-8"`)
			}
			desk.WriteProblem(w, p)
			return
		}
		next.ServeHTTP(w, admitted)
	})
}

// RequiredOrSignIn sends a person without a token to the sign-in page.
func (a *Access) RequiredOrSignIn(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		admitted, p := a.admit(r)
		if p != nil {
			http.Redirect(w, r, "/sign-in", http.StatusSeeOther)
			return
		}
		next.ServeHTTP(w, admitted)
	})
}

// Caller is the name of the token that a request came with.
func Caller(ctx context.Context) string {
	if h, ok := ctx.Value(holderKey{}).(*holder); ok {
		return h.Name
	}
	return ""
}

// Lacking returns the problem of a holder without the scope, or nil.
func (a *Access) Lacking(ctx context.Context, scope string) *api.Problem {
	if h, ok := ctx.Value(holderKey{}).(*holder); ok && slices.Contains(strings.Fields(h.Scopes), scope) {
		return nil
	}
	return &api.Problem{Status: http.StatusForbidden, Title: fmt.Sprintf("this token may not do that: it lacks the scope %q", scope), Detail: "use a token that has it"}
}
