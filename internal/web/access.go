package web

import (
	"context"
	"crypto/rand"
	"crypto/sha256"
	"fmt"
	"net/http"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/danielgtaylor/huma/v2"
	"github.com/google/renameio/v2"
	"github.com/google/uuid"

	"diathermon/internal/api"
	"diathermon/internal/core/access"
)

// The scopes of a token.
const (
	scopeRead    = "read"    // see everything
	scopeSend    = "send"    // put files on the shelf
	scopeStart   = "start"   // start a run
	scopeOperate = "operate" // hold, resume, stop, halt, heat, say
	scopeKeep    = "keep"    // remove files, change settings
)

const allScopes = scopeRead + " " + scopeSend + " " + scopeStart + " " + scopeOperate + " " + scopeKeep

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
	cookie string // the session cookie's name

	mu     sync.Mutex
	byHash map[[sha256.Size]byte]access.Token
	codes  map[string]time.Time // one-time codes and when they expire
}

const (
	codeLife    = 24 * time.Hour
	sessionLife = 90 * 24 * time.Hour
	keeperName  = "keeper"
)

// NewAccess returns the access to one host. Cookies carry the port in their
// name: browsers share them among the hosts of one computer.
func NewAccess(ctx context.Context, tokens Tokens, port int) (*Access, error) {
	a := &Access{tokens: tokens, cookie: fmt.Sprintf("diathermon-%d", port), byHash: map[[sha256.Size]byte]access.Token{}, codes: map[string]time.Time{}}
	known, err := tokens.Tokens(ctx)
	if err != nil {
		return nil, err
	}
	for _, t := range known {
		if t.Expires != nil && t.Expires.Before(time.Now()) {
			if err := tokens.DeleteToken(ctx, t.ID); err != nil {
				return nil, err
			}
			continue
		}
		a.byHash[[sha256.Size]byte(t.Hash)] = t
	}
	return a, nil
}

// Keeper makes sure that the file at path, mode 0600, holds a token that may do
// everything, and returns it.
func (a *Access) Keeper(ctx context.Context, path string) (string, error) {
	b, err := os.ReadFile(path)
	token := strings.TrimSpace(string(b))
	if err == nil && len(token) >= 20 {
		if _, known := a.find(token); known {
			return token, nil
		}
		return token, a.put(ctx, token, keeperName, allScopes, nil)
	}
	token = rand.Text()
	if err := a.put(ctx, token, keeperName, allScopes, nil); err != nil {
		return "", err
	}
	return token, renameio.WriteFile(path, []byte(token+"\n"), 0o600, renameio.WithTempDir(filepath.Dir(path)))
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
	a.byHash[hash] = t
	return nil
}

// find returns the token's record if it is good now. Looking a hash up takes no
// time that depends on the token.
func (a *Access) find(token string) (access.Token, bool) {
	a.mu.Lock()
	defer a.mu.Unlock()
	t, ok := a.byHash[sha256.Sum256([]byte(token))]
	if ok && t.Expires != nil && t.Expires.Before(time.Now()) {
		return access.Token{}, false
	}
	return t, ok
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
// new token of the given name for it.
func (a *Access) spend(ctx context.Context, code, name string, expires *time.Time) (string, error) {
	a.mu.Lock()
	until, ok := a.codes[code]
	delete(a.codes, code)
	a.mu.Unlock()
	if ok = ok && until.After(time.Now()); !ok {
		t, known := a.find(code)
		if !known || !slices.Contains(strings.Fields(t.Scopes), scopeKeep) {
			return "", &api.Problem{Status: http.StatusUnauthorized, Title: "this code does not sign in", Detail: "it was used already, is too old or was mistyped; take the token from the file keeper-token in the data folder, or restart the service for a new link"}
		}
	}
	token := rand.Text()
	return token, a.put(ctx, token, name, allScopes, expires)
}

// withdraw makes a token worthless.
func (a *Access) withdraw(ctx context.Context, token string) error {
	t, ok := a.find(token)
	if !ok {
		return nil
	}
	a.mu.Lock()
	delete(a.byHash, [sha256.Size]byte(t.Hash))
	a.mu.Unlock()
	return a.tokens.DeleteToken(ctx, t.ID)
}

type holderKey struct{}

// bearer returns the token that came with a request, and whether a browser sent
// it by itself.
func (a *Access) bearer(r *http.Request) (token string, cookie bool) {
	if header := r.Header.Get("Authorization"); header != "" {
		scheme, token, _ := strings.Cut(header, " ")
		if strings.EqualFold(scheme, "Bearer") {
			return strings.TrimSpace(token), false
		}
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
		return nil, &api.Problem{Status: http.StatusUnauthorized, Title: "a token is needed", Detail: "send it as 'Authorization: Bearer …'; the first one is in the file keeper-token in the data folder"}
	}
	t, ok := a.find(token)
	if !ok {
		return nil, &api.Problem{Status: http.StatusUnauthorized, Title: "this token is not known here", Detail: "it was mistyped or withdrawn, or belongs to another host"}
	}
	if cookie && crossOrigin.Check(r) != nil {
		return nil, &api.Problem{Status: http.StatusForbidden, Title: "another site sent this request", Detail: "use the console at the host's own address"}
	}
	return r.WithContext(context.WithValue(r.Context(), holderKey{}, t)), nil
}

// required lets nobody through without a token.
func (a *Access) required(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		admitted, p := a.admit(r)
		if p != nil {
			if p.Status == http.StatusUnauthorized {
				w.Header().Set("WWW-Authenticate", `Bearer realm="diathermon"`)
			}
			problem(w, p)
			return
		}
		next.ServeHTTP(w, admitted)
	})
}

// requiredOrSignIn sends a person without a token to the sign-in page.
func (a *Access) requiredOrSignIn(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		admitted, p := a.admit(r)
		if p != nil {
			http.Redirect(w, r, "/sign-in", http.StatusSeeOther)
			return
		}
		next.ServeHTTP(w, admitted)
	})
}

// caller is the name of the token that a request came with.
func caller(ctx context.Context) string {
	t, _ := ctx.Value(holderKey{}).(access.Token)
	return t.Name
}

// lacking returns the problem of a holder without the scope, or nil.
func lacking(ctx context.Context, scope string) *api.Problem {
	t, _ := ctx.Value(holderKey{}).(access.Token)
	if slices.Contains(strings.Fields(t.Scopes), scope) {
		return nil
	}
	return &api.Problem{Status: http.StatusForbidden, Title: fmt.Sprintf("this token may not do that: it lacks the scope %q", scope), Detail: "use a token that has it"}
}

// scoped checks the scope that an operation asks for.
func (s *Server) scoped(ctx huma.Context, next func(huma.Context)) {
	for _, scheme := range ctx.Operation().Security {
		for _, scope := range scheme["token"] {
			if p := lacking(ctx.Context(), scope); p != nil {
				huma.WriteErr(s.api, ctx, p.Status, p.Title)
				return
			}
		}
	}
	next(ctx)
}
