package port

import (
	"io"
	"time"
)

// A Writer carries bytes to a port that may be slow, what is urgent ahead of all else.
type Writer struct {
	normal chan []byte
	urgent chan []byte
	out    chan time.Time
	quit   chan struct{}
}

// NewWriter begins to carry bytes to a port. It calls failed once, if the port fails.
func NewWriter(port io.Writer, failed func(error)) *Writer {
	w := &Writer{normal: make(chan []byte, 64), urgent: make(chan []byte, 4), out: make(chan time.Time, 4), quit: make(chan struct{})}
	go w.work(port, failed)
	return w
}

// Write hands bytes over. It reports whether there is room for them: a port that takes
// nothing keeps sixty-four such waiting.
func (w *Writer) Write(b []byte) bool { return hand(w.normal, b) }

// Urge hands bytes over that go ahead of all others. Where four such wait already
// before a port that takes nothing, these are as good as said.
func (w *Writer) Urge(b []byte) { hand(w.urgent, b) }

// Out tells when what was urgent had been written.
func (w *Writer) Out() <-chan time.Time { return w.out }

// Quit ends the writing.
func (w *Writer) Quit() { close(w.quit) }

func hand(to chan []byte, b []byte) bool {
	select {
	case to <- append([]byte(nil), b...):
		return true
	default:
		return false
	}
}

func (w *Writer) work(port io.Writer, failed func(error)) {
	for {
		var b []byte
		hurry := true
		select {
		case b = <-w.urgent:
		default:
			select {
			case b = <-w.urgent:
			case b = <-w.normal:
				hurry = false
			case <-w.quit:
				return
			}
		}
		if _, err := port.Write(b); err != nil {
			failed(err)
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
