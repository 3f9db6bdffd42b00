// Package people is who may use the host: accounts of persons, tokens of programs,
// sessions of browsers, and how each of them comes to be.
//
// It promises that a token that was withdrawn is worthless at once, that what a role may
// do changes at once for everybody who has it, that guessing is slow and locks nobody
// out, and that no secret is kept or logged. It leaves HTTP to the guard, and what a
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
	codeLife    = 24 * time.Hour
	sessionLife = 90 * 24 * time.Hour
	longestName = 60 // characters
	mostTokens  = 500
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
	offers                  offers

	changing sync.Mutex // one account is changed at a time

	mu       sync.Mutex
	byHash   map[[sha256.Size]byte]*Holder
	accounts map[string]*access.Account // by ID
	passkeys map[string]access.Passkey  // by ID
	codes    map[string]code            // one-time codes
}

// A code signs in once.
type code struct {
	expires time.Time
	account string // as whom; empty: as nobody, who may do everything
}

// Holder is who has a token.
type Holder struct {
	access.Token
	gone chan struct{} // closed when the token is withdrawn

	people *People
	use    *use // guarded by people
}

// use is when a token was used last.
type use struct {
	at   time.Time
	from string    // the address
	kept time.Time // the last of these that is kept
}

// Gone is closed when the token is withdrawn.
func (h *Holder) Gone() <-chan struct{} { return h.gone }

// Expired reports whether the token has become too old.
func (h *Holder) Expired() bool { return h.Expires != nil && h.Expires.Before(time.Now()) }

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

// May are the scopes that it has now.
func (h *Holder) May() []string {
	if h.Account == "" {
		return strings.Fields(h.Token.Scopes)
	}
	a, ok := h.Person()
	if !ok {
		return nil
	}
	return a.Role.Scopes()
}

// Open returns the people of one host.
func Open(ctx context.Context, kept Kept, log *slog.Logger) (*People, error) {
	p := &People{
		kept: kept, log: log, wrongCodes: newGuesses(codesOfOne, codesOfAll), wrongTokens: newGuesses(tokensOfOne, tokensOfAll), signIns: newSignIns(),
		byHash: map[[sha256.Size]byte]*Holder{}, accounts: map[string]*access.Account{}, passkeys: map[string]access.Passkey{}, codes: map[string]code{},
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
		if h.Expired() || t.Account != "" && p.accounts[t.Account] == nil {
			if err := kept.DeleteToken(ctx, t.ID); err != nil {
				return nil, err
			}
			continue
		}
		p.byHash[[sha256.Size]byte(t.Hash)] = h
	}
	return p, nil
}

func (p *People) holder(t access.Token) *Holder {
	return &Holder{Token: t, gone: make(chan struct{}), people: p, use: &use{}}
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
	defer p.mu.Unlock()
	p.byHash[hash] = h
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
		for _, h := range p.holders(func(*Holder) bool { return true }) {
			p.mu.Lock()
			t := h.seen()
			due := h.use.at.After(h.use.kept)
			h.use.kept = h.use.at
			gone := p.byHash[[sha256.Size]byte(h.Hash)] != h
			p.mu.Unlock()
			if due && !gone {
				p.kept.PutToken(ctx, t) // the next time, if it fails
			}
		}
	}
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

// Code returns a new one-time code. Whoever has it may sign in once, and do everything.
func (p *People) Code() string { return p.codeFor("") }

func (p *People) codeFor(account string) string {
	text := rand.Text()
	p.mu.Lock()
	defer p.mu.Unlock()
	for c, known := range p.codes {
		if known.expires.Before(time.Now()) {
			delete(p.codes, c)
		}
	}
	p.codes[text] = code{time.Now().Add(codeLife), account}
	return text
}

// Spend takes a one-time code, or a token that may do everything, and returns a new token
// of the given name for it: a session, or a program's. Wrong codes are answered slowly.
func (p *People) Spend(ctx context.Context, from, text, name string, session bool) (string, error) {
	p.mu.Lock()
	known, ok := p.codes[text]
	delete(p.codes, text)
	p.mu.Unlock()
	if ok = ok && known.expires.After(time.Now()); !ok {
		var h *Holder
		h, ok = p.Find(text)
		ok = ok && slices.Contains(h.May(), access.Keep)
		if ok {
			known.account = h.Account
		}
	}
	if !ok {
		p.log.Warn("a code was refused", "address", from, "for", name)
		if wait := p.wrongCodes.wrong(ctx, from); wait > 0 {
			return "", TooManyError{"codes", wait}
		}
		return "", fmt.Errorf("%w: it was used already, is too old or was mistyped; take the token from the file keeper-token in the data folder, or restart the service for a new link", ErrCode)
	}
	t := access.Token{Name: name, Scopes: access.All, Maker: from}
	if session {
		t = p.session(known.account, from)
	}
	return p.enter(ctx, from, t)
}

// session is a browser's token.
func (p *People) session(account, from string) access.Token {
	expires := time.Now().Add(sessionLife).UTC()
	t := access.Token{Name: ConsoleName, Session: true, Expires: &expires, Account: account, Maker: from}
	if account == "" {
		t.Scopes = access.All
	}
	return t
}

// enter gives a new token to somebody who has shown a right to it.
func (p *People) enter(ctx context.Context, from string, t access.Token) (string, error) {
	if len(p.holders(func(*Holder) bool { return true })) >= mostTokens {
		return "", fmt.Errorf("%w: withdraw some of the %d in Setup, or start the service with --withdraw-tokens", ErrMany, mostTokens)
	}
	token := rand.Text()
	h, err := p.put(ctx, token, t)
	if err != nil {
		return "", err
	}
	p.log.Info("signed in", "address", from, "name", h.Caller(), "session", t.Session)
	return token, nil
}

// Withdraw makes a token worthless, at once: also on the connections on which it is in
// use.
func (p *People) Withdraw(ctx context.Context, h *Holder, by string) error {
	p.mu.Lock()
	hash := [sha256.Size]byte(h.Hash)
	if p.byHash[hash] == h {
		delete(p.byHash, hash)
		close(h.gone)
	}
	p.mu.Unlock()
	p.log.Info("a token was withdrawn", "by", by, "name", h.Name)
	if err := p.kept.DeleteToken(ctx, h.ID); err != nil {
		return fmt.Errorf("the token of %s is dead until the service is started again, and the database does not take that for good: %w", h.Name, err)
	}
	return nil
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

// given is the token that somebody may give to a program.
func given(maker *Holder, name string, scopes []string) (access.Token, error) {
	if err := ProgramName(name); err != nil {
		return access.Token{}, err
	}
	all, ok := access.Asked(scopes)
	if !ok {
		return access.Token{}, fmt.Errorf("%w: %q; they are some of %s", ErrScopes, scopes, access.All)
	}
	for _, s := range strings.Fields(all) {
		if !slices.Contains(maker.May(), s) {
			return access.Token{}, fmt.Errorf("%w: you have not got %q yourself", ErrScopes, s)
		}
	}
	return access.Token{Name: name, Scopes: all, Maker: maker.Caller()}, nil
}

// MakeToken makes a token for a program. Nobody gives what they have not.
func (p *People) MakeToken(ctx context.Context, maker *Holder, name string, scopes []string, expires *time.Time) (string, access.Token, error) {
	t, err := given(maker, name, scopes)
	if err != nil {
		return "", access.Token{}, err
	}
	if t.Expires = expires; expires != nil && !expires.After(time.Now()) {
		return "", access.Token{}, fmt.Errorf("%w: it would have expired on %s", ErrScopes, expires.Format(time.DateOnly))
	}
	token, err := p.enter(ctx, maker.Caller(), t)
	if err != nil {
		return "", access.Token{}, err
	}
	h, _ := p.Find(token)
	return token, h.Token, nil
}
