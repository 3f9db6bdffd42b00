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
	"context"
	"crypto/ecdh"
	"encoding/base64"
	"errors"
	"fmt"
	"log/slog"
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
	lookEvery = time.Second
	mostKept  = 100
	mostCalls = 50
)

// Errors that callers tell apart.
var (
	ErrBrowser = errors.New("this browser cannot be called")
	ErrMissing = errors.New("no such browser is called")
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
	Trouble  string // why it was not reached last; empty: it was, or was not called yet
}

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
}

// Open reads what is kept. What cannot be read is told and begun anew.
func Open(c Config) (*Notices, error) {
	n := &Notices{cfg: c, wake: make(chan struct{}, 1)}
	var err error
	if n.kept, err = durable.OpenValue[state](c.Path, func(err error) { c.Log.Error("notices are not kept", "error", err) }); err != nil {
		c.Log.Error("what was told before is not known any more, nor which browsers are called", "error", err)
	}
	if n.cfg.Client == nil {
		n.cfg.Client = &http.Client{Timeout: callFor, CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }}
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
				b.ID, b.Since = one.ID, one.Since
				s.Browsers[i] = b
				return nil
			}
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
	if err != nil || u.Host == "" || u.User != nil || u.Scheme != "https" && !n.cfg.Anywhere || len(b.Endpoint) > 2000 {
		return fmt.Errorf("%w: the address of its push service is none that begins with https://", ErrBrowser)
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
		if !slices.ContainsFunc(s.Browsers, func(b Browser) bool { return b.ID == id }) {
			return ErrMissing
		}
		s.Outbox = append(s.Outbox, call{Browser: id, Next: now, Notice: notice.Notice{ID: newID(), At: now, Kind: notice.Trial, Title: "notices arrive here", Text: "This is how it looks."}})
		return nil
	})
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
	err := n.kept.Put(s)
	select {
	case n.wake <- struct{}{}:
	default:
	}
	return err
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
