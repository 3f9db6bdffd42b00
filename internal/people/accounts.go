package people

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"github.com/google/uuid"
	"golang.org/x/text/unicode/norm"

	"diathermon/internal/core/access"
)

// Accounts returns the persons, in the order of their making.
func (p *People) Accounts() []access.Account {
	p.mu.Lock()
	defer p.mu.Unlock()
	out := make([]access.Account, 0, len(p.accounts))
	for _, a := range p.accounts {
		out = append(out, *a)
	}
	slices.SortFunc(out, func(a, b access.Account) int { return strings.Compare(a.ID, b.ID) })
	return out
}

// Fresh reports whether the host has nobody's account yet.
func (p *People) Fresh() bool {
	p.mu.Lock()
	defer p.mu.Unlock()
	return len(p.accounts) == 0
}

// named returns the account of a name, however it is written.
func (p *People) named(name string) *access.Account {
	name = norm.NFKC.String(strings.TrimSpace(name))
	for _, a := range p.accounts {
		if strings.EqualFold(norm.NFKC.String(a.Name), name) {
			return a
		}
	}
	return nil
}

// MakeAccount makes an account, of a role in which nobody may do more than who makes it.
func (p *People) MakeAccount(ctx context.Context, by *Holder, name string, role access.Role, password string) (access.Account, error) {
	var none access.Account
	name = norm.NFC.String(name)
	if err := visible(name); err != nil {
		return none, err
	}
	if !role.Known() {
		return none, fmt.Errorf("%w: there is no role %q; there are %v", ErrScopes, role, access.Roles)
	}
	if err := by.covers(role); err != nil {
		return none, err
	}
	if err := checkPassword(password, name); err != nil {
		return none, err
	}
	id, err := uuid.NewV7()
	if err != nil {
		return none, err
	}
	a := access.Account{ID: id.String(), Name: name, Role: role, Password: hashed(password), Created: time.Now().UTC().Truncate(time.Millisecond), Maker: by.Caller(), Giver: by.ID}
	p.changing.Lock()
	defer p.changing.Unlock()
	p.mu.Lock()
	taken, many := p.named(name) != nil, len(p.accounts) >= mostPersons
	p.mu.Unlock()
	switch {
	case taken:
		return none, fmt.Errorf("%w: somebody is called %q already", ErrName, name)
	case many:
		return none, fmt.Errorf("%w: there are %d accounts", ErrName, mostPersons)
	}
	if err := p.kept.PutAccount(ctx, a); err != nil {
		return none, err
	}
	p.mu.Lock()
	p.accounts[a.ID] = &a
	p.mu.Unlock()
	p.log.Info("an account was made", "name", a.Name, "role", a.Role)
	return a, nil
}

// Become makes the session of somebody who has shown a right to everything that of an
// account.
func (p *People) Become(ctx context.Context, h *Holder, a access.Account) error {
	p.mu.Lock()
	t := h.seen()
	p.mu.Unlock()
	t.Account, t.Scopes, t.Giver = a.ID, "", ""
	return p.replace(ctx, t)
}

// A Change is what is changed of an account; nil is left as it is.
type Change struct {
	Role     *access.Role
	Password *string
}

// ChangeAccount changes an account. With another password all its sessions end but the
// one that asks, if it is one of them. Nobody makes more of anybody than they are
// themselves, nor takes the place of somebody who may do more.
func (p *People) ChangeAccount(ctx context.Context, id string, c Change, asks *Holder) (access.Account, error) {
	ctx, cancel := whole(ctx)
	defer cancel()
	p.changing.Lock()
	defer p.changing.Unlock()
	p.mu.Lock()
	known := p.accounts[id]
	p.mu.Unlock()
	if known == nil {
		return access.Account{}, ErrMissing
	}
	a := *known
	if c.Role != nil {
		if !c.Role.Known() {
			return a, fmt.Errorf("%w: there is no role %q; there are %v", ErrScopes, *c.Role, access.Roles)
		}
		if err := asks.covers(*c.Role); err != nil && len(c.Role.Scopes()) > len(a.Role.Scopes()) {
			return a, err
		}
		if a.Role = *c.Role; a.Role != access.Keeper && p.lastKeeper(id) {
			return a, fmt.Errorf("%w: %s is the last keeper; make another one first", ErrLast, a.Name)
		}
	}
	if c.Password != nil {
		if err := asks.covers(a.Role); err != nil && asks.Account != a.ID {
			return a, err
		}
		if err := checkPassword(*c.Password, a.Name); err != nil {
			return a, err
		}
		a.Password = hashed(*c.Password)
	}
	if err := p.kept.PutAccount(ctx, a); err != nil {
		return a, err
	}
	p.mu.Lock()
	p.accounts[id] = &a
	p.mu.Unlock()
	p.look()
	p.log.Info("an account was changed", "name", a.Name, "role", a.Role, "password", c.Password != nil)
	if c.Password != nil {
		for _, h := range p.holders(func(h *Holder) bool { return h.Account == id && h.ID != asks.ID }) {
			if err := p.Retire(ctx, h); err != nil {
				return a, err
			}
		}
	}
	return a, nil
}

// lastKeeper reports whether nobody else is a keeper.
func (p *People) lastKeeper(id string) bool {
	p.mu.Lock()
	defer p.mu.Unlock()
	for _, a := range p.accounts {
		if a.ID != id && a.Role == access.Keeper {
			return false
		}
	}
	return p.accounts[id] != nil && p.accounts[id].Role == access.Keeper
}

// removable is an account that can be removed, or why not.
func (p *People) removable(id string) (*access.Account, error) {
	p.mu.Lock()
	a, others := p.accounts[id], len(p.accounts) > 1
	p.mu.Unlock()
	switch {
	case a == nil:
		return nil, ErrMissing
	case others && p.lastKeeper(id):
		return nil, fmt.Errorf("%w: %s is the last keeper; make another one first", ErrLast, a.Name)
	}
	return a, nil
}

// RemoveAccount removes an account, ends its sessions and what they have given. The last
// keeper's goes only as the last of all.
func (p *People) RemoveAccount(ctx context.Context, id string) error {
	ctx, cancel := whole(ctx)
	defer cancel()
	p.changing.Lock()
	defer p.changing.Unlock()
	a, err := p.removable(id)
	if err != nil {
		return err
	}
	if err := p.kept.DeleteAccount(ctx, id); err != nil {
		return err
	}
	p.mu.Lock()
	delete(p.accounts, id)
	maps.DeleteFunc(p.passkeys, func(_ string, k access.Passkey) bool { return k.Account == id })
	p.mu.Unlock()
	p.log.Info("an account was removed", "name", a.Name)
	var failed error
	for _, h := range p.holders(func(h *Holder) bool { return h.Account == id || h.Giver == id }) {
		if h.Good() { // not ended by one before it
			failed = errors.Join(failed, p.Withdraw(ctx, h, a.Name))
		}
	}
	return failed
}

// SignIn returns a new session's token for a name and a password, which come from an address
// and from a browser that has kept a mark. Whether it is the name or the password that is
// wrong is not told, and not to be seen from how long it takes.
func (p *People) SignIn(ctx context.Context, from, mark, name, password string) (string, error) {
	p.mu.Lock()
	a := access.Account{Password: nobodys()}
	if found := p.named(name); found != nil {
		a = *found
	}
	p.mu.Unlock()
	known := p.familiar.knows(a.ID, mark, from)
	if !p.familiar.marked(a.ID, mark) {
		mark = ""
	}
	if wait := p.signIns.admit(from, mark, known, a.ID, time.Now()); wait > 0 {
		return "", TooManyError{"passwords", wait}
	}
	if len(password) > 4*longestPassword || !p.signIns.matches(a.Password, password, known) || a.ID == "" {
		p.log.Warn("a password was refused", "address", from, "name", name)
		return "", fmt.Errorf("%w: try again; a keeper can give you another password, and on the host itself 'diathermon allow' lets you in without one", ErrSignIn)
	}
	p.signIns.forgive(from, mark, a.ID)
	if !strings.HasPrefix(a.Password, costs) { // kept by an older version
		p.rehash(ctx, a, password)
	}
	return p.enter(ctx, from, right{account: a.ID}.session(from))
}

// rehash keeps a password that is right at the costs of now.
func (p *People) rehash(ctx context.Context, a access.Account, password string) {
	p.changing.Lock()
	defer p.changing.Unlock()
	p.mu.Lock()
	known := p.accounts[a.ID]
	p.mu.Unlock()
	if known == nil || known.Password != a.Password { // it was changed meanwhile
		return
	}
	now := *known
	now.Password = hashed(password)
	if p.kept.PutAccount(ctx, now) != nil { // the next time
		return
	}
	p.mu.Lock()
	defer p.mu.Unlock()
	p.accounts[now.ID] = &now
}

// ErrNoAccount means that who asks is no person with an account.
var ErrNoAccount = fmt.Errorf("%w: this is nobody's session", ErrMissing)

// ChangePassword changes one's own password, by the one before it.
func (p *People) ChangePassword(ctx context.Context, h *Holder, old, password string) error {
	a, ok := h.Person()
	if !ok {
		return ErrNoAccount
	}
	if wait := p.signIns.admit("", p.Mark(h), true, a.ID, time.Now()); wait > 0 {
		return TooManyError{"passwords", wait}
	}
	if !p.signIns.matches(a.Password, old, true) {
		return fmt.Errorf("%w: the old one is another", ErrPassword)
	}
	_, err := p.ChangeAccount(ctx, a.ID, Change{Password: &password}, h)
	return err
}
