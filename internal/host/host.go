// Package host is the live machine: one goroutine, Host.Work, owns the printer and the
// parts that deal with it.
//
// The parts are listed in parts.go, each with a room of its own; adding one touches
// that list and nothing else. What a part offers to others than the loop hands the
// loop a question and waits for the answer, so that nothing here needs a lock. It
// promises that whoever asks, however often, a run's lines go out in order and a halt
// goes out at once.
//
// It leaves to web who may ask, to records and shelf where things are kept.
package host

import (
	"context"
	"errors"
	"fmt"
	"io"
	"time"

	"diathermon/internal/host/part"
	"diathermon/internal/host/talk"
	"diathermon/internal/port"
)

const (
	hangsAfter = 5 * time.Second        // until a person is told that a port does not open
	retryOpen  = 2 * time.Second        // between tries to open the port
	closedFor  = 250 * time.Millisecond // before a port is opened anew: a board needs it to notice
	tickEvery  = 250 * time.Millisecond // for the parts

	// For what must be done before the host ends: while the printer does not answer, and while
	// it does. It may be homing or probing its bed, and reads nothing until that is done.
	closingDeaf = 5 * time.Second
	closingLive = time.Minute
	closingSaid = 3 * time.Second // after which it is said what the end waits for
)

// A Host is one printer at work.
type Host struct {
	Parts
	loop  *part.Loop
	open  port.Opener
	halts chan chan error
}

// Bench returns everything live. It may be called from anywhere.
func (h *Host) Bench(ctx context.Context) (Bench, error) {
	var b Bench
	err := h.loop.Ask(ctx, func() { b = h.bench() })
	return b, err
}

// Subscribe returns a channel of what happens from now on. It is closed when the
// subscriber is too slow, and must be given back with the function.
func (h *Host) Subscribe() (<-chan part.Update, func()) { return h.loop.Subscribe() }

// Tell shows everyone who watches what is no part of the machine. It may be called from
// anywhere.
func (h *Host) Tell(what any) { h.loop.Publish(what) }

// Halt says the emergency stop ahead of everything. It may be called from anywhere.
func (h *Host) Halt(ctx context.Context) error {
	answer := make(chan error, 1)
	select {
	case h.halts <- answer:
		return <-answer
	case <-h.loop.Life().Done():
		return part.ErrClosed
	case <-ctx.Done():
		return ctx.Err()
	}
}

// Work runs the host until ctx ends: it opens the port, keeps it open, and answers
// every question. On its way out it stops a run that goes on and turns the heaters off.
func (h *Host) Work(ctx context.Context) {
	defer h.loop.Close()
	defer h.Heat.KeepLearned()
	defer h.Run.Leave()
	closed := make(chan struct{})
	close(closed)
	before := (<-chan struct{})(closed)
	for ctx.Err() == nil {
		got := h.find(ctx, before)
		if got.Port == nil {
			h.idle(ctx, retryOpen)
			continue
		}
		err := h.converse(ctx, got.Port)
		if p, can := got.Port.(port.Resetter); can && h.Link.Reopen() {
			p.ResetOnClose()
		}
		before = port.Close(got.Port)
		h.gone(err)
		wait := retryOpen
		if errors.Is(err, talk.ErrRate) {
			h.Link.NextRate()
			wait = closedFor
		} else if h.Link.Reopen() {
			h.Link.Reopening()
			wait = closedFor
			h.Link.SetLink(talk.Opening, "opening the port anew", got.Device)
		} else if err != nil && ctx.Err() == nil {
			h.Link.SetLink(talk.Absent, fmt.Sprintf("the port is gone (%v): is the cable loose?", err), got.Device)
		}
		h.idle(ctx, wait)
	}
	select { // whoever comes next finds the port closed
	case <-before:
	case <-time.After(closedFor):
	}
}

// gone ends a conversation whose port failed.
func (h *Host) gone(err error) {
	why := "the port was closed"
	if err != nil {
		why = "the port is gone: " + err.Error()
	}
	h.Link.End(why)
}

// find opens the port and answers questions meanwhile. It returns none if there is no
// port, or if ctx has ended.
func (h *Host) find(ctx context.Context, closed <-chan struct{}) port.Opened {
	device := h.Link.Device()
	o := port.Begin(device, h.Link.Baud(), h.open, closed)
	timer := time.NewTimer(hangsAfter)
	defer timer.Stop()
	for {
		select {
		case device = <-o.Found:
			h.Link.SetLink(talk.Opening, "opening the port", device)
		case got := <-o.Done:
			if got.Port == nil {
				h.Link.SetLink(talk.Absent, got.Why, got.Device)
			}
			return got
		case <-timer.C:
			h.Link.SetLink(talk.Opening, "the port does not open: its driver hangs. Pull the printer's cable and plug it in again", device)
		case f := <-h.loop.Asks():
			f()
		case answer := <-h.halts:
			answer <- h.Link.Unheard()
		case <-ctx.Done():
			o.Leave()
			return port.Opened{}
		}
	}
}

// idle answers questions for a while, with no port open.
func (h *Host) idle(ctx context.Context, d time.Duration) {
	timer := time.NewTimer(d)
	defer timer.Stop()
	for !h.Link.Reopen() {
		select {
		case f := <-h.loop.Asks():
			f()
		case answer := <-h.halts:
			answer <- h.Link.Unheard()
		case <-timer.C:
			return
		case <-ctx.Done():
			return
		}
	}
	h.Link.Reopening()
}

// converse holds one conversation until the port fails, ctx ends or a person asks for
// the port to be opened anew. The loop waits for the port itself: what the printer
// answers comes two hundred times a second, everything else seldom, and is brought.
func (h *Host) converse(ctx context.Context, p io.ReadWriteCloser) error {
	reader := port.Read(p)
	defer reader.Quit()
	failed := make(chan error, 1)
	writer := port.NewWriter(p, func(err error) { failed <- err })
	defer writer.Quit()
	h.Link.Begin(writer)

	var ending closing
	leave := func() error {
		ending.since = time.Now()
		h.loop.Announce(part.Leaving{})
		return nil
	}
	calls, hangUp := h.listen(ctx, reader.Wake, writer.Out(), failed, leave)
	defer hangUp()

	tick := time.Now().Add(tickEvery)
	for !h.Link.Reopen() {
		h.Link.Carry()
		if !ending.since.IsZero() && !h.loop.Busy() {
			return nil
		}
		wait := time.Until(tick)
		if due := h.Link.Due(); due >= 0 {
			wait = min(wait, due)
		}
		data, err := reader.Next(time.Now().Add(wait))
		if err != nil {
			return err
		}
		select { // what somebody waits for goes ahead of what has been read
		case call := <-calls:
			if err := call(); err != nil {
				return err
			}
		default:
		}
		if len(data) > 0 {
			h.Link.Receive(data)
		}
		if h.Link.Due() == 0 {
			if err := h.Link.Pass(); err != nil {
				return err
			}
		}
		now := time.Now()
		if !now.Before(tick) {
			tick = now.Add(tickEvery)
			h.loop.Tick()
		}
		if !ending.since.IsZero() && ending.over(h, now) {
			return errors.New("the host was shut down")
		}
	}
	return nil
}

// A closing is the end of a host that waits for the printer to turn its heaters off.
type closing struct {
	since time.Time // zero: the host is not to end
	said  bool
}

// over reports whether it has waited long enough, and says what it waits for.
func (c *closing) over(h *Host, now time.Time) bool {
	waited, most := now.Sub(c.since), closingDeaf
	if h.Link.Live() {
		most = closingLive
	}
	switch {
	case waited > most:
		h.loop.Log.Error("the printer has not turned its heaters off: switch it off if it heats", "waited", most)
		return true
	case waited > closingSaid && !c.said:
		c.said = true
		h.loop.Log.Info("waiting until the printer, which is busy, turns its heaters off", "at_most", closingLive)
	}
	return false
}

// listen gathers, on a goroutine of its own, what comes seldom: it puts a call for each
// into calls, a halt ahead of all else, and wakes the loop. The function that it returns ends
// it, and carries out what it has accepted and nobody has called.
func (h *Host) listen(
	ctx context.Context, wake func(), out <-chan time.Time, failed <-chan error, leave func() error,
) (calls <-chan func() error, hangUp func()) {
	to, hungUp := make(chan func() error, 1), make(chan struct{})
	go func() {
		defer close(to)
		leaving := ctx.Done()
		for {
			var call func() error
			select {
			case answer := <-h.halts:
				call = h.halting(answer)
			default:
				select {
				case answer := <-h.halts:
					call = h.halting(answer)
				case at := <-out:
					call = func() error {
						h.loop.Decide("the halt was written at %d", at.UnixMicro())
						return nil
					}
				case f := <-h.loop.Asks():
					call = func() error {
						f()
						return nil
					}
				case <-h.loop.Wakes():
					call = func() error { return nil }
				case err := <-failed:
					call = func() error { return err }
				case <-leaving:
					leaving, call = nil, leave
				case <-hungUp:
					return
				}
			}
			to <- call
			wake()
		}
	}()
	return to, func() {
		close(hungUp)
		for call := range to {
			call()
		}
	}
}

// halting says the emergency stop, and answers as soon as it is handed to the port.
func (h *Host) halting(answer chan<- error) func() error {
	return func() error {
		h.Link.HaltAnd(func() { answer <- nil })
		return nil
	}
}
