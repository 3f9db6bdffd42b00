package people

import (
	"crypto/hmac"
	"crypto/rand"
	"crypto/sha256"
	"encoding/hex"
	"log/slog"
	"maps"
	"net/netip"
	"slices"
	"strings"
	"sync"
	"time"

	"diathermon/internal/durable"
)

// familiar is by which browsers and from which networks somebody was in before. Those find
// the door open, whatever strangers do at it, also after the host was started anew.
type familiar struct {
	kept *durable.Value[familiarKept] // nil: in memory alone

	mu       sync.Mutex
	secret   []byte // of the marks that browsers keep
	networks map[string][]network
	at       map[netip.Prefix]int // how many are familiar there
	changed  bool
}

// familiarKept is what is on the disk.
type familiarKept struct {
	Secret   []byte
	Networks map[string][]network // by who was in from there: a person, or a token
}

// A network is where somebody came from (neighbourhood).
type network struct {
	Prefix netip.Prefix
	Last   time.Time
}

// Each has a few networks, the last ones, so that nobody who has a token makes the whole
// world familiar.
const (
	mostNetworks = 4
	networkEvery = time.Hour // how exactly it is kept when somebody was there last
)

func openFamiliar(path string, log *slog.Logger) *familiar {
	f := &familiar{networks: map[string][]network{}, at: map[netip.Prefix]int{}}
	if path != "" {
		kept, err := durable.OpenValue[familiarKept](path, nil)
		if err != nil {
			log.Warn("which browsers were signed in before is not known any more", "error", err)
		}
		now := kept.Get()
		f.kept, f.secret = kept, now.Secret
		for self, all := range now.Networks {
			for _, n := range all[:min(len(all), mostNetworks)] {
				f.networks[self] = append(f.networks[self], n)
				f.at[n.Prefix]++
			}
		}
	}
	if len(f.secret) != 32 {
		f.secret, f.changed = make([]byte, 32), true
		rand.Read(f.secret)
		if err := f.keep(func(string) bool { return true }); err != nil {
			log.Warn("which browsers were signed in before will not be known after the next start", "error", err)
		}
	}
	return f
}

// keep writes down what has changed, of those who are there still.
func (f *familiar) keep(there func(self string) bool) error {
	f.mu.Lock()
	for self, all := range f.networks {
		if there(self) {
			continue
		}
		for _, n := range all {
			f.leave(n.Prefix)
		}
		delete(f.networks, self)
		f.changed = true
	}
	now := familiarKept{f.secret, maps.Clone(f.networks)}
	changed := f.changed
	f.changed = false
	f.mu.Unlock()
	if !changed || f.kept == nil {
		return nil
	}
	err := f.kept.Put(now)
	if err != nil {
		f.mu.Lock()
		f.changed = true
		f.mu.Unlock()
	}
	return err
}

// leave takes one off a network; the lock is held.
func (f *familiar) leave(p netip.Prefix) {
	if f.at[p]--; f.at[p] <= 0 {
		delete(f.at, p)
	}
}

// seen notes that somebody was in from an address.
func (f *familiar) seen(self, from string, now time.Time) {
	p := neighbourhood(from)
	if !p.IsValid() {
		return
	}
	f.mu.Lock()
	defer f.mu.Unlock()
	all := f.networks[self]
	i := slices.IndexFunc(all, func(n network) bool { return n.Prefix == p })
	if i >= 0 && now.Sub(all[i].Last).Abs() < networkEvery {
		return
	}
	all = slices.Clone(all) // what was given to the disk stays as it is
	switch {
	case i >= 0:
		all[i].Last = now
	case len(all) >= mostNetworks:
		oldest := 0
		for j, n := range all {
			if n.Last.Before(all[oldest].Last) {
				oldest = j
			}
		}
		f.leave(all[oldest].Prefix)
		all[oldest] = network{p, now}
		f.at[p]++
	default:
		all = append(all, network{p, now})
		f.at[p]++
	}
	f.networks[self], f.changed = all, true
}

// Near reports whether anybody was in before from the network of an address.
func (p *People) Near(from string) bool { return p.familiar.near(from) }

func (f *familiar) near(from string) bool {
	f.mu.Lock()
	defer f.mu.Unlock()
	return f.at[neighbourhood(from)] > 0
}

// mark is what a browser keeps from which somebody has signed in, to be known by.
func (f *familiar) mark(account string) string {
	m := hmac.New(sha256.New, f.secret)
	m.Write([]byte(account))
	return account + "." + hex.EncodeToString(m.Sum(nil))
}

// marked reports whether a mark is of the account.
func (f *familiar) marked(account, mark string) bool {
	return account != "" && hmac.Equal([]byte(mark), []byte(f.mark(account)))
}

// knows reports whether somebody was in before, by the browser or from the network.
func (f *familiar) knows(account, mark, from string) bool {
	if account == "" || f.marked(account, mark) {
		return account != ""
	}
	p := neighbourhood(from)
	f.mu.Lock()
	defer f.mu.Unlock()
	return slices.ContainsFunc(f.networks[account], func(n network) bool { return n.Prefix == p })
}

// Familiar reports whether whoever comes from an address, with the mark that a browser has
// kept, was in before.
func (p *People) Familiar(from, mark string) bool {
	if p.familiar.near(from) {
		return true
	}
	account, _, _ := strings.Cut(mark, ".")
	p.mu.Lock()
	there := p.accounts[account] != nil
	p.mu.Unlock()
	return there && p.familiar.marked(account, mark)
}

// Mark is what the browser of somebody who is in keeps, to be known by; empty: it is nobody's.
func (p *People) Mark(h *Holder) string {
	if h.Account == "" {
		return ""
	}
	return p.familiar.mark(h.Account)
}
