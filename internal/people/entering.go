package people

import (
	"cmp"
	"context"
	"crypto/rand"
	"fmt"
	"slices"
	"strings"
	"time"

	"diathermon/internal/core/access"
)

const (
	codeLife    = 24 * time.Hour
	sessionLife = 90 * 24 * time.Hour

	mostTokens     = 300 // of programs, together
	mostGiven      = 100 // of these, that one person or token has given
	mostSessions   = 200 // of browsers, together
	mostOfAnybody  = 20  // of these, of one person: of more the one goes that is not used
	mostCodes      = 500 // that wait to be used
	codeIsNone     = "it was used already, is too old or was mistyped; take the token from the file keeper-token in the data folder, or restart the service for a new link"
	tokensAreMany  = "there are %d already; withdraw some in Setup, or start the service with --withdraw-tokens"
	longerThanSelf = "you may use this host until %s yourself"
)

// A right is what somebody has to give to a browser or a program, and for how long.
type right struct {
	account string // whose browser it becomes; empty: nobody's
	scopes  string // of a program, or of nobody's browser
	giver   string // with whose rights it ends; empty: the host
	until   *time.Time
}

// everything is what the host itself gives.
var everything = right{scopes: access.All}

// right is what a holder may give at the most: what it has.
func (h *Holder) right() right {
	return right{h.Account, strings.Join(h.May(), " "), h.ID, h.until()}
}

// expires is when something ends that is given for so long; nil: with the right.
func (r right) expires(wish *time.Time) *time.Time {
	if wish == nil || r.until != nil && r.until.Before(*wish) {
		return r.until
	}
	return wish
}

// session is a browser's token.
func (r right) session(from string) access.Token {
	life := time.Now().Add(sessionLife).UTC()
	t := access.Token{Name: ConsoleName, Session: true, Expires: r.expires(&life), Account: r.account, Maker: from, Giver: r.giver}
	if r.account == "" {
		t.Scopes = r.scopes
	}
	return t
}

// A code signs in once.
type code struct {
	right
	expires time.Time
}

// Code returns a new one-time code of the host's own. Whoever has it may sign in once, and
// do everything.
func (p *People) Code() string { return p.codeFor(everything) }

func (p *People) codeFor(r right) string {
	text := rand.Text()
	p.mu.Lock()
	defer p.mu.Unlock()
	var oldest string
	for c, known := range p.codes {
		if known.expires.Before(time.Now()) {
			delete(p.codes, c)
		} else if oldest == "" || known.expires.Before(p.codes[oldest].expires) {
			oldest = c
		}
	}
	if len(p.codes) >= mostCodes {
		delete(p.codes, oldest)
	}
	p.codes[text] = code{r, time.Now().Add(codeLife)}
	return text
}

// Spend takes a one-time code, or a token that may let others in, and returns a new token
// of the given name for it: a session, or a program's. It may do what the one may that it
// came of, for as long. Wrong codes are answered slowly.
func (p *People) Spend(ctx context.Context, from, text, name string, session bool) (string, error) {
	p.mu.Lock()
	known, ok := p.codes[text]
	delete(p.codes, text)
	p.mu.Unlock()
	r := known.right
	if ok = ok && known.expires.After(time.Now()); !ok {
		var h *Holder
		if h, ok = p.Find(text); ok {
			r = h.right()
			ok = slices.Contains(strings.Fields(r.scopes), access.Keep)
		}
	}
	if !ok {
		p.log.Warn("a code was refused", "address", from, "for", name)
		if wait := p.wrongCodes.wrong(ctx, from); wait > 0 {
			return "", TooManyError{"codes", wait}
		}
		return "", fmt.Errorf("%w: %s", ErrCode, codeIsNone)
	}
	if session {
		return p.enter(ctx, from, r.session(from))
	}
	return p.enter(ctx, from, access.Token{Name: name, Scopes: r.scopes, Maker: from, Giver: r.giver, Expires: r.until})
}

// enter gives a new token to somebody who has shown a right to it.
func (p *People) enter(ctx context.Context, from string, t access.Token) (string, error) {
	if err := p.room(ctx, t); err != nil {
		return "", err
	}
	token := rand.Text()
	h, err := p.put(ctx, token, t)
	if err != nil {
		return "", err
	}
	if t.Session {
		p.familiar.seen(h.Self(), from, time.Now())
	}
	p.log.Info("signed in", "address", from, "name", h.Caller(), "session", t.Session)
	return token, nil
}

// room makes room for a new token. A browser is never refused, whoever has signed in how
// often: the session goes for it that its person uses least, or else one of whoever has
// most of them.
func (p *People) room(ctx context.Context, t access.Token) error {
	alike := p.holders(func(h *Holder) bool { return h.Session == t.Session })
	whose := func(t access.Token) string { return cmp.Or(t.Account, t.Giver) }
	of := map[string][]*Holder{}
	for _, h := range alike {
		of[whose(h.Token)] = append(of[whose(h.Token)], h)
	}
	if !t.Session {
		if len(alike) >= mostTokens || t.Giver != "" && len(of[t.Giver]) >= mostGiven {
			return fmt.Errorf("%w: "+tokensAreMany, ErrMany, len(alike))
		}
		return nil
	}
	from := of[whose(t)]
	if len(alike) >= mostSessions && len(from) < mostOfAnybody {
		most := 0
		for _, all := range of {
			most = max(most, len(all))
		}
		from = nil
		for _, all := range of {
			if len(all) == most {
				from = append(from, all...)
			}
		}
	} else if len(from) < mostOfAnybody {
		return nil
	}
	return p.Retire(ctx, slices.MinFunc(from, func(a, b *Holder) int { return p.lastUse(a).Compare(p.lastUse(b)) }))
}

// lastUse is when a token was used last, or made.
func (p *People) lastUse(h *Holder) time.Time {
	p.mu.Lock()
	defer p.mu.Unlock()
	if t := h.seen(); t.Used != nil {
		return *t.Used
	}
	return h.Created
}

// given is the token that somebody may give to a program: of what they have themselves, for
// as long as they have it.
func given(maker *Holder, name string, scopes []string, expires *time.Time) (access.Token, error) {
	var none access.Token
	if err := ProgramName(name); err != nil {
		return none, err
	}
	all, ok := access.Asked(scopes)
	if !ok {
		return none, fmt.Errorf("%w: %q; they are some of %s", ErrScopes, scopes, access.All)
	}
	r := maker.right()
	if has := strings.Fields(r.scopes); len(access.Both(strings.Fields(all), has)) < len(strings.Fields(all)) {
		return none, fmt.Errorf("%w: you may %s yourself, and %q is more than that", ErrScopes, r.scopes, all)
	}
	switch {
	case expires != nil && !expires.After(time.Now()):
		return none, fmt.Errorf("%w: it would have expired on %s", ErrScopes, expires.Format(time.DateOnly))
	case expires != nil && r.until != nil && expires.After(*r.until):
		return none, fmt.Errorf("%w: "+longerThanSelf, ErrScopes, r.until.Format(time.DateOnly))
	}
	return access.Token{Name: name, Scopes: all, Maker: maker.Caller(), Giver: maker.ID, Expires: r.expires(expires)}, nil
}

// MakeToken makes a token for a program. Nobody gives what they have not.
func (p *People) MakeToken(ctx context.Context, maker *Holder, name string, scopes []string, expires *time.Time) (string, access.Token, error) {
	t, err := given(maker, name, scopes, expires)
	if err != nil {
		return "", access.Token{}, err
	}
	token, err := p.enter(ctx, maker.Caller(), t)
	if err != nil {
		return "", access.Token{}, err
	}
	h, ok := p.Find(token)
	if !ok {
		return "", access.Token{}, errGiver
	}
	return token, h.Token, nil
}

// covers says why somebody cannot give a role to anybody, or take one's account over by
// another password: an account has no end, and may do what its role may.
func (by *Holder) covers(role access.Role) error {
	r := by.right()
	if wants := role.Scopes(); len(access.Both(wants, strings.Fields(r.scopes))) < len(wants) {
		return fmt.Errorf("%w: a %s may %s, and you may %s yourself", ErrScopes, role, strings.Join(wants, " "), r.scopes)
	}
	if r.until != nil {
		return fmt.Errorf("%w: "+longerThanSelf+", and an account has no end", ErrScopes, r.until.Format(time.DateOnly))
	}
	return nil
}
