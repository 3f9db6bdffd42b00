// Package gate is a listener that keeps room for those who are known: a connection
// is a stranger's until a request on it has shown a good token, and strangers share
// a few places among them.
//
// It promises that a newcomer is always let in, and that no number of strangers
// takes the places, or the descriptors, of those who are known: the stranger who has
// been there longest, of the address that has most of them, goes for each who comes.
// It leaves to web who is known.
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
	return Places{All: all, Strangers: min(max(all/8, 2), 64)}
}

// A Listener lets connections in.
type Listener struct {
	net.Listener
	places Places

	mu    sync.Mutex
	all   map[*conn]bool
	order uint64
}

// New returns a Listener on l.
func New(l net.Listener, p Places) *Listener {
	return &Listener{Listener: l, places: p, all: map[*conn]bool{}}
}

// conn is a connection that was let in.
type conn struct {
	net.Conn
	gate    *Listener
	address string
	order   uint64 // in which it came
	known   bool
	idle    bool
	closing sync.Once
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
	strangers := map[string]int{}
	n := 0
	for other := range l.all {
		if !other.known {
			strangers[other.address]++
			n++
		}
	}
	l.all[c] = true
	if n < l.places.Strangers && len(l.all) <= l.places.All {
		return nil
	}
	var victim *conn
	for other := range l.all {
		switch {
		case other == c || other.known && !other.idle:
		case victim == nil, victim.known && !other.known:
			victim = other
		case other.known != victim.known:
		case other.known && other.order < victim.order:
			victim = other
		case !other.known && (strangers[other.address] > strangers[victim.address] || strangers[other.address] == strangers[victim.address] && other.order < victim.order):
			victim = other
		}
	}
	if victim == nil { // all are known and at work
		victim = c
	}
	delete(l.all, victim)
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

// Admit notes that a good token was shown on the connection of a request.
func Admit(ctx context.Context) {
	if in, ok := ctx.Value(key{}).(*conn); ok {
		in.gate.mu.Lock()
		defer in.gate.mu.Unlock()
		in.known = true
	}
}
