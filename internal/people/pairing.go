package people

import (
	"context"
	"crypto/rand"
	"crypto/subtle"
	"fmt"
	"slices"
	"strings"
	"sync"
	"time"

	"diathermon/internal/core/access"
)

// A pairing lets a program or a browser in without anybody typing a secret: it shows six
// letters, a person who may let others in sees the same ones elsewhere and says yes. The
// letters are no secret: they tell the person which of those who ask it is.

const (
	pairingLife    = 5 * time.Minute
	letters        = "ABCDEFGHJKLMNPQRSTUVWXYZ" // none that looks like another
	pairingLetters = 6
	lettersTries   = 3 // wrong ones, until a request is dead
	mostPairings   = 20
	mostOfOne      = 3 // that one address has asked for and nobody has answered
)

// PairingState is how far a pairing is.
type PairingState string

// The states.
const (
	Waiting PairingState = "waiting"
	Granted PairingState = "granted"
	Denied  PairingState = "denied"
	Expired PairingState = "expired"
)

// A Pairing is somebody who asks to be let in.
type Pairing struct {
	ID      string
	Name    string // as who asks says
	Letters string
	Scopes  string // asked for; of a browser, whatever the person has who says yes
	Session bool   // a browser asks
	From    string // the address
	Asked   time.Time
	State   PairingState

	known   bool // who asks was here before
	secret  string
	tries   int
	grant   access.Token // that a program gets when it asks for it, and not before
	code    string       // a browser's, that signs in once
	fetched bool
}

type pairings struct {
	mu  sync.Mutex
	all []*Pairing
}

// current drops what is too old; the lock is held.
func (k *pairings) current(now time.Time) []*Pairing {
	k.all = slices.DeleteFunc(k.all, func(p *Pairing) bool { return now.Sub(p.Asked) > 2*pairingLife })
	for _, p := range k.all {
		if p.State == Waiting && now.Sub(p.Asked) > pairingLife {
			p.State = Expired
		}
	}
	return k.all
}

// Ask begins a pairing. The secret is for who asks alone, to learn what has become of it.
// Who is known, by a browser or a network, finds room whoever else asks.
func (p *People) Ask(from string, known bool, name string, scopes []string, session bool) (Pairing, string, error) {
	given, ok := access.Asked(scopes)
	if session {
		given, ok = "", true
	}
	if err := ProgramName(name); err != nil {
		return Pairing{}, "", err
	}
	if !ok {
		return Pairing{}, "", fmt.Errorf("%w: %q; they are some of %s", ErrScopes, scopes, access.All)
	}
	now := time.Now()
	k := &p.pairings
	k.mu.Lock()
	defer k.mu.Unlock()
	ofOne, waiting := 0, 0
	var stranger *Pairing // that has waited longest
	for _, other := range k.current(now) {
		if other.State == Waiting {
			waiting++
			if !other.known && stranger == nil {
				stranger = other
			}
			if neighbourhood(other.From) == neighbourhood(from) {
				ofOne++
			}
		}
	}
	if known && ofOne < mostOfOne && waiting >= mostPairings && stranger != nil {
		stranger.State = Denied
		waiting--
	}
	if ofOne >= mostOfOne || waiting >= mostPairings {
		return Pairing{}, "", fmt.Errorf("%w: answer those that wait in the console, or try again in five minutes", ErrAsking)
	}
	one := &Pairing{ID: rand.Text(), Name: name, Letters: p.newLetters(), Scopes: given, Session: session, From: from, Asked: now, State: Waiting, known: known, secret: rand.Text()}
	k.all = append(k.all, one)
	p.log.Info("somebody asks to be let in", "address", from, "name", name, "letters", one.Letters)
	return *one, one.secret, nil
}

// newLetters are letters that nobody else has now; the pairings' lock is held.
func (p *People) newLetters() string {
	for {
		b := make([]byte, pairingLetters)
		rand.Read(b)
		for i := range b {
			b[i] = letters[int(b[i])%len(letters)]
		}
		if !slices.ContainsFunc(p.pairings.all, func(o *Pairing) bool { return o.Letters == string(b) }) {
			return string(b)
		}
	}
}

// Asking are those who wait for an answer.
func (p *People) Asking() []Pairing {
	k := &p.pairings
	k.mu.Lock()
	defer k.mu.Unlock()
	var out []Pairing
	for _, one := range k.current(time.Now()) {
		if one.State == Waiting {
			out = append(out, *one)
		}
	}
	return out
}

// Answer says yes or no to who shows these letters. Scopes, if there are any, take the
// place of those that were asked for. After three letters that nobody shows, all who wait
// are sent away.
func (p *People) Answer(by *Holder, shown string, yes bool, scopes []string) (Pairing, error) {
	k := &p.pairings
	k.mu.Lock()
	defer k.mu.Unlock()
	shown = strings.ToUpper(strings.Join(strings.Fields(shown), ""))
	var one *Pairing
	for _, o := range k.current(time.Now()) {
		if o.State == Waiting && subtle.ConstantTimeCompare([]byte(o.Letters), []byte(shown)) == 1 {
			one = o
		}
	}
	if one == nil {
		for _, o := range k.all {
			if o.tries++; o.State == Waiting && o.tries >= lettersTries {
				o.State = Denied
			}
		}
		return Pairing{}, fmt.Errorf("%w: nobody who waits shows the letters %s; they are good for five minutes and three tries", ErrMissing, shown)
	}
	if !yes {
		one.State = Denied
		p.log.Info("somebody was not let in", "by", by.Caller(), "name", one.Name, "address", one.From)
		return *one, nil
	}
	if one.Session {
		one.code = p.codeFor(by.right())
	} else {
		if len(scopes) == 0 {
			scopes = strings.Fields(one.Scopes)
		}
		grant, err := given(by, one.Name, scopes, nil)
		if err != nil {
			return *one, err
		}
		one.grant, one.Scopes = grant, grant.Scopes
	}
	one.State = Granted
	p.log.Info("somebody was let in", "by", by.Caller(), "name", one.Name, "address", one.From)
	return *one, nil
}

// Outcome tells who asked what has become of it; a key is handed out once, and made only
// then, so that none is left of who has gone.
func (p *People) Outcome(ctx context.Context, id, secret string) (Pairing, string, error) {
	k := &p.pairings
	k.mu.Lock()
	defer k.mu.Unlock()
	for _, one := range k.current(time.Now()) {
		if one.ID == id && subtle.ConstantTimeCompare([]byte(one.secret), []byte(secret)) == 1 {
			if one.State != Granted {
				return *one, "", nil
			}
			if one.fetched {
				break
			}
			key := one.code
			if !one.Session {
				var err error
				if key, err = p.enter(ctx, one.From, one.grant); err != nil {
					return *one, "", err
				}
			}
			one.fetched = true
			return *one, key, nil
		}
	}
	return Pairing{}, "", fmt.Errorf("%w: it was fetched, or is too old: ask again", ErrMissing)
}

// Expires is when it is too late to answer.
func (p Pairing) Expires() time.Time { return p.Asked.Add(pairingLife) }
