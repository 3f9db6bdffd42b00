package wire

import (
	"fmt"
	"time"
)

// greetNext takes the next step of the greeting because its time has come.
func (c *Conversation) greetNext(now time.Duration) {
	c.tries++
	if c.tries > 3 && c.tries%3 == 1 {
		c.change(Greeting, c.trouble())
	}
	c.flight, c.next, c.answer = nil, 0, nil
	c.greet = numbering
	c.greetAt = now + c.cfg.GreetWait
	c.out = append(c.out, '\n') // ends whatever half a line the printer holds
	c.say(line{Request: Request{Command: "M110 N0"}, number: c.number()})
}

// trouble says why the greeting does not come to an end.
func (c *Conversation) trouble() string {
	switch {
	case c.bytes == 0:
		return "the port is open but the printer says nothing: is it switched on, and is this its port?"
	case c.rubbish*4 > c.bytes:
		return "the printer answers rubbish: the baud rate is most likely wrong"
	}
	return fmt.Sprintf("something answers (%d bytes) but not as a printer does: is this its port?", c.bytes)
}

// hearGreeting is hear while the conversation is in state Greeting.
func (c *Conversation) hearGreeting(now time.Duration, r Reply) {
	switch c.greet {
	case listening:
		c.greetAt = min(c.greetAt, now+c.cfg.BootQuiet)
		return
	case numbering:
		if r.Kind == OK {
			c.flight, c.answer = nil, nil
			c.greet = asking
			c.greetAt = now + c.cfg.GreetWait
			c.say(line{Request: Request{Command: "M115"}, number: c.number()})
		}
		return
	}
	switch r.Kind {
	case OK:
		firmware := ParseFirmware(c.answer)
		c.greet, c.flight, c.answer = done, nil, nil
		c.lastWord = now
		c.change(Live, "the printer answers")
		c.events = append(c.events, Event{Kind: Greeted, Firmware: firmware})
		c.pump(now)
	case Resend:
		c.greetAt = now + c.cfg.BootQuiet
	case Busy, Report:
	default:
		c.answer = append(c.answer, r.Text)
	}
}
