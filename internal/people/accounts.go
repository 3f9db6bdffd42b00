package people

import (
	"context"
	"crypto/sha256"
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

// MakeAccount makes an account.
func (p *People) MakeAccount(ctx context.Context, name string, role access.Role, password string) (access.Account, error) {
	var none access.Account
	name = norm.NFC.String(name)
	if err := visible(name); err != nil {
		return none, err
	}
	if !role.Known() {
		return none, fmt.Errorf("%w: there is no role %q; there are %v", ErrScopes, role, access.Roles)
	}
	if err := checkPassword(password, name); err != nil {
		return none, err
	}
	id, err := uuid.NewV7()
	if err != nil {
		return none, err
	}
	a := access.Account{ID: id.String(), Name: name, Role: role, Password: hashed(password), Created: time.Now().UTC().Truncate(time.Millisecond)}
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
	t.Account, t.Scopes = a.ID, ""
	if err := p.kept.PutToken(ctx, t); err != nil {
		return err
	}
	p.mu.Lock()
	defer p.mu.Unlock()
	if hash := [sha256.Size]byte(t.Hash); p.byHash[hash] == h {
		p.byHash[hash] = &Holder{Token: t, gone: h.gone, people: p, use: h.use}
	}
	return nil
}

// A Change is what is changed of an account; nil is left as it is.
type Change struct {
	Role     *access.Role
	Password *string
}

// ChangeAccount changes an account. With another password all its sessions end but the
// one that asks, if it is one of them.
func (p *People) ChangeAccount(ctx context.Context, id string, c Change, asks *Holder) (access.Account, error) {
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
		if a.Role = *c.Role; a.Role != access.Keeper && p.lastKeeper(id) {
			return a, fmt.Errorf("%w: %s is the last keeper; make another one first", ErrLast, a.Name)
		}
	}
	if c.Password != nil {
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
	p.log.Info("an account was changed", "name", a.Name, "role", a.Role, "password", c.Password != nil)
	if c.Password != nil {
		for _, h := range p.holders(func(h *Holder) bool { return h.Account == id && h != asks }) {
			if err := p.Withdraw(ctx, h, a.Name); err != nil {
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

// RemoveAccount removes an account and ends its sessions. The last keeper's goes only as
// the last of all.
func (p *People) RemoveAccount(ctx context.Context, id string) error {
	p.changing.Lock()
	defer p.changing.Unlock()
	p.mu.Lock()
	a, others := p.accounts[id], len(p.accounts) > 1
	p.mu.Unlock()
	switch {
	case a == nil:
		return ErrMissing
	case others && p.lastKeeper(id):
		return fmt.Errorf("%w: %s is the last keeper; make another one first", ErrLast, a.Name)
	}
	if err := p.kept.DeleteAccount(ctx, id); err != nil {
		return err
	}
	p.mu.Lock()
	delete(p.accounts, id)
	maps.DeleteFunc(p.passkeys, func(_ string, k access.Passkey) bool { return k.Account == id })
	p.mu.Unlock()
	p.log.Info("an account was removed", "name", a.Name)
	for _, h := range p.holders(func(h *Holder) bool { return h.Account == id }) {
		if err := p.Withdraw(ctx, h, a.Name); err != nil {
			return err
		}
	}
	return nil
}

// SignIn returns a new session's token for a name and a password, and what its browser
// should keep to be known by. Whether it is the name or the password that is wrong is not
// told, and not to be seen from how long it takes.
func (p *People) SignIn(ctx context.Context, from, mark, name, password string) (token, known string, err error) {
	p.mu.Lock()
	a := access.Account{Password: nobodys()}
	if found := p.named(name); found != nil {
		a = *found
	}
	p.mu.Unlock()
	if wait := p.signIns.admit(from, mark, a.ID, time.Now()); wait > 0 {
		return "", "", TooManyError{"passwords", wait}
	}
	if len(password) > 4*longestPassword || !matches(a.Password, password) || a.ID == "" {
		p.log.Warn("a password was refused", "address", from, "name", name)
		return "", "", fmt.Errorf("%w: try again; a keeper can give you another password, and on the host itself 'diathermon allow' lets you in without one", ErrSignIn)
	}
	token, err = p.enter(ctx, from, p.session(a.ID, from))
	return token, p.signIns.mark(a.ID), err
}

// ErrNoAccount means that who asks is no person with an account.
var ErrNoAccount = fmt.Errorf("%w: this is nobody's session", ErrMissing)

// ChangePassword changes one's own password, by the one before it.
func (p *People) ChangePassword(ctx context.Context, h *Holder, old, password string) error {
	a, ok := h.Person()
	if !ok {
		return ErrNoAccount
	}
	if wait := p.signIns.admit("", p.signIns.mark(a.ID), a.ID, time.Now()); wait > 0 {
		return TooManyError{"passwords", wait}
	}
	if !matches(a.Password, old) {
		return fmt.Errorf("%w: the old one is another", ErrPassword)
	}
	_, err := p.ChangeAccount(ctx, a.ID, Change{Password: &password}, h)
	return err
}
