package host

import (
	"context"
	"fmt"
	"io"
	"time"
)

// hangsAfter is how long a port may take to open before a person is told.
const hangsAfter = 5 * time.Second

// opening is a port that is being found and opened, which may take for ever where a
// driver hangs: the machine's owner does not wait for it.
type opening struct {
	found chan string // the device, before it is opened
	done  chan opened
}

// opened is what has come of an opening.
type opened struct {
	device string
	port   io.ReadWriteCloser
	why    string // there is none; in words, with what to do
}

// openPort finds and opens the port once closed says that the one before it is closed.
func openPort(c Config, baud int, closed <-chan struct{}) *opening {
	o := &opening{found: make(chan string, 1), done: make(chan opened, 1)}
	go func() {
		<-closed
		device, err := choose(c.Device)
		if err != nil {
			o.done <- opened{device: device, why: err.Error()}
			return
		}
		if other := holder(device); other != "" {
			o.done <- opened{device: device, why: fmt.Sprintf("%s has %s open: close that program, then it is tried again", other, device)}
			return
		}
		o.found <- device
		port, err := c.OpenPort(device, baud)
		if err != nil {
			o.done <- opened{device: device, why: explain(device, err)}
			return
		}
		o.done <- opened{device: device, port: port}
	}()
	return o
}

// leave closes the port as soon as it is open after all.
func (o *opening) leave() {
	go func() {
		if got := <-o.done; got.port != nil {
			got.port.Close()
		}
	}()
}

// open opens the port and answers questions meanwhile. It returns none if there is
// no port, or if ctx has ended.
func (h *Host) open(ctx context.Context, closed <-chan struct{}) opened {
	o := openPort(h.cfg, h.link.Baud, closed)
	timer := time.NewTimer(hangsAfter)
	defer timer.Stop()
	device := h.cfg.Device
	for {
		select {
		case device = <-o.found:
			h.setLink(Opening, "opening the port", device)
		case got := <-o.done:
			if got.port == nil {
				h.setLink(Absent, got.why, got.device)
			}
			return got
		case <-timer.C:
			h.setLink(Opening, "the port does not open: its driver hangs. Pull the printer's cable and plug it in again", device)
		case f := <-h.asks:
			f()
		case answer := <-h.halts:
			answer <- h.unheard()
		case <-ctx.Done():
			o.leave()
			return opened{}
		}
	}
}

// closePort closes a port, which may take for ever, too, and tells when it is closed.
func closePort(port io.Closer) <-chan struct{} {
	closed := make(chan struct{})
	go func() {
		port.Close()
		close(closed)
	}()
	return closed
}

// unheard says that a halt reaches nobody.
func (h *Host) unheard() error {
	return fmt.Errorf("%w, and no halt reaches it: %s", ErrNotLive, h.link.Reason)
}
