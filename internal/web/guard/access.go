// Package guard is who may come in by HTTP: how a request shows a token, signing in, and
// how long a stage of a request may take.
//
// It promises that no secret is in an address or in the log, and that no other site uses a
// browser's session. It leaves who has which right to people, and what a scope allows to
// the operations, which name it.
package guard

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"net"
	"net/http"
	"strings"

	"diathermon/internal/api"
	"diathermon/internal/gate"
	"diathermon/internal/people"
	"diathermon/internal/web/desk"
)

// Access lets people in.
type Access struct {
	People *people.People
	log    *slog.Logger
	errors desk.Problems
	cookie string // the session cookie's name
	turns  *turns
}

// NewAccess returns the access to one host. Cookies carry the port in their name:
// browsers share them among the hosts of one computer.
func NewAccess(p *people.People, port int, log *slog.Logger) *Access {
	a := &Access{People: p, log: log, errors: desk.NewProblems(log), cookie: fmt.Sprintf("diathermon-%d", port), turns: newTurns()}
	Know(&a.errors)
	return a
}

// Know adds the errors of people to what is known.
func Know(p *desk.Problems) {
	p.Know(kinds...)
	p.KnowBy(func(err error) *api.Problem {
		var many people.TooManyError
		if !errors.As(err, &many) {
			return nil
		}
		title, detail, _ := strings.Cut(many.Error(), ": ")
		return &api.Problem{Status: http.StatusTooManyRequests, Title: title, Detail: detail}
	})
}

var kinds = []desk.Kind{
	{Err: people.ErrCode, Status: http.StatusUnauthorized, Title: people.ErrCode.Error()},
	{Err: people.ErrSignIn, Status: http.StatusUnauthorized, Title: people.ErrSignIn.Error()},
	{Err: people.ErrMany, Status: http.StatusConflict, Title: people.ErrMany.Error()},
	{Err: people.ErrAsking, Status: http.StatusTooManyRequests, Title: people.ErrAsking.Error()},
	{Err: people.ErrMissing, Status: http.StatusNotFound, Title: "there is no such account, token or pairing"},
	{Err: people.ErrName, Status: http.StatusBadRequest, Title: "this cannot be a name"},
	{Err: people.ErrPassword, Status: http.StatusBadRequest, Title: "this cannot be the password"},
	{Err: people.ErrPasskey, Status: http.StatusBadRequest, Title: people.ErrPasskey.Error()},
	{Err: people.ErrScopes, Status: http.StatusBadRequest, Title: "these scopes cannot be given"},
	{Err: people.ErrLast, Status: http.StatusConflict, Title: "somebody must be able to keep the host"},
}

// bearer returns the token that came with a request, and whether a browser sent
// it by itself.
func (a *Access) bearer(r *http.Request) (token string, cookie bool) {
	if _, password, ok := r.BasicAuth(); ok && byPassword(r) {
		return strings.TrimSpace(password), false
	}
	if header := r.Header.Get("Authorization"); header != "" {
		scheme, token, _ := strings.Cut(header, " ")
		if strings.EqualFold(scheme, "Bearer") {
			return strings.TrimSpace(token), false
		}
		return "", false
	}
	if byPassword(r) { // where no browser's cookie opens
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
		detail := "send it as 'Authorization: Bearer …'; 'diathermon pair' gets one"
		if byPassword(r) {
			detail = "it is the password; the name may be any"
		}
		return nil, &api.Problem{Status: http.StatusUnauthorized, Title: "a token is needed", Detail: detail}
	}
	h, ok := a.People.Find(token)
	if !ok {
		Waits(r.Context())
		if wait := a.People.Refused(r.Context(), addressOf(r)); wait > 0 {
			return nil, a.errors.Of(people.TooManyError{What: "tokens", Wait: wait})
		}
		return nil, &api.Problem{Status: http.StatusUnauthorized, Title: "this token is not known here", Detail: "it was mistyped or withdrawn, or belongs to another host"}
	}
	if (cookie || byPassword(r)) && crossOrigin.Check(r) != nil {
		a.log.Warn("another site's request was refused", "address", addressOf(r), "name", h.Name)
		return nil, &api.Problem{Status: http.StatusForbidden, Title: "another site sent this request", Detail: "use the console at the host's own address"}
	}
	gate.Admit(r.Context(), h.Self())
	a.People.Used(h, addressOf(r))
	ctx, cancel := context.WithCancelCause(r.Context())
	st, _ := ctx.Value(stageKey{}).(*stage)
	w := &passage{holder: h}
	w.Passage = a.People.Pass(h, func() {
		cancel(errOver)
		if st != nil {
			st.end()
		}
	})
	return r.WithContext(context.WithValue(ctx, passageKey{}, w)), nil
}

type passageKey struct{}

// passage is a request that was let in.
type passage struct {
	*people.Passage
	holder *people.Holder
}

func passageOf(ctx context.Context) *passage {
	w, _ := ctx.Value(passageKey{}).(*passage)
	return w
}

// Holder is who has the token that a request came with; nil: there was none.
func Holder(ctx context.Context) *people.Holder {
	if w := passageOf(ctx); w != nil {
		return w.holder
	}
	return nil
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

func byPassword(r *http.Request) bool { return r.Context().Value(passwordKey{}) != nil }

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
		a.serve(w, admitted, next)
	})
}

// RequiredOrSignIn sends a person without a token to the sign-in page.
func (a *Access) RequiredOrSignIn(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		admitted, p := a.admit(r)
		if p != nil {
			http.Redirect(w, r, Base(r.Context())+"/sign-in", http.StatusSeeOther)
			return
		}
		a.serve(w, admitted, next)
	})
}

// serve lets a request go on that was let in.
func (a *Access) serve(w http.ResponseWriter, r *http.Request, next http.Handler) {
	in := passageOf(r.Context())
	defer in.Close()
	defer a.inTurn(r, in.holder.Self())()
	next.ServeHTTP(w, r)
	if st, ok := r.Context().Value(stageKey{}).(*stage); ok {
		st.close(w.Header())
	}
}

// Caller is the name of who sent a request: a person's or a program's.
func Caller(ctx context.Context) string {
	if h := Holder(ctx); h != nil {
		return h.Caller()
	}
	return ""
}

// notGood is the problem of a request that goes on when its token has ended.
var notGood = &api.Problem{Status: http.StatusUnauthorized, Title: "this token is not good any more", Detail: "it was withdrawn, or has expired, while the request was under way"}

// Self is who sent a request, whatever they are called: the ID of a person, or of a token.
func Self(ctx context.Context) string {
	if h := Holder(ctx); h != nil {
		return h.Self()
	}
	return ""
}

// Lacking returns the problem of a holder without the scope, or nil: then the request goes
// by it from now on, and ends with it.
func (a *Access) Lacking(ctx context.Context, scope string) *api.Problem {
	w := passageOf(ctx)
	switch {
	case w != nil && w.May(scope):
		return nil
	case w != nil && !w.holder.Good():
		return notGood
	case w != nil && w.holder.Account != "":
		return &api.Problem{Status: http.StatusForbidden, Title: fmt.Sprintf("your account may not do that: its role has not got the right %q", scope), Detail: "ask a keeper"}
	}
	return &api.Problem{Status: http.StatusForbidden, Title: fmt.Sprintf("this token may not do that: it lacks the scope %q", scope), Detail: "use a token that has it"}
}

// familiar reports whether whoever sends a request was in before, from this browser or this
// network.
func (a *Access) familiar(r *http.Request) bool { return a.People.Familiar(addressOf(r), a.mark(r)) }

// mark is what a browser is known by that has signed in before.
func (a *Access) mark(r *http.Request) string {
	if c, err := r.Cookie(a.knownCookie()); err == nil {
		return c.Value
	}
	return ""
}

// knownCookie is the name of it.
func (a *Access) knownCookie() string { return a.cookie + "-known" }

// addressOf is where a request comes from.
func addressOf(r *http.Request) string {
	host, _, err := net.SplitHostPort(r.RemoteAddr)
	if err != nil {
		return r.RemoteAddr
	}
	return host
}
