// Package notices tells persons what core/notice says they would want to know: who has
// the console open at once, and whoever has let a browser of theirs be called by Web Push
// (RFC 8030, 8291, 8292), wherever that is.
//
// It promises that a notice and what it takes to deliver it are on the disk in one write,
// so that each is told once, also where the host ends in between; that what cannot be
// delivered is tried again for half a day; and that nobody is called whom the host does
// not let in any more. It leaves to core/notice what is worth telling.
package notices

import (
	"cmp"
	"context"
	"crypto/ecdh"
	"encoding/base64"
	"errors"
	"fmt"
	"log/slog"
	"maps"
	"net/http"
	"net/url"
	"slices"
	"strings"
	"sync"
	"time"

	webpush "github.com/SherClockHolmes/webpush-go"
	"github.com/google/uuid"

	"diathermon/internal/core/notice"
	"diathermon/internal/durable"
)

// How often it is looked, how much is kept, and how many browsers may be called.
const (
	lookEvery   = time.Second
	mostKept    = 100
	mostCalls   = 200
	mostOfOne   = 8               // browsers of one person, or program
	mostWaiting = 10              // notices for one browser: of more the last
	trialEvery  = 5 * time.Second // for one person, or program
)

// Errors that callers tell apart.
var (
	ErrBrowser = errors.New("this browser cannot be called")
	ErrMissing = errors.New("no such browser is called")
	ErrOften   = errors.New("a browser was tried just now")
)

// A Browser is one that is called.
type Browser struct {
	ID       string
	Name     string
	Endpoint string // of its push service
	Key      string // its public key, P-256, base64url
	Secret   string // base64url
	Kinds    []notice.Kind
	By       string // whose it is, in words
	Token    string // by which it was let in
	Account  string // of that; empty: nobody's
	Since    time.Time
	Trouble  string // why it was not reached last, as a kind; empty: it was, or was not called yet
}

// whose is who has let it in.
func (b Browser) whose() string { return cmp.Or(b.Account, b.Token) }

// Service is the host name of its push service.
func (b Browser) Service() string {
	if u, err := url.Parse(b.Endpoint); err == nil {
		return u.Hostname()
	}
	return ""
}

// A call is a notice that is to be delivered to a browser.
type call struct {
	Notice  notice.Notice
	Browser string
	Tries   int
	Next    time.Time
}

// state is what is kept.
type state struct {
	Watch    notice.Watch
	Recent   []notice.Notice // the newest last
	Browsers []Browser
	Outbox   []call
	Public   string // the host's key for push services (RFC 8292)
	Private  string
}

// A Client goes to push services.
type Client interface {
	Do(*http.Request) (*http.Response, error)
}

// Config is what notices need.
type Config struct {
	Path    string // where they are kept
	Printer string // its name
	Colour  string
	Facts   func(context.Context) (notice.Facts, error)
	Tell    func(notice.Notice)              // whoever has the console open
	LetIn   func(token, account string) bool // whether somebody is let in still
	Client  interface {                      // nil: one that goes to push services alone
		Do(*http.Request) (*http.Response, error)
	}
	Anywhere bool // a push service need not speak TLS: for tests
	Log      *slog.Logger
}

// Notices are the notices.
type Notices struct {
	cfg  Config
	kept *durable.Value[state]
	turn sync.Mutex // one changes what is kept at a time
	wake chan struct{}

	calling sync.WaitGroup
	places  chan struct{} // of those that are called at a time

	mu    sync.Mutex
	busy  map[string]bool      // whose browsers are being called
	tried map[string]time.Time // when somebody has tried a browser last
}

// Open reads what is kept. What cannot be read is told and begun anew.
func Open(c Config) (*Notices, error) {
	n := &Notices{cfg: c, wake: make(chan struct{}, 1), places: make(chan struct{}, atOnce), busy: map[string]bool{}, tried: map[string]time.Time{}}
	var err error
	if n.kept, err = durable.OpenValue[state](c.Path, func(err error) { c.Log.Error("notices are not kept", "error", err) }); err != nil {
		c.Log.Error("what was told before is not known any more, nor which browsers are called", "error", err)
	}
	if n.cfg.Client == nil {
		n.cfg.Client = caller()
	}
	s := n.kept.Get()
	if s.Public != "" {
		return n, nil
	}
	if s.Private, s.Public, err = webpush.GenerateVAPIDKeys(); err != nil {
		return nil, err
	}
	return n, n.kept.Put(s)
}

// Key is the host's public key, for browsers that are to be called (RFC 8292, 4.1).
func (n *Notices) Key() string { return n.kept.Get().Public }

// Recent are the last notices, the newest first.
func (n *Notices) Recent() []notice.Notice {
	out := slices.Clone(n.kept.Get().Recent)
	slices.Reverse(out)
	return out
}

// Browsers are those that are called, and how many notices wait for each.
func (n *Notices) Browsers() ([]Browser, map[string]int) {
	s := n.kept.Get()
	waiting := map[string]int{}
	for _, c := range s.Outbox {
		waiting[c.Browser]++
	}
	return slices.Clone(s.Browsers), waiting
}

// Call lets a browser be called from now on. One that is called already is changed.
func (n *Notices) Call(b Browser) (Browser, error) {
	if err := n.check(b); err != nil {
		return b, err
	}
	err := n.change(func(s *state) error {
		b.ID, b.Since = uuid.NewString(), time.Now().UTC().Truncate(time.Second)
		for i, one := range s.Browsers {
			if one.Endpoint == b.Endpoint {
				if one.whose() != b.whose() && n.cfg.LetIn(one.Token, one.Account) && one.Secret != b.Secret {
					return fmt.Errorf("%w: somebody else has let it be called", ErrBrowser)
				}
				b.ID, b.Since = one.ID, one.Since
				s.Browsers[i] = b
				return nil
			}
		}
		own := 0
		for _, one := range s.Browsers {
			if one.whose() == b.whose() {
				own++
			}
		}
		if own >= mostOfOne {
			return fmt.Errorf("%w: %d of yours are called already; take one out that is not used any more", ErrBrowser, own)
		}
		if len(s.Browsers) >= mostCalls {
			return fmt.Errorf("%w: %d are called already; take one out that is not used any more", ErrBrowser, mostCalls)
		}
		s.Browsers = append(s.Browsers, b)
		return nil
	})
	return b, err
}

// check says what is wrong with a browser.
func (n *Notices) check(b Browser) error {
	u, err := url.Parse(b.Endpoint)
	if err != nil || u.Host == "" || u.User != nil || !n.cfg.Anywhere && (u.Scheme != "https" || u.Port() != "" && u.Port() != httpsPort) || len(b.Endpoint) > 2000 {
		return fmt.Errorf("%w: the address of its push service is none that begins with https://, at the port that goes with it", ErrBrowser)
	}
	key, err := base64.RawURLEncoding.DecodeString(strings.TrimRight(b.Key, "="))
	if err == nil {
		_, err = ecdh.P256().NewPublicKey(key)
	}
	if err != nil {
		return fmt.Errorf("%w: its key is no point of P-256 in base64url", ErrBrowser)
	}
	if secret, err := base64.RawURLEncoding.DecodeString(strings.TrimRight(b.Secret, "=")); err != nil || len(secret) != 16 {
		return fmt.Errorf("%w: its secret is not 16 bytes in base64url", ErrBrowser)
	}
	if len(b.Name) > 60 || strings.ContainsFunc(b.Name, func(r rune) bool { return r < ' ' || r == 0x7f }) {
		return fmt.Errorf("%w: its name has more than 60 letters, or such as cannot be shown", ErrBrowser)
	}
	return nil
}

// Leave lets a browser be called no more.
func (n *Notices) Leave(id string) error {
	return n.change(func(s *state) error {
		if !slices.ContainsFunc(s.Browsers, func(b Browser) bool { return b.ID == id }) {
			return ErrMissing
		}
		s.drop(func(b Browser) bool { return b.ID == id })
		return nil
	})
}

// Try calls one browser, so that a person sees whether notices arrive.
func (n *Notices) Try(id string) error {
	now := time.Now().UTC()
	return n.change(func(s *state) error {
		i := slices.IndexFunc(s.Browsers, func(b Browser) bool { return b.ID == id })
		if i < 0 {
			return ErrMissing
		}
		if !n.mayTry(s.Browsers[i].whose(), now) {
			return fmt.Errorf("%w: wait %.0f seconds", ErrOften, trialEvery.Seconds())
		}
		s.Outbox = slices.DeleteFunc(s.Outbox, func(c call) bool { return c.Browser == id && c.Notice.Kind == notice.Trial })
		s.Outbox = append(s.Outbox, call{Browser: id, Next: now, Notice: notice.Notice{ID: newID(), At: now, Kind: notice.Trial, Title: "notices arrive here", Text: "This is how it looks."}})
		return nil
	})
}

// mayTry reports whether somebody may try a browser now, and takes that as done.
func (n *Notices) mayTry(whose string, now time.Time) bool {
	n.mu.Lock()
	defer n.mu.Unlock()
	maps.DeleteFunc(n.tried, func(_ string, at time.Time) bool { return now.Sub(at).Abs() > trialEvery })
	if _, just := n.tried[whose]; just {
		return false
	}
	n.tried[whose] = now
	return true
}

func newID() string {
	id, err := uuid.NewV7()
	if err != nil {
		id = uuid.New()
	}
	return id.String()
}

// drop forgets browsers, and what waits for them.
func (s *state) drop(which func(Browser) bool) {
	gone := map[string]bool{}
	for _, b := range s.Browsers {
		gone[b.ID] = which(b)
	}
	s.Browsers = slices.DeleteFunc(slices.Clone(s.Browsers), which)
	s.Outbox = slices.DeleteFunc(slices.Clone(s.Outbox), func(c call) bool { return gone[c.Browser] })
}

// change changes what is kept, in one write, and lets it be looked what is due.
func (n *Notices) change(f func(*state) error) error {
	n.turn.Lock()
	defer n.turn.Unlock()
	s := n.kept.Get()
	s.Browsers, s.Outbox, s.Recent = slices.Clone(s.Browsers), slices.Clone(s.Outbox), slices.Clone(s.Recent)
	if err := f(&s); err != nil {
		return err
	}
	s.bound()
	err := n.kept.Put(s)
	n.due()
	return err
}

// bound keeps the last that wait for each browser, and what is urgent before what is not.
func (s *state) bound() {
	waiting := map[string]int{}
	for _, c := range s.Outbox {
		waiting[c.Browser]++
	}
	for _, urgent := range []bool{false, true} {
		s.Outbox = slices.DeleteFunc(s.Outbox, func(c call) bool {
			if waiting[c.Browser] <= mostWaiting || c.Notice.Kind.Urgent() != urgent {
				return false
			}
			waiting[c.Browser]--
			return true
		})
	}
}

// Work looks and delivers until ctx ends.
func (n *Notices) Work(ctx context.Context) {
	var delivering sync.WaitGroup
	delivering.Go(func() { n.deliver(ctx) })
	defer delivering.Wait()
	every := time.NewTicker(lookEvery)
	defer every.Stop()
	for {
		if f, err := n.cfg.Facts(ctx); err == nil {
			n.look(f)
		}
		select {
		case <-every.C:
		case <-ctx.Done():
			return
		}
	}
}

// look tells what is new.
func (n *Notices) look(f notice.Facts) {
	before := n.kept.Get().Watch
	watch := before
	watch.Alarms = slices.Clone(before.Alarms)
	told := watch.Look(f)
	if len(told) == 0 && watch.Same(before) {
		return
	}
	for i := range told {
		told[i].ID, told[i].Title = newID(), n.cfg.Printer+": "+told[i].Title
	}
	err := n.change(func(s *state) error {
		s.Watch = watch
		s.Recent = append(s.Recent, told...)
		s.Recent = slices.Clone(s.Recent[max(len(s.Recent)-mostKept, 0):])
		for _, one := range told {
			for _, b := range s.Browsers {
				if !one.Quiet && b.wants(one.Kind) {
					s.Outbox = append(s.Outbox, call{Notice: one, Browser: b.ID, Next: one.At})
				}
			}
		}
		return nil
	})
	if err != nil {
		n.cfg.Log.Error("notices are not kept, and told again the next time", "error", err)
		return
	}
	for _, one := range told {
		n.cfg.Tell(one)
	}
}

// wants reports whether a browser is to be called for a kind; without any it is for all.
func (b Browser) wants(k notice.Kind) bool { return len(b.Kinds) == 0 || slices.Contains(b.Kinds, k) }
