package people

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"diathermon/internal/core/access"
)

// What a token may do is what it was given, as far as whoever gave it may do that still;
// and it ends with whoever gave it. So nobody needs to ask what a right that was taken
// away has made of itself meanwhile.

// errGiver means that something was given by whom the host does not let in any more.
var errGiver = fmt.Errorf("%w: whoever gave it may not use this host any more", ErrMissing)

// Holder is who has a token.
type Holder struct {
	access.Token

	people *People
	use    *use // guarded by people
}

// use is when a token was used last.
type use struct {
	at   time.Time
	from string    // the address
	kept time.Time // the last of these that is kept
}

// Expired reports whether the token has become too old.
func (h *Holder) Expired() bool { return h.Expires != nil && h.Expires.Before(time.Now()) }

// Self is who it is, whatever they are called: a person, or else the token.
func (h *Holder) Self() string {
	if h.Account != "" {
		return h.Account
	}
	return h.ID
}

// Person is the account whose session it is.
func (h *Holder) Person() (access.Account, bool) {
	h.people.mu.Lock()
	defer h.people.mu.Unlock()
	if a := h.people.accounts[h.Account]; a != nil {
		return *a, true
	}
	return access.Account{}, false
}

// Caller is who it is, in words: the person, or the program.
func (h *Holder) Caller() string {
	if a, ok := h.Person(); ok {
		return a.Name
	}
	return h.Name
}

// May are the scopes that it has now; none, if it was withdrawn or has expired.
func (h *Holder) May() []string {
	h.people.mu.Lock()
	defer h.people.mu.Unlock()
	return h.people.may(h)
}

// Good reports whether it was not withdrawn and has not expired.
func (h *Holder) Good() bool {
	h.people.mu.Lock()
	defer h.people.mu.Unlock()
	return h.people.byID[h.ID] != nil && !h.Expired()
}

// until is when the right ends that a token stands for; nil: never.
func (h *Holder) until() *time.Time {
	h.people.mu.Lock()
	defer h.people.mu.Unlock()
	return h.people.until(h.Token)
}

// until is Holder.until. A browser has to sign in again after a while: the right goes on that
// its person, the host's own code, or another token has given it. The lock is held.
func (p *People) until(t access.Token) *time.Time {
	if !t.Session {
		return t.Expires
	}
	if giver := p.byID[t.Giver]; t.Account == "" && giver != nil {
		return p.until(giver.Token)
	}
	return nil
}

// may is May; the lock is held.
func (p *People) may(h *Holder) []string {
	now := p.byID[h.ID]
	if now == nil || now.Expired() {
		return nil
	}
	return p.scopes(now.Token)
}

// scopes are those of a token by what it was given and by who gave it; the lock is held.
func (p *People) scopes(t access.Token) []string {
	own := strings.Fields(t.Scopes)
	if t.Account != "" {
		if own = nil; p.accounts[t.Account] != nil {
			own = p.accounts[t.Account].Role.Scopes()
		}
	}
	if t.Giver == "" {
		return own
	}
	if a := p.accounts[t.Giver]; a != nil {
		return access.Both(own, a.Role.Scopes())
	}
	if giver := p.byID[t.Giver]; giver != nil {
		return access.Both(own, p.scopes(giver.Token))
	}
	return nil
}

// stands reports whether a giver is there still; the lock is held.
func (p *People) stands(giver string) bool {
	h := p.byID[giver]
	return p.accounts[giver] != nil || h != nil && !h.Expired()
}

// heir is who answers for what a token has given once it has ended in good order: a
// browser that is signed out takes nothing away from the person.
func heir(t access.Token) string {
	if t.Account != "" {
		return t.Account
	}
	return t.Giver
}

// roots are a token, or a person and all browsers of theirs; the lock is held.
func (p *People) roots(id string) []string {
	out := []string{id}
	for _, h := range p.byID {
		if h.Account == id {
			out = append(out, h.ID)
		}
	}
	return out
}

// givenBy are the tokens that one, or an account, has given, those that these have given
// among them; the lock is held.
func (p *People) givenBy(id string) []*Holder {
	var out []*Holder
	for from := p.roots(id); len(from) > 0; from = from[1:] {
		for _, h := range p.byID {
			if h.Giver == from[0] && !slices.Contains(out, h) {
				out, from = append(out, h), append(from, h.ID)
			}
		}
	}
	return out
}

// Given is what a token, or an account, has given, in words: what ends with it, and whose
// accounts were made with it.
func (p *People) Given(id string) (tokens []string, accounts []access.Account) {
	p.mu.Lock()
	defer p.mu.Unlock()
	by := map[string]bool{}
	for _, root := range p.roots(id) {
		by[root] = true
	}
	for _, h := range p.givenBy(id) {
		if by[h.ID] { // a browser of the same person
			continue
		}
		by[h.ID] = true
		name := h.Name
		if a := p.accounts[h.Account]; a != nil {
			name = a.Name
		}
		tokens = append(tokens, name)
	}
	for _, a := range p.accounts {
		if by[a.Giver] && a.ID != id {
			accounts = append(accounts, *a)
		}
	}
	slices.Sort(tokens)
	slices.SortFunc(accounts, func(a, b access.Account) int { return strings.Compare(a.ID, b.ID) })
	return tokens, accounts
}
