package port

import (
	"errors"
	"io"
	"os"
	"sync/atomic"
	"time"
)

// Timed is a port for which whoever reads it can wait himself.
type Timed interface {
	io.Reader
	SetReadDeadline(time.Time) error
	TryRead([]byte) (int, error) // what has come; none if nothing has
}

// A Reader reads a port until that fails. Next is for one goroutine, Wake for all.
type Reader struct {
	port  Timed // nil: a goroutine reads it
	buf   []byte
	woken atomic.Bool

	bytes  chan []byte
	failed chan error
	wake   chan struct{}
	over   chan struct{}
}

// Read begins to read a port. One that cannot be waited for gets a goroutine of its own,
// which costs a line as much again as all that is done for it.
func Read(port io.Reader) *Reader {
	r := &Reader{buf: make([]byte, 1024)}
	if timed, is := port.(Timed); is {
		r.port = timed
		return r
	}
	r.bytes, r.failed, r.wake, r.over = make(chan []byte, 16), make(chan error, 1), make(chan struct{}, 1), make(chan struct{})
	go r.work(port)
	return r
}

func (r *Reader) work(port io.Reader) {
	for {
		buf := make([]byte, 1024)
		n, err := port.Read(buf)
		if n > 0 {
			select {
			case r.bytes <- buf[:n]:
			case <-r.over:
				return
			}
		}
		if err == nil && n == 0 {
			err = io.EOF
		}
		if err != nil {
			r.failed <- err
			return
		}
	}
}

// Next returns what has been read, which is good until it is called again. It returns
// nothing once until has come or somebody calls Wake.
func (r *Reader) Next(until time.Time) ([]byte, error) {
	if r.port == nil {
		return r.next(until)
	}
	if err := r.port.SetReadDeadline(until); err != nil {
		return nil, err
	}
	// Whoever wakes says so first and then sets a deadline that is past: it is seen here,
	// or it ends the reading below.
	if !r.woken.Swap(false) {
		n, err := r.port.Read(r.buf)
		if !errors.Is(err, os.ErrDeadlineExceeded) {
			return r.buf[:n], err
		}
		r.woken.Store(false)
	}
	n, err := r.port.TryRead(r.buf) // so that nobody who wakes again and again keeps what has come back
	return r.buf[:n], err
}

func (r *Reader) next(until time.Time) ([]byte, error) {
	timer := time.NewTimer(time.Until(until))
	defer timer.Stop()
	select {
	case data := <-r.bytes:
		return data, nil
	case err := <-r.failed:
		return nil, err
	case <-r.wake:
	case <-timer.C:
	}
	return nil, nil
}

// Wake lets Next return, at once or as soon as it is called.
func (r *Reader) Wake() {
	if r.port != nil {
		r.woken.Store(true)
		r.port.SetReadDeadline(time.Unix(1, 0)) // of a port that has failed Next tells
		return
	}
	select {
	case r.wake <- struct{}{}:
	default:
	}
}

// Quit ends the reading, as soon as the port lets go.
func (r *Reader) Quit() {
	if r.over != nil {
		close(r.over)
	}
}
