// Package gate is a listener that keeps room for those who are known: a connection
// is a stranger's until a request on it has shown a good token, and strangers share
// a few places among them. Those who come from where somebody was in before have places
// of their own.
//
// It promises that a newcomer is let in, that no number of strangers takes the places, or
// the descriptors, of those who are known or familiar, and that nobody who is known takes
// those of the others: who has been there longest, of the address or the person that has
// most of them, goes for each who comes. It leaves to web who is known.
package gate

import (
	"context"
	"net"
	"net/http"
	"sync"
	"syscall"
)

// Places is how many connections there may be.
type Places struct {
	All       int // together
	Strangers int // of which no good token has been shown on
	Familiar  int // of which neither, from where somebody was in before
	OfOne     int // of one person or program that is known
}

// reserved is how many descriptors the rest of the process needs: its database, its
// port, its files.
const reserved = 64

// Ordinary are as many places as the process has descriptors for, but no more than a
// small computer bears.
func Ordinary() Places {
	limit := syscall.Rlimit{Cur: 1024}
	syscall.Getrlimit(syscall.RLIMIT_NOFILE, &limit)
	all := int(min(limit.Cur, 1<<20)) - reserved
	all = min(max(all, int(min(limit.Cur, 1<<20))/4, 4), 1024)
	few := min(max(all/8, 2), 64)
	return Places{All: all, Strangers: few, Familiar: few, OfOne: few}
}

// A Listener lets connections in.
type Listener struct {
	net.Listener
	places   Places
	familiar func(address string) bool

	mu    sync.Mutex
	all   map[*conn]bool
	order uint64
}

// New returns a Listener on l. Familiar tells from which addresses somebody was in before.
func New(l net.Listener, p Places, familiar func(address string) bool) *Listener {
	return &Listener{Listener: l, places: p, familiar: familiar, all: map[*conn]bool{}}
}

// A rank is how well somebody is known: the lesser goes first.
type rank int

// The ranks.
const (
	stranger rank = iota
	familiar
	known
)

// conn is a connection that was let in.
type conn struct {
	net.Conn
	gate    *Listener
	address string
	order   uint64 // in which it came
	rank    rank
	who     string // of the known: the person or the program
	idle    bool
	closing sync.Once
}

// whose is who shares places with it: one of few has more of them than another.
func (c *conn) whose() string {
	if c.rank == known {
		return c.who
	}
	return c.address
}

// Accept waits for a connection.
func (l *Listener) Accept() (net.Conn, error) {
	for {
		c, err := l.Listener.Accept()
		if err != nil {
			return nil, err
		}
		address, _, err := net.SplitHostPort(c.RemoteAddr().String())
		if err != nil {
			address = c.RemoteAddr().String()
		}
		in := &conn{Conn: c, gate: l, address: address}
		if l.familiar(address) {
			in.rank = familiar
		}
		victim := l.enter(in)
		if victim != nil {
			victim.Close()
		}
		if victim != in {
			return in, nil
		}
	}
}

// enter takes a connection in and returns the one that has to go for it, if any.
func (l *Listener) enter(c *conn) *conn {
	l.mu.Lock()
	defer l.mu.Unlock()
	l.order++
	c.order = l.order
	l.all[c] = true
	places := l.places.Strangers
	if c.rank == familiar {
		places = l.places.Familiar
	}
	victim := l.crowded(c, func(o *conn) bool { return o.rank == c.rank }, places)
	for r := stranger; victim == nil && len(l.all) > l.places.All; r++ {
		if r > known { // there is nobody else
			victim = c
			break
		}
		victim = l.crowded(c, func(o *conn) bool { return o.rank == r }, 0)
	}
	delete(l.all, victim)
	return victim
}

// crowded returns who goes for a newcomer of those that which reports, if there are more than so
// many, the newcomer among them: of whoever has most of them one on which nothing is asked,
// and of these the oldest. The lock is held.
func (l *Listener) crowded(newcomer *conn, which func(*conn) bool, places int) *conn {
	count, n := map[string]int{}, 0
	for o := range l.all {
		if which(o) {
			count[o.whose()]++
			n++
		}
	}
	if n <= places {
		return nil
	}
	var victim *conn
	for o := range l.all {
		switch {
		case o == newcomer || !which(o):
		case victim == nil:
			victim = o
		case count[o.whose()] != count[victim.whose()]:
			if count[o.whose()] > count[victim.whose()] {
				victim = o
			}
		case o.rank == known && o.idle != victim.idle:
			if o.idle {
				victim = o
			}
		case o.order < victim.order:
			victim = o
		}
	}
	return victim
}

// Close takes the connection out.
func (c *conn) Close() error {
	c.closing.Do(func() {
		c.gate.mu.Lock()
		defer c.gate.mu.Unlock()
		delete(c.gate.all, c)
	})
	return c.Conn.Close()
}

type key struct{}

// Context is for http.Server.ConnContext: with it Admit finds the connection.
func Context(ctx context.Context, c net.Conn) context.Context {
	if in := below(c); in != nil {
		return context.WithValue(ctx, key{}, in)
	}
	return ctx
}

// below is the connection that was let in, below those that encrypt it.
func below(c net.Conn) *conn {
	for c != nil {
		if in, ok := c.(*conn); ok {
			return in
		}
		over, ok := c.(interface{ NetConn() net.Conn })
		if !ok {
			return nil
		}
		c = over.NetConn()
	}
	return nil
}

// State is for http.Server.ConnState: a connection on which nothing is asked goes
// before one at work.
func State(c net.Conn, s http.ConnState) {
	if in := below(c); in != nil {
		in.gate.mu.Lock()
		defer in.gate.mu.Unlock()
		in.idle = s == http.StateIdle
	}
}

// Admit notes that a good token of somebody's was shown on the connection of a request. If
// they have more connections than anybody may, one of their others goes for it.
func Admit(ctx context.Context, who string) {
	in, ok := ctx.Value(key{}).(*conn)
	if !ok {
		return
	}
	l := in.gate
	l.mu.Lock()
	in.rank, in.who = known, who
	victim := l.crowded(in, func(o *conn) bool { return o.rank == known && o.who == who }, l.places.OfOne)
	delete(l.all, victim)
	l.mu.Unlock()
	if victim != nil {
		victim.Close()
	}
}

// Recognise notes that whoever sends a request was in before, as its browser shows.
func Recognise(ctx context.Context) {
	if in, ok := ctx.Value(key{}).(*conn); ok {
		in.gate.mu.Lock()
		defer in.gate.mu.Unlock()
		in.rank = max(in.rank, familiar)
	}
}
