package people

import (
	"context"
	"crypto/hmac"
	"crypto/rand"
	"crypto/sha256"
	"encoding/base64"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"net"
	"net/url"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/go-webauthn/webauthn/protocol"
	"github.com/go-webauthn/webauthn/webauthn"

	"diathermon/internal/core/access"
)

// ErrPasskey means that a passkey cannot be made, or does not sign in.
var ErrPasskey = errors.New("this passkey does not go")

const (
	offerLife    = 5 * time.Minute
	mostPasskeys = 20 // of a person
)

// An Offer is what a browser answers with a passkey of its person (Web Authentication,
// level 3).
type Offer struct {
	Ticket  string // names it
	Options any    // as JSON: what the browser is given
}

// offers are made and forgotten: what the host has to know of one when it is answered is in
// its ticket, under a seal. So nobody who asks for many takes away anybody else's, and none
// takes memory but those that were answered well, of which each is good once.
type offers struct {
	secret []byte // for as long as the host runs, which is longer than an offer

	mu       sync.Mutex
	answered map[string]time.Time // by seal, until when it would be good
}

func newOffers() *offers {
	o := &offers{secret: make([]byte, 32), answered: map[string]time.Time{}}
	rand.Read(o.secret)
	return o
}

// offer is what is in a ticket.
type offer struct {
	Session webauthn.SessionData
	Account string // whose passkey is being made; empty: somebody signs in
	Until   time.Time

	seal string
}

// ticket is an offer under its seal.
func (o *offers) ticket(one offer) (string, error) {
	text, err := json.Marshal(one)
	return base64.RawURLEncoding.EncodeToString(o.seal(text)) + "." + base64.RawURLEncoding.EncodeToString(text), err
}

func (o *offers) seal(text []byte) []byte {
	m := hmac.New(sha256.New, o.secret)
	m.Write(text)
	return m.Sum(nil)
}

// read returns the offer of a ticket that is good.
func (o *offers) read(ticket, account string) (offer, error) {
	sum, text, _ := strings.Cut(ticket, ".")
	seal, err1 := base64.RawURLEncoding.DecodeString(sum)
	plain, err2 := base64.RawURLEncoding.DecodeString(text)
	one := offer{}
	o.mu.Lock()
	_, answered := o.answered[string(seal)]
	o.mu.Unlock()
	if err1 != nil || err2 != nil || answered || !hmac.Equal(seal, o.seal(plain)) || json.Unmarshal(plain, &one) != nil || one.Account != account || time.Now().After(one.Until) {
		return offer{}, fmt.Errorf("%w: it was asked for more than %.0f minutes ago, or answered already; try again", ErrPasskey, offerLife.Minutes())
	}
	one.seal = string(seal)
	return one, nil
}

// answer notes that an offer was answered well; it is not good a second time.
func (o *offers) answer(one offer) error {
	o.mu.Lock()
	defer o.mu.Unlock()
	maps.DeleteFunc(o.answered, func(_ string, until time.Time) bool { return time.Now().After(until) })
	if _, again := o.answered[one.seal]; again {
		return fmt.Errorf("%w: it was answered already", ErrPasskey)
	}
	o.answered[one.seal] = one.Until
	return nil
}

// party is the host as passkeys know it: by the name in its address. Whoever stands
// between cannot use what a browser says of another name.
func (p *People) party(origin string) (*webauthn.WebAuthn, error) {
	u, err := url.Parse(origin)
	if err != nil {
		return nil, fmt.Errorf("%w: %w", ErrPasskey, err)
	}
	if net.ParseIP(u.Hostname()) != nil {
		return nil, fmt.Errorf("%w: passkeys go by a host's name; open the console at one in place of %s", ErrPasskey, u.Hostname())
	}
	party, err := webauthn.New(&webauthn.Config{RPID: strings.ToLower(u.Hostname()), RPDisplayName: "Diathermon at " + u.Hostname(), RPOrigins: []string{origin}})
	if err != nil {
		return nil, fmt.Errorf("%w: %w", ErrPasskey, err)
	}
	return party, nil
}

// user is a person as passkeys know one.
type user struct {
	access.Account
	passkeys []webauthn.Credential
}

func (u user) WebAuthnID() []byte                         { return []byte(u.ID) }
func (u user) WebAuthnName() string                       { return u.Name }
func (u user) WebAuthnDisplayName() string                { return u.Name }
func (u user) WebAuthnCredentials() []webauthn.Credential { return u.passkeys }

// user is a person with the passkeys of now.
func (p *People) user(account string) (user, error) {
	p.mu.Lock()
	defer p.mu.Unlock()
	a := p.accounts[account]
	if a == nil {
		return user{}, ErrNoAccount
	}
	out := user{Account: *a}
	for _, k := range p.passkeys {
		var c webauthn.Credential
		if k.Account == account && json.Unmarshal(k.Credential, &c) == nil {
			out.passkeys = append(out.passkeys, c)
		}
	}
	return out, nil
}

// Passkeys returns a person's, the oldest first.
func (p *People) Passkeys(account string) []access.Passkey {
	p.mu.Lock()
	defer p.mu.Unlock()
	out := []access.Passkey{}
	for _, k := range p.passkeys {
		if k.Account == account && account != "" {
			out = append(out, k)
		}
	}
	slices.SortFunc(out, func(a, b access.Passkey) int { return a.Created.Compare(b.Created) })
	return out
}

// HasPasskeys reports whether anybody has one.
func (p *People) HasPasskeys() bool {
	p.mu.Lock()
	defer p.mu.Unlock()
	return len(p.passkeys) > 0
}

// OfferPasskey begins the making of a passkey for a person who is signed in, at an origin
// such as https://vesper.local:8437.
func (p *People) OfferPasskey(h *Holder, origin string) (Offer, error) {
	u, err := p.user(h.Account)
	if err != nil {
		return Offer{}, err
	}
	if len(u.passkeys) >= mostPasskeys {
		return Offer{}, fmt.Errorf("%w: you have %d; remove one first", ErrPasskey, mostPasskeys)
	}
	party, err := p.party(origin)
	if err != nil {
		return Offer{}, err
	}
	choice := protocol.AuthenticatorSelection{ResidentKey: protocol.ResidentKeyRequirementRequired, UserVerification: protocol.VerificationRequired}
	options, session, err := party.BeginRegistration(u, webauthn.WithAuthenticatorSelection(choice), webauthn.WithExclusions(webauthn.Credentials(u.passkeys).CredentialDescriptors()))
	if err != nil {
		return Offer{}, fmt.Errorf("%w: %w", ErrPasskey, err)
	}
	ticket, err := p.offers.ticket(offer{Session: *session, Account: h.Account, Until: time.Now().Add(offerLife)})
	return Offer{ticket, options.Response}, err
}

// MakePasskey takes what the browser has made.
func (p *People) MakePasskey(ctx context.Context, h *Holder, origin, ticket, name string, answer []byte) (access.Passkey, error) {
	var none access.Passkey
	if err := visible(name); err != nil {
		return none, err
	}
	one, err := p.offers.read(ticket, h.Account)
	if err != nil {
		return none, err
	}
	u, err := p.user(h.Account)
	if err != nil {
		return none, err
	}
	party, err := p.party(origin)
	if err != nil {
		return none, err
	}
	parsed, err := protocol.ParseCredentialCreationResponseBytes(answer)
	if err != nil {
		return none, refusedPasskey(err)
	}
	c, err := party.CreateCredential(u, one.Session, parsed)
	if err == nil {
		err = p.offers.answer(one)
	}
	if err != nil {
		return none, refusedPasskey(err)
	}
	k := access.Passkey{ID: base64.RawURLEncoding.EncodeToString(c.ID), Account: h.Account, Name: name, Created: time.Now().UTC().Truncate(time.Millisecond), Giver: h.ID}
	if k.Credential, err = json.Marshal(c); err != nil {
		return none, err
	}
	p.mu.Lock()
	_, taken := p.passkeys[k.ID]
	p.mu.Unlock()
	if taken {
		return none, fmt.Errorf("%w: it is somebody's already", ErrPasskey)
	}
	if err := p.keepPasskey(ctx, k); err != nil {
		return none, err
	}
	p.log.Info("a passkey was made", "name", u.Name, "passkey", name)
	return k, nil
}

func (p *People) keepPasskey(ctx context.Context, k access.Passkey) error {
	if err := p.kept.PutPasskey(ctx, k); err != nil {
		return err
	}
	p.mu.Lock()
	defer p.mu.Unlock()
	p.passkeys[k.ID] = k
	return nil
}

// RemovePasskey makes one of a person's worthless, at once.
func (p *People) RemovePasskey(ctx context.Context, h *Holder, id string) error {
	p.mu.Lock()
	k, ok := p.passkeys[id]
	p.mu.Unlock()
	if !ok || h.Account == "" || k.Account != h.Account {
		return ErrMissing
	}
	if err := p.kept.DeletePasskey(ctx, id); err != nil {
		return err
	}
	p.mu.Lock()
	delete(p.passkeys, id)
	p.mu.Unlock()
	p.log.Info("a passkey was removed", "name", h.Caller(), "passkey", k.Name)
	return nil
}

// OfferSignIn begins the signing in of whoever has a passkey.
func (p *People) OfferSignIn(origin string) (Offer, error) {
	party, err := p.party(origin)
	if err != nil {
		return Offer{}, err
	}
	options, session, err := party.BeginDiscoverableLogin(webauthn.WithUserVerification(protocol.VerificationRequired))
	if err != nil {
		return Offer{}, fmt.Errorf("%w: %w", ErrPasskey, err)
	}
	ticket, err := p.offers.ticket(offer{Session: *session, Until: time.Now().Add(offerLife)})
	return Offer{ticket, options.Response}, err
}

// SignInByPasskey returns a new session's token for what a browser has signed.
func (p *People) SignInByPasskey(ctx context.Context, from, origin, ticket string, answer []byte) (string, error) {
	one, err := p.offers.read(ticket, "")
	if err != nil {
		return "", err
	}
	party, err := p.party(origin)
	if err != nil {
		return "", err
	}
	parsed, err := protocol.ParseCredentialRequestResponseBytes(answer)
	if err != nil {
		return "", refusedPasskey(err)
	}
	who, c, err := party.ValidatePasskeyLogin(func(_, account []byte) (webauthn.User, error) { return p.user(string(account)) }, one.Session, parsed)
	if err == nil && c.Authenticator.CloneWarning {
		err = errors.New("somebody seems to have a copy of it")
	}
	if err == nil {
		err = p.offers.answer(one)
	}
	if err != nil {
		p.log.Warn("a passkey was refused", "address", from, "error", err)
		return "", refusedPasskey(err)
	}
	p.mu.Lock()
	k, there := p.passkeys[base64.RawURLEncoding.EncodeToString(c.ID)]
	p.mu.Unlock()
	if !there { // it was removed meanwhile
		return "", ErrPasskey
	}
	now := time.Now().UTC().Truncate(time.Millisecond)
	k.Used = &now
	if k.Credential, err = json.Marshal(c); err != nil {
		return "", err
	}
	if err := p.keepPasskey(ctx, k); err != nil { // its counter is what tells a copy
		return "", err
	}
	return p.enter(ctx, from, right{account: who.(user).ID}.session(from))
}

// refusedPasskey says what was wrong with an answer.
func refusedPasskey(err error) error {
	var detailed *protocol.Error
	if errors.As(err, &detailed) && detailed.Details != "" {
		err = errors.New(strings.ToLower(detailed.Details[:1]) + detailed.Details[1:])
	}
	return fmt.Errorf("%w: %w", ErrPasskey, err)
}
