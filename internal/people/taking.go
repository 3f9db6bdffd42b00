package people

import (
	"cmp"
	"context"
	"crypto/sha256"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"diathermon/internal/core/access"
)

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
	p.writing.Lock()
	defer p.writing.Unlock()
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
	p.writing.Lock()
	defer p.writing.Unlock()
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
	p.writing.Lock()
	defer p.writing.Unlock()
	if !p.there(t.ID) {
		return nil
	}
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
	if _, err := p.removable(id); err != nil { // before anything is done
		return err
	}
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
