package people

import (
	"cmp"
	"context"
	"crypto/sha256"
	"errors"
	"fmt"
	"slices"
	"strings"
	"sync"
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

// wholeFor is how long the database may take to keep what has been taken away.
const wholeFor = 20 * time.Second

// whole goes on where who asks loses the right to it by what is asked for.
func whole(ctx context.Context) (context.Context, context.CancelFunc) {
	return context.WithTimeout(context.WithoutCancel(ctx), wholeFor)
}

// Withdraw makes a token worthless, at once, and everything that it has given: also on the
// connections on which it is in use.
func (p *People) Withdraw(ctx context.Context, h *Holder, by string) error {
	ctx, cancel := whole(ctx)
	defer cancel()
	p.mu.Lock()
	all := append([]*Holder{h}, p.givenBy(h.ID)...)
	var keys []string
	for id, k := range p.passkeys {
		if slices.ContainsFunc(all, func(o *Holder) bool { return o.ID == k.Giver }) {
			keys = append(keys, id)
			delete(p.passkeys, id)
		}
	}
	for _, one := range all {
		p.forget(one)
	}
	p.mu.Unlock()
	p.look()
	var failed error
	for _, one := range all {
		p.log.Info("a token was withdrawn", "by", by, "name", one.Name)
		if err := p.kept.DeleteToken(ctx, one.ID); err != nil {
			failed = fmt.Errorf("the token of %s is dead until the service is started again, and the database does not take that for good: %w", one.Name, err)
		}
	}
	for _, id := range keys {
		failed = errors.Join(failed, p.kept.DeletePasskey(ctx, id))
	}
	return failed
}

// Retire ends a token in good order, as when a browser signs out: what it has given stays,
// and is its person's.
func (p *People) Retire(ctx context.Context, h *Holder) error {
	ctx, cancel := whole(ctx)
	defer cancel()
	if err := p.handOver(ctx, h.ID, heir(h.Token)); err != nil {
		return err
	}
	p.mu.Lock()
	p.forget(h)
	p.mu.Unlock()
	p.look()
	return p.kept.DeleteToken(ctx, h.ID)
}

// forget drops a token; the lock is held.
func (p *People) forget(h *Holder) {
	if now := p.byID[h.ID]; now != nil {
		delete(p.byID, h.ID)
		delete(p.byHash, [sha256.Size]byte(now.Hash))
	}
}

// handOver lets another answer, from now on, for what a token or an account has given.
func (p *People) handOver(ctx context.Context, from, to string) error {
	p.mu.Lock()
	var tokens []access.Token
	for _, h := range p.byID {
		if h.Giver == from {
			t := h.seen()
			t.Giver = to
			tokens = append(tokens, t)
		}
	}
	var keys []access.Passkey
	for _, k := range p.passkeys {
		if k.Giver == from {
			k.Giver = ""
			keys = append(keys, k)
		}
	}
	p.mu.Unlock()
	for _, t := range tokens {
		if err := p.replace(ctx, t); err != nil {
			return err
		}
	}
	for _, k := range keys {
		if err := p.keepPasskey(ctx, k); err != nil {
			return err
		}
	}
	return nil
}

// replace keeps a token that has changed, if it is there still.
func (p *People) replace(ctx context.Context, t access.Token) error {
	if err := p.kept.PutToken(ctx, t); err != nil {
		return err
	}
	p.mu.Lock()
	defer p.mu.Unlock()
	if now := p.byID[t.ID]; now != nil {
		h := &Holder{Token: t, people: p, use: now.use}
		p.byID[t.ID], p.byHash[[sha256.Size]byte(t.Hash)] = h, h
	}
	return nil
}

// TakeOver makes what a token or an account has given somebody else's, who must have every
// right that is in it: what is taken away then takes nothing more along.
func (p *People) TakeOver(ctx context.Context, from string, by *Holder) error {
	if err := p.takes(from, by); err != nil {
		return err
	}
	p.mu.Lock()
	roots := p.roots(from)
	p.mu.Unlock()
	for _, root := range roots {
		if err := p.handOver(ctx, root, cmp.Or(by.Account, by.ID)); err != nil {
			return err
		}
	}
	return nil
}

// takes says why what one has given cannot be somebody else's, or nil.
func (p *People) takes(from string, by *Holder) error {
	p.mu.Lock()
	defer p.mu.Unlock()
	mine, until := p.may(by), p.until(by.Token)
	for _, h := range p.givenBy(from) {
		has := p.scopes(h.Token)
		switch {
		case h.ID == by.ID && by.Account == "":
			return fmt.Errorf("%w: your own right comes of it", ErrScopes)
		case len(access.Both(has, mine)) < len(has):
			return fmt.Errorf("%w: %s may do what you may not (%s), so that it cannot be yours", ErrScopes, h.Name, strings.Join(has, ", "))
		case until != nil && (h.Expires == nil || h.Expires.After(*until)):
			return fmt.Errorf("%w: %s is good for longer than you are yourself", ErrScopes, h.Name)
		}
	}
	return nil
}

// Becomes is what becomes of what a token or an account has given when it is taken away.
type Becomes string

// What may become of it.
const (
	Ends    Becomes = "end"       // it ends, too; accounts that were made with it stay
	EndsAll Becomes = "end-all"   // and these accounts go
	Taken   Becomes = "take-over" // it is from now on of whoever takes the rest away
)

// dispose does with what one has given what is asked for, before it is taken away.
func (p *People) dispose(ctx context.Context, id string, what Becomes, by *Holder) error {
	switch what {
	case Taken:
		return p.TakeOver(ctx, id, by)
	case EndsAll:
		_, accounts := p.Given(id)
		for _, a := range accounts {
			if a.ID == by.Account {
				return fmt.Errorf("%w: your own account is among what it has made", ErrLast)
			}
			if err := p.RemoveAccount(ctx, a.ID); err != nil && !errors.Is(err, ErrMissing) {
				return err
			}
		}
	}
	return nil
}

// TakeAway withdraws a token, and says what becomes of what it has given.
func (p *People) TakeAway(ctx context.Context, h *Holder, what Becomes, by *Holder) error {
	if err := p.dispose(ctx, h.ID, what, by); err != nil {
		return err
	}
	return p.Withdraw(ctx, h, by.Caller())
}

// TakeAwayAccount removes an account, and says what becomes of what it has given.
func (p *People) TakeAwayAccount(ctx context.Context, id string, what Becomes, by *Holder) error {
	if err := p.dispose(ctx, id, what, by); err != nil {
		return err
	}
	return p.RemoveAccount(ctx, id)
}

// settle drops tokens that have expired, or whose giver or person is not there any more.
func (p *People) settle(ctx context.Context) error {
	for {
		p.mu.Lock()
		var out *Holder
		for _, h := range p.byID {
			if h.Expired() || h.Account != "" && p.accounts[h.Account] == nil || h.Giver != "" && p.byID[h.Giver] == nil && p.accounts[h.Giver] == nil {
				out = h
				break
			}
		}
		p.mu.Unlock()
		if out == nil {
			return nil
		}
		if err := p.Retire(ctx, out); err != nil {
			return err
		}
	}
}

// A Passage is a request that goes on by its holder's rights. It ends when one of those
// does that it goes by.
type Passage struct {
	holder *Holder
	end    func()
	late   *time.Timer // when the token expires; nil: never

	mu   sync.Mutex
	by   []string // the scopes that it has been asked for
	over bool
}

// Pass begins a passage; end is called, once, when it has to end, and not after Close, which
// must be called.
func (p *People) Pass(h *Holder, end func()) *Passage {
	w := &Passage{holder: h, end: end}
	p.mu.Lock()
	p.passages[w] = true
	p.mu.Unlock()
	if h.Expires != nil {
		w.late = time.AfterFunc(time.Until(*h.Expires)+time.Millisecond, w.look)
	}
	w.look() // it may have been withdrawn since it was found
	return w
}

// Close says that the request is over.
func (w *Passage) Close() {
	if w.late != nil {
		w.late.Stop()
	}
	w.mu.Lock()
	w.over = true
	w.mu.Unlock()
	p := w.holder.people
	p.mu.Lock()
	defer p.mu.Unlock()
	delete(p.passages, w)
}

// May reports whether the holder has a scope. If so the request goes by it from now on.
func (w *Passage) May(scope string) bool {
	w.mu.Lock()
	if !slices.Contains(w.by, scope) {
		w.by = append(w.by, scope) // before it is looked, so that no change is missed
	}
	w.mu.Unlock()
	if slices.Contains(w.holder.May(), scope) {
		return true
	}
	w.mu.Lock()
	defer w.mu.Unlock()
	w.by = slices.DeleteFunc(w.by, func(s string) bool { return s == scope })
	return false
}

// look ends the passage if one of its rights has gone.
func (w *Passage) look() {
	good, may := w.holder.Good(), w.holder.May()
	w.mu.Lock()
	defer w.mu.Unlock() // until it has ended: it is not closed meanwhile
	if !w.over && (!good || slices.ContainsFunc(w.by, func(s string) bool { return !slices.Contains(may, s) })) {
		w.over = true
		w.end()
	}
}

// look ends what goes on by rights that have gone.
func (p *People) look() {
	p.mu.Lock()
	all := make([]*Passage, 0, len(p.passages))
	for w := range p.passages {
		all = append(all, w)
	}
	p.mu.Unlock()
	for _, w := range all {
		w.look()
	}
}
