package wire

import (
	"bytes"
	"fmt"
	"strings"
	"time"
)

// Receive takes bytes from the port.
func (c *Conversation) Receive(now time.Duration, data []byte) {
	if len(data) > 0 {
		c.lastByte = now
	}
	if c.state == Greeting {
		c.bytes += len(data)
		for _, b := range data {
			if b >= 0x7f || b < ' ' && b != '\r' && b != '\n' && b != '\t' {
				c.rubbish++
			}
		}
	}
	for len(data) > 0 {
		i := bytes.IndexByte(data, '\n')
		if i < 0 {
			c.collect(data)
			return
		}
		c.collect(data[:i])
		data = data[i+1:]
		c.hear(now, Sort(c.partial))
		c.partial = c.partial[:0]
	}
}

func (c *Conversation) collect(b []byte) {
	if room := longestLine - len(c.partial); len(b) > room {
		b = b[:room]
	}
	c.partial = append(c.partial, b...)
}

func (c *Conversation) hear(now time.Duration, r Reply) {
	if r.Text == "" && r.Kind == Other {
		return
	}
	c.events = append(c.events, Event{Kind: Heard, Reply: r})
	switch r.Kind {
	case Start:
		if c.state != Greeting {
			c.events = append(c.events, Event{Kind: Restarted})
			c.begin(now, "the printer has restarted; greeting it")
		}
		c.greet, c.flight = listening, nil
		c.greetAt = now + c.cfg.BootQuiet
		return
	case Fatal:
		c.lose("the printer has stopped: " + r.Text)
		c.change(Dead, fmt.Sprintf("the firmware says %q: see to the cause, reset the printer, then reconnect", r.Text))
		return
	}
	if c.state == Greeting {
		c.hearGreeting(now, r)
		return
	}
	if c.state == Dead {
		return
	}
	switch r.Kind {
	case OK:
		c.acknowledge(now, r)
	case Resend:
		c.resend(now, r.Number)
	case Busy:
		c.word(now)
	default:
		if len(c.flight) == 0 {
			return
		}
		if isSlow(c.flight[0].Command) {
			c.word(now)
		}
		if r.Kind != Report || isQuestion(c.flight[0].Command) {
			c.answer = append(c.answer, r.Text)
		}
	}
}

// isQuestion tells the commands whose answer looks like an unasked report.
func isQuestion(command string) bool {
	return strings.HasPrefix(command, "M105") || strings.HasPrefix(command, "M114")
}

// word notes that the printer has moved the conversation on.
func (c *Conversation) word(now time.Duration) {
	c.lastWord = now
	if c.state == Silent {
		c.change(Live, "the printer answers again")
	}
}

func (c *Conversation) acknowledge(now time.Duration, r Reply) {
	c.word(now)
	if c.swallow {
		c.swallow = false
		c.settle = now + c.cfg.Settle
		return
	}
	if len(c.flight) == 0 {
		if c.settle > 0 && len(c.again) > 0 { // the first copy had arrived after all
			l := c.again[0]
			c.again = c.again[1:]
			c.ack(l, r)
			c.settle = 0
			c.pump(now)
		}
		return
	}
	upTo := 1
	if r.Number >= 0 {
		upTo = 0
		for upTo < len(c.flight) && c.flight[upTo].number <= r.Number {
			upTo++
		}
	} else if last := c.flight[len(c.flight)-1]; last.probe && strings.Contains(r.Text, "T") && strings.Contains(r.Text, ":") {
		upTo = len(c.flight)
	}
	for _, l := range c.flight[:upTo] {
		c.ack(l, r)
	}
	c.flight = append(c.flight[:0], c.flight[upTo:]...)
	c.pump(now)
}

// ack tells that the printer has taken l.
func (c *Conversation) ack(l line, r Reply) {
	if !l.acked && !l.probe {
		lines := c.answer
		if rest := strings.TrimSpace(r.Text[min(2, len(r.Text)):]); r.Kind == OK && rest != "" && isQuestion(l.Command) {
			lines = append(lines, rest)
		}
		c.events = append(c.events, Event{Kind: Acked, Request: l.Request, Lines: lines})
	}
	c.answer = nil
	if h := &c.history[l.number%historySize]; h.number == l.number {
		h.acked = true
	}
}

// resend goes back to the line the printer asks for.
func (c *Conversation) resend(now time.Duration, number int) {
	c.word(now)
	if number < 0 { // the number was lost on the way: the oldest line is safe to say again
		if len(c.flight) == 0 {
			return
		}
		number = c.flight[0].number
	}
	pending := append(append([]line{}, c.flight...), c.again...)
	for len(pending) > 0 && pending[0].number < number { // it has these
		c.ack(pending[0], Reply{})
		pending = pending[1:]
	}
	first := c.next
	if len(pending) > 0 {
		first = pending[0].number
	}
	if number > c.next { // its count is ahead: nothing is lost by joining it
		c.next = number
	}
	if first-number >= historySize {
		c.lose("the printer has lost count")
		c.change(Dead, fmt.Sprintf("the printer asks for line %d, said long ago: reset it, then reconnect", number))
		return
	}
	var older []line
	for n := number; n < first; n++ { // acknowledged already, and still wanted
		l := c.history[n%historySize]
		if l.number != n {
			continue
		}
		l.acked = true
		older = append(older, l)
	}
	c.flight, c.again = nil, append(older, pending...)
	c.swallow, c.resentAt = true, now
}
