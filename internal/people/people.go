// Package people is who may use the host: accounts of persons, tokens of programs,
// sessions of browsers, and how each of them comes to be.
//
// It promises that nobody gives what they have not got, in rights or in time, and that
// what a right has given ends with it; that a token that was withdrawn is worthless at
// once, also for what goes on by it; that what a role may do changes at once for everybody
// who has it; that guessing is slow and keeps nobody out who was in before; and that no
// secret is kept or logged. It leaves HTTP to the guard, and what a
// scope allows to the operations, which name it.
package people

import (
	"context"
	"crypto/rand"
	"crypto/sha256"
	"errors"
	"fmt"
	"io/fs"
	"log/slog"
	"os"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/google/uuid"

	"diathermon/internal/core/access"
	"diathermon/internal/durable"
)

// Kept is where tokens' hashes and accounts are kept.
type Kept interface {
	Tokens(ctx context.Context) ([]access.Token, error)
	PutToken(ctx context.Context, t access.Token) error
	DeleteToken(ctx context.Context, id string) error
	Accounts(ctx context.Context) ([]access.Account, error)
	PutAccount(ctx context.Context, a access.Account) error
	DeleteAccount(ctx context.Context, id string) error // and the account's passkeys
	Passkeys(ctx context.Context) ([]access.Passkey, error)
	PutPasskey(ctx context.Context, k access.Passkey) error
	DeletePasskey(ctx context.Context, id string) error
}

// Errors that callers tell apart.
var (
	ErrMissing  = errors.New("there is no such account or token")
	ErrName     = errors.New("this cannot be a name")
	ErrPassword = errors.New("this cannot be the password")
	ErrScopes   = errors.New("these scopes cannot be given")
	ErrLast     = errors.New("somebody must be able to keep the host")
	ErrCode     = errors.New("this code does not sign in")
	ErrSignIn   = errors.New("this name and this password do not go together")
	ErrMany     = errors.New("there are too many tokens and sessions")
	ErrAsking   = errors.New("too many ask to be let in")
)

// TooManyError tells somebody who guesses to stay away for a while.
type TooManyError struct {
	What string // codes, tokens or passwords
	Wait time.Duration
}

func (e TooManyError) Error() string {
	return fmt.Sprintf("too many wrong %s: try again in %.0f s", e.What, max(e.Wait.Seconds(), 1))
}

const (
	longestName = 60 // characters
	mostPersons = 100

	// KeeperName and ConsoleName are what tokens are called that are no program's.
	KeeperName  = "keeper"
	ConsoleName = "console"
)

// People knows who may do what. It answers from memory, so that the database may go away.
type People struct {
	kept Kept
	log  *slog.Logger

	wrongCodes, wrongTokens *guesses
	signIns                 *signIns
	pairings                pairings
	offers                  *offers
	familiar                *familiar

	changing sync.Mutex // one account is changed at a time
	writing  sync.Mutex // tokens are written one after another, as they are then

	mu       sync.Mutex
	byHash   map[[sha256.Size]byte]*Holder
	byID     map[string]*Holder
	accounts map[string]*access.Account // by ID
	passkeys map[string]access.Passkey  // by ID
	codes    map[string]code            // one-time codes
	passages map[*Passage]bool
}

// Open returns the people of one host. By which browsers and networks they were in before
// is kept in the file at path; empty: in memory alone.
func Open(ctx context.Context, kept Kept, path string, log *slog.Logger) (*People, error) {
	familiar := openFamiliar(path, log)
	p := &People{
		kept: kept, log: log, wrongCodes: newGuesses(codesOfOne, codesOfAll), wrongTokens: newGuesses(tokensOfOne, tokensOfAll),
		signIns: newSignIns(), familiar: familiar, offers: newOffers(),
		byHash: map[[sha256.Size]byte]*Holder{}, byID: map[string]*Holder{}, accounts: map[string]*access.Account{}, passkeys: map[string]access.Passkey{},
		codes: map[string]code{}, passages: map[*Passage]bool{},
	}
	persons, err := kept.Accounts(ctx)
	if err != nil {
		return nil, err
	}
	for _, a := range persons {
		p.accounts[a.ID] = &a
	}
	passkeys, err := kept.Passkeys(ctx)
	if err != nil {
		return nil, err
	}
	for _, k := range passkeys {
		p.passkeys[k.ID] = k
	}
	tokens, err := kept.Tokens(ctx)
	if err != nil {
		return nil, err
	}
	for _, t := range tokens {
		h := p.holder(t)
		p.byHash[[sha256.Size]byte(t.Hash)], p.byID[t.ID] = h, h
	}
	return p, p.settle(ctx)
}

func (p *People) holder(t access.Token) *Holder {
	return &Holder{Token: t, people: p, use: &use{}}
}

// Keeper makes sure that the file at path, mode 0600, holds a token that may do
// everything, and returns it. There is one keeper's token: where the file is gone, or
// holds another, those of before are withdrawn.
func (p *People) Keeper(ctx context.Context, path string) (string, error) {
	b, err := os.ReadFile(path)
	token := strings.TrimSpace(string(b))
	kept := err == nil && len(token) >= 20
	ours, known := p.Find(token)
	if err := p.withdrawAll(ctx, func(h *Holder) bool { return h.Name == KeeperName && !h.Session && h != ours }); err != nil {
		return "", err
	}
	if known && !ours.Session {
		return token, nil
	}
	if !kept {
		token = rand.Text()
	}
	if _, err := p.put(ctx, token, access.Token{Name: KeeperName, Scopes: access.All, Maker: "this host"}); err != nil || kept {
		return token, err
	}
	return token, durable.Replace(path, durable.Bytes([]byte(token+"\n")))
}

// WithdrawAll makes every token worthless, the keeper's too, whose file at path goes.
// Accounts stay.
func (p *People) WithdrawAll(ctx context.Context, path string) error {
	if err := os.Remove(path); err != nil && !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	return p.withdrawAll(ctx, func(*Holder) bool { return true })
}

func (p *People) holders(which func(*Holder) bool) []*Holder {
	p.mu.Lock()
	all := make([]*Holder, 0, len(p.byHash))
	for _, h := range p.byHash {
		all = append(all, h)
	}
	p.mu.Unlock()
	all = slices.DeleteFunc(all, func(h *Holder) bool { return !which(h) || h.Expired() })
	slices.SortFunc(all, func(a, b *Holder) int { return strings.Compare(a.ID, b.ID) })
	return all
}

func (p *People) withdrawAll(ctx context.Context, which func(*Holder) bool) error {
	for _, h := range p.holders(which) {
		if err := p.Withdraw(ctx, h, "this computer"); err != nil {
			return err
		}
	}
	return nil
}

// put keeps a new token.
func (p *People) put(ctx context.Context, token string, t access.Token) (*Holder, error) {
	hash := sha256.Sum256([]byte(token))
	id, err := uuid.NewV7()
	if err != nil {
		return nil, err
	}
	t.ID, t.Hash, t.Created = id.String(), hash[:], time.Now().UTC()
	if err := p.kept.PutToken(ctx, t); err != nil {
		return nil, err
	}
	h := p.holder(t)
	p.mu.Lock()
	stands := t.Giver == "" || p.stands(t.Giver)
	if stands {
		p.byHash[hash], p.byID[t.ID] = h, h
	}
	p.mu.Unlock()
	if !stands { // it was taken away meanwhile
		return nil, errors.Join(errGiver, p.kept.DeleteToken(ctx, t.ID))
	}
	return h, nil
}

// Find returns the token's holder if it is good now. Looking a hash up takes no time that
// depends on the token.
func (p *People) Find(token string) (*Holder, bool) {
	p.mu.Lock()
	defer p.mu.Unlock()
	h, ok := p.byHash[sha256.Sum256([]byte(token))]
	if ok && h.Expired() {
		return nil, false
	}
	return h, ok
}

// useEvery is how exactly it is kept when a token was used: a memory card wears with
// every write.
const useEvery = 10 * time.Minute

// Used notes that a token was used from an address.
func (p *People) Used(h *Holder, from string) {
	now := time.Now().UTC().Truncate(time.Second)
	p.mu.Lock()
	h.use.at, h.use.from = now, from
	p.mu.Unlock()
	p.familiar.seen(h.Self(), from, now)
}

// Work keeps when tokens were used, until ctx ends.
func (p *People) Work(ctx context.Context) {
	every := time.NewTicker(useEvery)
	defer every.Stop()
	for {
		select {
		case <-every.C:
		case <-ctx.Done():
			return
		}
		if err := errors.Join(p.settle(ctx), p.familiar.keep(p.there)); err != nil && ctx.Err() == nil {
			p.log.Warn("not everything that is known of tokens is kept", "error", err)
		}
		for _, h := range p.holders(func(*Holder) bool { return true }) {
			p.keepUse(ctx, h)
		}
	}
}

// keepUse keeps when a token was used, unless it was withdrawn or changed meanwhile.
func (p *People) keepUse(ctx context.Context, h *Holder) {
	p.writing.Lock()
	defer p.writing.Unlock()
	p.mu.Lock()
	t := h.seen()
	due := h.use.at.After(h.use.kept) && p.byID[h.ID] == h
	if due {
		h.use.kept = h.use.at
	}
	p.mu.Unlock()
	if due {
		p.kept.PutToken(ctx, t) // the next time, if it fails
	}
}

// there reports whether there is a person, or a token, of an ID.
func (p *People) there(id string) bool {
	p.mu.Lock()
	defer p.mu.Unlock()
	return p.accounts[id] != nil || p.byID[id] != nil
}

// seen is the token with its last use; People's lock is held.
func (h *Holder) seen() access.Token {
	t := h.Token
	if !h.use.at.IsZero() {
		at := h.use.at
		t.Used, t.UsedFrom = &at, h.use.from
	}
	return t
}

// Refused waits, for a token that is not known, as long as its guesser must wait. It
// returns how long the guesser should stay away if that is too far off.
func (p *People) Refused(ctx context.Context, from string) time.Duration {
	p.log.Warn("a token was refused", "address", from)
	return p.wrongTokens.wrong(ctx, from)
}

// Tokens returns what is known of every token that is good, sessions among them, the
// oldest first.
func (p *People) Tokens() []access.Token {
	var out []access.Token
	for _, h := range p.holders(func(*Holder) bool { return true }) {
		p.mu.Lock()
		out = append(out, h.seen())
		p.mu.Unlock()
	}
	return out
}

// Holder returns the one whose token has an ID.
func (p *People) Holder(id string) (*Holder, error) {
	if all := p.holders(func(h *Holder) bool { return h.ID == id }); len(all) > 0 {
		return all[0], nil
	}
	return nil, fmt.Errorf("%w: it was withdrawn or has expired", ErrMissing)
}

// LetsIn reports whether somebody is let in still: the account, or else whoever has the
// token of that ID.
func (p *People) LetsIn(token, account string) bool {
	if account != "" {
		return slices.ContainsFunc(p.Accounts(), func(a access.Account) bool { return a.ID == account })
	}
	h, err := p.Holder(token)
	return err == nil && !h.Expired()
}
