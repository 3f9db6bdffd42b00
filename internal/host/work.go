package host

import (
	"context"
	"errors"
	"fmt"
	"io"
	"slices"
	"time"

	"diathermon/internal/core/run"
	"diathermon/internal/core/wire"
)

const (
	retryOpen   = 2 * time.Second        // between tries to open the port
	closedFor   = 250 * time.Millisecond // before a port is opened anew: a board needs it to notice
	showEvery   = 250 * time.Millisecond // live events of traffic and progress
	pollEvery   = 2 * time.Second        // where the firmware does not report by itself
	closingTime = 5 * time.Second        // for the heaters-off at shutdown
)

// Work runs the host until ctx ends: it opens the port, keeps it open, and
// answers every question. On its way out it stops a run that goes on and turns
// the heaters off.
func (h *Host) Work(ctx context.Context) {
	defer close(h.closed)
	defer h.keepLearned()
	defer func() {
		if h.job != nil {
			h.job.book.Close(true) // to be picked up when the host is back
		}
	}()
	closed := make(chan struct{})
	close(closed)
	before := (<-chan struct{})(closed)
	for ctx.Err() == nil {
		h.link.Baud = h.cfg.Baud
		if h.cfg.Baud == 0 {
			h.link.Baud = rates[h.rate%len(rates)]
		}
		got := h.open(ctx, before)
		if got.port == nil {
			h.idle(ctx, retryOpen)
			continue
		}
		device, port := got.device, got.port
		err := h.talk(ctx, port)
		if r, can := port.(Resetter); can && h.reopen {
			r.ResetOnClose()
		}
		before = closePort(port)
		h.gone(err)
		wait := retryOpen
		if errors.Is(err, errRate) {
			h.rate++
			wait = closedFor
		} else if h.reopen {
			h.reopen, wait = false, closedFor
			h.setLink(Opening, "opening the port anew", device)
		} else if err != nil && ctx.Err() == nil {
			h.setLink(Absent, fmt.Sprintf("the port is gone (%v): is the cable loose?", err), device)
		}
		h.idle(ctx, wait)
	}
	select { // whoever comes next finds the port closed
	case <-before:
	case <-time.After(closedFor):
	}
}

// errRate ends a conversation at a baud rate at which the printer does not
// answer.
var errRate = errors.New("no answer at this baud rate")

// idle answers questions for a while, with no port open.
func (h *Host) idle(ctx context.Context, d time.Duration) {
	timer := time.NewTimer(d)
	defer timer.Stop()
	for !h.reopen {
		select {
		case f := <-h.asks:
			f()
		case answer := <-h.halts:
			answer <- h.unheard()
		case <-timer.C:
			return
		case <-ctx.Done():
			return
		}
	}
	h.reopen = false
}

// gone tidies up after a conversation.
func (h *Host) gone(err error) {
	why := "the port was closed"
	if err != nil {
		why = "the port is gone: " + err.Error()
	}
	h.conv, h.writer = nil, nil
	h.interrupt(why, false)
	for tag, answer := range h.waiting {
		delete(h.waiting, tag)
		answer(nil, fmt.Errorf("%w: %s", ErrLost, why))
	}
	h.forget()
}

func (h *Host) setLink(s LinkState, reason, device string) {
	if h.link.State == s && h.said == reason && h.link.Device == device {
		return
	}
	h.said = reason
	if h.link.State != s {
		h.link.Since = time.Now()
		h.log.Info("link", "state", s, "reason", reason, "device", device)
	}
	h.link.State, h.link.Reason, h.link.Device = s, reason, device
	switch {
	case h.cfg.Baud > 0:
	case s == LinkState(wire.Live):
		h.link.Reason += fmt.Sprintf(", at %d baud", h.link.Baud)
		h.rate, h.trouble = slices.Index(rates, h.link.Baud), ""
	case (s == LinkState(wire.Greeting) || s == Opening) && h.trouble != "":
		h.link.Reason = fmt.Sprintf("%s (found after trying %s; trying %d baud now)", h.trouble, tried(h.rate), rates[h.rate%len(rates)])
	}
	h.decide("link %s: %s", s, reason)
	link := h.link
	h.hub.publish(Update{Link: &link})
}

// talk holds one conversation until the port fails, ctx ends or a person asks
// for the port to be opened anew.
func (h *Host) talk(ctx context.Context, port io.ReadWriteCloser) error {
	device := h.link.Device
	incoming := make(chan []byte, 16)
	failed := make(chan error, 2)
	over := make(chan struct{})
	defer close(over)
	go receive(port, incoming, failed, over)
	h.writer = newWriter(port, func(err error) { failed <- err })
	defer close(h.writer.quit)
	talk := h.cfg.Wire
	talk.Earlier, talk.Baud = h.earlier(), h.link.Baud
	h.conv = wire.New(talk, h.now())
	h.polling = false

	show := time.NewTicker(showEvery)
	defer show.Stop()
	deadline := time.NewTimer(0)
	defer deadline.Stop()
	stopping := ctx.Done()
	var closing <-chan time.Time
	cool := false // at shutdown: no heater is left on
	for !h.reopen {
		h.carry(device)
		if stopping == nil && cool && (h.job == nil || h.state() == run.Interrupted) {
			return nil
		}
		if due := h.conv.Deadline(); due > 0 {
			deadline.Reset(max(due-h.now(), 0))
		} else {
			deadline.Stop()
		}
		var lines chan []string
		if h.job != nil && h.job.ahead.hungry() && h.conv.Wants() > 0 {
			lines = h.job.ahead.lines
		}
		select { // a halt goes ahead of whatever else is there
		case answer := <-h.halts:
			h.halt(answer)
			continue
		default:
		}
		select {
		case answer := <-h.halts:
			h.halt(answer)
		case at := <-h.writer.out:
			h.decide("the halt was written at %d", at.UnixMicro())
		case data := <-incoming:
			h.flight.add(markReceived, data)
			h.conv.Receive(h.now(), data)
		case f := <-h.asks:
			f()
		case batch, more := <-lines:
			h.job.ahead.take(batch, more)
		case <-deadline.C:
			h.conv.Tick(h.now())
			if h.cfg.Baud == 0 && h.conv.Unheard() {
				h.trouble = h.conv.Trouble()
				return errRate
			}
		case <-show.C:
			h.show()
			h.poll()
			h.step(run.Event{On: run.OnTime})
			h.mindClock()
			h.mindHeaters()
			h.mindOff()
			h.measure()
		case err := <-failed:
			return err
		case <-stopping:
			stopping = nil
			closing = time.After(closingTime)
			switch {
			case h.job != nil && h.state() != run.Interrupted: // its end turns the heaters off
				h.step(run.Event{On: run.OnStop, Reason: "the host was shut down"})
				cool = true
			case h.link.Live() && h.warm():
				h.allOff(func(error) { cool = true })
			default:
				cool = true
			}
		case <-closing:
			return errors.New("the host was shut down")
		}
	}
	return nil
}

// receive reads the port until it fails.
func receive(port io.Reader, incoming chan<- []byte, failed chan<- error, over <-chan struct{}) {
	for {
		buf := make([]byte, 1024)
		n, err := port.Read(buf)
		if n > 0 {
			select {
			case incoming <- buf[:n]:
			case <-over:
				return
			}
		}
		if err == nil && n == 0 {
			err = io.EOF
		}
		if err != nil {
			failed <- err
			return
		}
	}
}

// carry brings bytes to the port and events to their meaning until neither is
// left, and feeds the run. What the journal must know of a line is in it before
// the line is said.
func (h *Host) carry(device string) {
	for {
		h.feed()
		out, events := h.conv.Take()
		h.jot(events)
		if len(out) > 0 {
			h.flight.add(markSent, out)
			select {
			case h.writer.normal <- append([]byte(nil), out...):
			default:
				h.log.Error("the port does not take what is said; the line will be asked for again")
			}
		}
		if len(events) == 0 {
			return
		}
		for _, e := range events {
			h.event(e, device)
		}
	}
}

// jot tells the run, and by that its journal, what the lines' numbers mean.
func (h *Host) jot(events []wire.Event) {
	j := h.job
	if j == nil {
		return
	}
	said := false
	for _, e := range events {
		if e.Kind != wire.Said || e.Again || e.Number < 0 || e.Number >= h.conv.Said() {
			continue
		}
		told := run.Event{On: run.OnOther, Number: e.Number, Text: e.Request.Command}
		if e.Request.Lane == wire.File && !e.Own {
			told = run.Event{On: run.OnSaid, Number: e.Number}
		}
		h.stepOf(j, told)
		said = true
	}
	if said && h.job == j {
		j.book.Said(j.life.Said())
	}
}

// halt says the emergency stop and ends the run.
func (h *Host) halt(answer chan<- error) {
	h.conv.Halt(h.now())
	out, events := h.conv.Take()
	select {
	case h.writer.urgent <- append([]byte(nil), out...):
	default: // four halts wait already before a port that takes nothing
	}
	answer <- nil
	h.step(run.Event{On: run.OnHalt})
	for _, e := range events {
		h.event(e, h.link.Device)
	}
	h.flight.add(markSent, out)
	h.log.Warn("halted")
}
