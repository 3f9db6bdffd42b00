package port

import (
	"errors"
	"io"
	"os"
	"sync/atomic"
	"time"
)

// A Reader reads a port until that fails. Next is for one goroutine, Wake for all.
type Reader interface {
	// Next returns what has been read, which is good until it is called again. It returns
	// nothing once until has come or somebody calls Wake.
	Next(until time.Time) ([]byte, error)
	// Wake lets Next return, at once or as soon as it is called.
	Wake()
	// Quit ends the reading, as soon as the port lets go.
	Quit()
}

// Timed is a port for which whoever reads it can wait himself.
type Timed interface {
	io.Reader
	SetReadDeadline(time.Time) error
	TryRead([]byte) (int, error) // what has come; none if nothing has
}

// Read begins to read a port. One that cannot be waited for gets a goroutine of its own,
// which costs a line as much again as all that is done for it.
func Read(port io.Reader) Reader {
	if timed, is := port.(Timed); is {
		return &direct{port: timed, buf: make([]byte, chunk)}
	}
	a := &aside{
		came: make(chan came, 16), wake: make(chan struct{}, 1), over: make(chan struct{}),
	}
	go a.work(port)
	return a
}

// chunk is how many bytes are read at once, at the most.
const chunk = 1024

// direct reads a port by whoever calls Next.
type direct struct {
	port  Timed
	buf   []byte
	woken atomic.Bool
}

func (d *direct) Next(until time.Time) ([]byte, error) {
	if err := d.port.SetReadDeadline(until); err != nil {
		return nil, err
	}
	// Whoever wakes says so first and then sets a deadline that is past: it is seen here,
	// or it ends the reading below.
	if !d.woken.Swap(false) {
		n, err := d.port.Read(d.buf)
		if !errors.Is(err, os.ErrDeadlineExceeded) {
			return d.buf[:n], err
		}
		d.woken.Store(false)
	}
	n, err := d.port.TryRead(d.buf) // so that nobody who wakes again and again keeps what has come back
	return d.buf[:n], err
}

func (d *direct) Wake() {
	d.woken.Store(true)
	d.port.SetReadDeadline(time.Unix(1, 0)) // of a port that has failed Next tells
}

func (d *direct) Quit() {}

// aside reads a port on a goroutine of its own.
type aside struct {
	came chan came
	wake chan struct{}
	over chan struct{}
}

// came is what a port has given: bytes, or behind all of them why it gives none any more.
type came struct {
	bytes  []byte
	failed error
}

func (a *aside) work(port io.Reader) {
	for {
		buf := make([]byte, chunk)
		n, err := port.Read(buf)
		if n > 0 && !a.tell(came{bytes: buf[:n]}) {
			return
		}
		if err = ended(n, err); err != nil {
			a.tell(came{failed: err})
			return
		}
	}
}

// tell reports whether somebody will hear it.
func (a *aside) tell(c came) bool {
	select {
	case a.came <- c:
		return true
	case <-a.over:
		return false
	}
}

func (a *aside) Next(until time.Time) ([]byte, error) {
	timer := time.NewTimer(time.Until(until))
	defer timer.Stop()
	select {
	case c := <-a.came:
		return c.bytes, c.failed
	case <-a.wake:
	case <-timer.C:
	}
	return nil, nil
}

func (a *aside) Wake() {
	select {
	case a.wake <- struct{}{}:
	default:
	}
}

func (a *aside) Quit() { close(a.over) }
