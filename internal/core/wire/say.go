package wire

import (
	"bytes"
	"fmt"
	"strings"
	"time"

	"diathermon/internal/core/gcode"
)

// slow holds the commands that a firmware answers only when they are done.
var slow = []string{"G4", "G28", "G29", "G30", "G33", "G34", "G76", "M0", "M1", "M109", "M190", "M191", "M226", "M303", "M400", "M48", "M600", "M701", "M702", "M997"}

func isSlow(command string) bool {
	head, _, _ := strings.Cut(command, " ")
	for _, s := range slow {
		if strings.EqualFold(head, s) {
			return true
		}
	}
	return false
}

func (c *Conversation) patience() time.Duration {
	if isSlow(c.flight[0].Command) {
		return c.cfg.SlowWait
	}
	return c.cfg.Silence
}

// overdue asks a printer that owes an answer with a numbered, harmless line. If
// the line under way was lost the number makes the printer ask for it; if only
// its ok was lost the temperatures in the answer tell.
func (c *Conversation) overdue(now time.Duration) {
	if now-c.lastByte >= c.cfg.GiveUp {
		c.lose("the printer has stopped answering")
		c.change(Dead, fmt.Sprintf("nothing heard for %s: check the cable and the printer's power, then reconnect", c.cfg.GiveUp))
		return
	}
	c.lastProbe = now
	if last := c.flight[len(c.flight)-1]; last.probe {
		if c.state == Live {
			c.change(Silent, fmt.Sprintf("no answer for %s: the printer is busy, or the cable is loose", (now-c.lastWord).Round(time.Second)))
		}
		c.write(last, true)
		return
	}
	c.say(line{Request: Request{Lane: c.flight[0].Lane, Command: "M105"}, number: c.number(), probe: true})
}

// pump says what may be said now.
func (c *Conversation) pump(now time.Duration) {
	if c.swallow || c.settle > 0 {
		return
	}
	for len(c.again) > 0 && len(c.flight) == 0 {
		l := c.again[0]
		c.again = c.again[1:]
		c.flight = append(c.flight, l)
		c.write(l, true)
		c.lastWord = now
	}
	if c.state != Live && c.state != Silent {
		return
	}
	for len(c.flight) == 0 && len(c.again) == 0 {
		var r Request
		switch {
		case len(c.manual) > 0:
			r, c.manual = c.manual[0], c.manual[1:]
		case len(c.file) > 0 && !c.held:
			r, c.file = c.file[0], c.file[1:]
		default:
			return
		}
		c.answer = nil
		c.lastWord = now
		c.say(line{Request: r, number: c.number()})
	}
}

func (c *Conversation) number() int {
	n := c.next
	c.next++
	return n
}

func (c *Conversation) say(l line) {
	c.history[l.number%historySize] = l
	c.flight = append(c.flight, l)
	c.write(l, false)
}

func (c *Conversation) write(l line, again bool) {
	start := len(c.out)
	c.out = gcode.AppendNumbered(c.out, l.number, []byte(l.Command))
	text := string(bytes.TrimRight(c.out[start:], "\n"))
	c.events = append(c.events, Event{Kind: Said, Text: text, Request: l.Request, Again: again})
}
