package port

import (
	"io"
	"sync"
	"sync/atomic"
	"time"
)

// A Trier is a port that takes what it can without keeping anybody waiting.
type Trier interface {
	TryWrite([]byte) (int, error)
}

// A Writer carries bytes to a port that may be slow, what is urgent ahead of all else.
type Writer struct {
	port    io.Writer
	failed  func(error)
	waiting atomic.Int32 // what has been handed over and not been written
	normal  chan []byte
	urgent  chan []byte
	begun   chan []byte // the rest of what was written in part
	out     chan time.Time
	quit    chan struct{}
}

// NewWriter begins to carry bytes to a port. It calls failed once, if the port fails;
// that must not wait.
func NewWriter(port io.Writer, failed func(error)) *Writer {
	w := &Writer{port: port, failed: once(failed), normal: make(chan []byte, 64), urgent: make(chan []byte, 4), begun: make(chan []byte, 1), out: make(chan time.Time, 4), quit: make(chan struct{})}
	go w.work()
	return w
}

func once(f func(error)) func(error) {
	var done sync.Once
	return func(err error) { done.Do(func() { f(err) }) }
}

// Write hands bytes over. It reports whether there is room for them: a port that takes
// nothing keeps sixty-four such waiting. What the port takes without waiting is written
// at once: waking a goroutine for every line costs more than the line.
func (w *Writer) Write(b []byte) bool {
	if port, can := w.port.(Trier); can && w.waiting.Load() == 0 {
		n, err := port.TryWrite(b)
		if err != nil {
			w.failed(err)
			return true // and nothing follows
		}
		if b = b[n:]; len(b) == 0 {
			return true
		}
		if n > 0 { // nothing comes into the middle of a line, not even a halt
			return w.hand(w.begun, b)
		}
	}
	return w.hand(w.normal, b)
}

// Urge hands bytes over that go ahead of all others. Where four such wait already
// before a port that takes nothing, these are as good as said.
func (w *Writer) Urge(b []byte) { w.hand(w.urgent, b) }

// Out tells when what was urgent had been written.
func (w *Writer) Out() <-chan time.Time { return w.out }

// Quit ends the writing.
func (w *Writer) Quit() { close(w.quit) }

func (w *Writer) hand(to chan []byte, b []byte) bool {
	w.waiting.Add(1)
	select {
	case to <- append([]byte(nil), b...):
		return true
	default:
		w.waiting.Add(-1)
		return false
	}
}

func (w *Writer) work() {
	for {
		var b []byte
		hurry := false
		select {
		case b = <-w.urgent:
			hurry = true
		default:
			select {
			case b = <-w.urgent:
				hurry = true
			case b = <-w.begun:
			case b = <-w.normal:
			case <-w.quit:
				return
			}
		}
		select { // a line that was begun before it
		case rest := <-w.begun:
			if !w.put(rest) {
				return
			}
		default:
		}
		if !w.put(b) {
			return
		}
		if hurry {
			select {
			case w.out <- time.Now():
			default: // four have not been noted yet
			}
		}
	}
}

// put writes bytes, as long as the port takes for them. It reports whether that went
// well.
func (w *Writer) put(b []byte) bool {
	if _, err := w.port.Write(b); err != nil {
		w.failed(err)
		return false
	}
	w.waiting.Add(-1)
	return true
}
