package people

import (
	"context"
	"net/netip"
	"sync"
	"time"

	"golang.org/x/time/rate"
)

// guesses slows down those who try codes. A right code is never slowed down, whoever
// tries wrong ones meanwhile: nobody can lock the owner out. It need not be, since a
// code or token has 130 random bits; what is won is that guessing costs time and is
// seen in the log.
type guesses struct {
	each      pace // of one address
	mu        sync.Mutex
	all       *rate.Limiter
	addresses map[netip.Prefix]*guesser
}

// pace is how often something may be guessed wrong: so many times at once, then each
// time after so long.
type pace struct {
	every  time.Duration
	atOnce int
}

func (p pace) limiter() *rate.Limiter { return rate.NewLimiter(rate.Every(p.every), p.atOnce) }

type guesser struct {
	rate *rate.Limiter
	last time.Time
}

// How often codes may be guessed, by one address and by all; and tokens, which a
// program that was not told of their end sends again and again.
var (
	codesOfOne  = pace{2 * time.Second, 5}
	codesOfAll  = pace{200 * time.Millisecond, 30}
	tokensOfOne = pace{100 * time.Millisecond, 50}
	tokensOfAll = pace{20 * time.Millisecond, 200}
)

const (
	guessWait = 4 * time.Second // for a wrong guess's answer; those who would wait longer are sent away
	guessers  = 4096            // addresses that are remembered
)

func newGuesses(one, all pace) *guesses {
	return &guesses{each: one, all: all.limiter(), addresses: map[netip.Prefix]*guesser{}}
}

// wrong waits for the turn of a wrong guess. It returns how long the guesser should
// stay away if that is too far off; then the guess counts as not looked at.
func (g *guesses) wrong(ctx context.Context, address string) time.Duration {
	wait := g.reserve(address, time.Now())
	if wait > guessWait {
		return wait
	}
	select {
	case <-time.After(wait):
	case <-ctx.Done():
	}
	return 0
}

func (g *guesses) reserve(address string, now time.Time) time.Duration {
	g.mu.Lock()
	defer g.mu.Unlock()
	from := neighbourhood(address)
	who := g.addresses[from]
	if who == nil {
		if len(g.addresses) >= guessers {
			g.forget()
		}
		who = &guesser{rate: g.each.limiter()}
		g.addresses[from] = who
	}
	who.last = now
	mine, ours := who.rate.ReserveN(now, 1), g.all.ReserveN(now, 1)
	wait := max(mine.DelayFrom(now), ours.DelayFrom(now))
	if wait > guessWait { // it takes nobody's turn
		mine.CancelAt(now)
		ours.CancelAt(now)
	}
	return wait
}

// forget drops an address: of a handful, as the map gives them, the one that has been
// quiet longest. All together are bounded still.
func (g *guesses) forget() {
	var oldest netip.Prefix
	looked := 0
	for p, who := range g.addresses {
		if looked == 0 || who.last.Before(g.addresses[oldest].last) {
			oldest = p
		}
		if looked++; looked == 16 {
			break
		}
	}
	delete(g.addresses, oldest)
}

// neighbourhood is the address that counts as one: of IPv6 the network, within which
// one computer may have as many as it likes.
func neighbourhood(address string) netip.Prefix {
	a, err := netip.ParseAddr(address)
	if err != nil {
		return netip.Prefix{}
	}
	a = a.Unmap().WithZone("")
	bits := 32
	if a.Is6() {
		bits = 64
	}
	p, err := a.Prefix(bits)
	if err != nil {
		return netip.Prefix{}
	}
	return p
}
