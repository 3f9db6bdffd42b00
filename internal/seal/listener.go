package seal

import (
	"crypto/tls"
	"net"
	"sync"
	"time"
)

// handshake is the first byte of a connection by TLS: the type of its first record (RFC
// 8446, 5.1). No request of HTTP begins so.
const handshake = 0x16

// helloWithin is how long a connection may say nothing.
const helloWithin = 10 * time.Second

// Listener unseals what begins as TLS does, and hands on the rest as it is. Closing it
// closes l.
func (s *Seal) Listener(l net.Listener) net.Listener {
	out := &listener{Listener: l, config: s.Config(), came: make(chan net.Conn), closed: make(chan struct{})}
	go out.accept()
	return out
}

type listener struct {
	net.Listener
	config *tls.Config
	came   chan net.Conn
	closed chan struct{}
	once   sync.Once
	err    error // once closed
}

func (l *listener) end(err error) {
	l.once.Do(func() {
		l.err = err
		close(l.closed)
	})
}

// accept lets connections say what they are beside one another: none waits for another.
func (l *listener) accept() {
	for {
		c, err := l.Listener.Accept()
		if err != nil {
			l.end(err)
			return
		}
		go func() {
			c.SetReadDeadline(time.Now().Add(helloWithin))
			first := &begun{Conn: c}
			if _, err := c.Read(first.byte[:]); err != nil {
				c.Close()
				return
			}
			c.SetReadDeadline(time.Time{})
			in := net.Conn(first)
			if first.byte[0] == handshake {
				in = tls.Server(first, l.config)
			}
			select {
			case l.came <- in:
			case <-l.closed:
				c.Close()
			}
		}()
	}
}

// Accept waits for a connection that has said something.
func (l *listener) Accept() (net.Conn, error) {
	select {
	case c := <-l.came:
		return c, nil
	case <-l.closed:
		return nil, l.err
	}
}

// Close closes the listener.
func (l *listener) Close() error {
	l.end(net.ErrClosed)
	return l.Listener.Close()
}

// begun is a connection whose first byte has been read.
type begun struct {
	net.Conn
	byte [1]byte
	read bool
}

// Read reads the first byte first.
func (c *begun) Read(b []byte) (int, error) {
	if c.read || len(b) == 0 {
		return c.Conn.Read(b)
	}
	c.read = true
	return copy(b, c.byte[:]), nil
}

// NetConn is the connection below.
func (c *begun) NetConn() net.Conn { return c.Conn }
