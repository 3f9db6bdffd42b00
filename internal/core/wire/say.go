package wire

import (
	"bytes"
	"fmt"
	"time"

	"diathermon/internal/core/gcode"
)

// isSlow tells the commands that a firmware answers only when they are done.
func isSlow(command string) bool { return gcode.TraitsOf([]byte(command))&gcode.Slow != 0 }

// waitsForHeat tells the commands behind which nothing of a file is said until they
// are done: a wait for heat can be broken off, and what the printer has read behind
// it would then be carried out cold.
func waitsForHeat(command string) bool { return gcode.TraitsOf([]byte(command))&gcode.Awaits != 0 }

// warming reports whether a wait for heat is under way.
func (c *Conversation) warming() bool { return c.base <= c.heats && c.heats < c.next }

// question is the harmless line that asks a silent printer for an answer.
const question = "M105"

// mark is how many lines are said to a printer whose oks name no line before a
// question is put among them: its answer tells which ok is whose.
const mark = 400

// patience is how long the line that is under way longest may take.
func (c *Conversation) patience() time.Duration {
	if isSlow(c.at(c.base).Command) {
		return c.cfg.SlowWait
	}
	return c.cfg.Silence
}

// overdueAt is when a line under way has been unanswered for too long. Each
// question without an answer doubles the wait for the next.
func (c *Conversation) overdueAt() time.Duration {
	due := c.lastWord + c.patience()
	if c.probes > 0 {
		due = max(due, c.lastProbe+c.cfg.Silence<<min(c.probes-1, 4))
	}
	return due
}

// overdue asks a printer that owes an answer with a numbered, harmless line. If
// a line under way was lost the number makes the printer ask for it; if only its
// ok was lost the temperatures in the answer tell.
func (c *Conversation) overdue(now time.Duration) {
	if now-c.lastByte >= c.cfg.GiveUp {
		c.lose("the printer has stopped answering")
		c.change(Dead, fmt.Sprintf("nothing heard for %s: check the cable and the printer's power, then reconnect", c.cfg.GiveUp))
		return
	}
	c.doubt = c.next
	if c.base <= c.reached && c.reached < c.cursor { // the oks do not come
		c.lastWord = now
		c.take(now, c.reached, Reply{})
		return
	}
	c.lastProbe = now
	c.probes++
	if now-c.lastWord >= 5*c.cfg.Silence && c.state == Live {
		c.change(Silent, fmt.Sprintf("no answer for %s: the printer is busy, or the cable is loose", (now-c.lastWord).Round(time.Second)))
	}
	if last := c.at(c.cursor - 1); last.own && last.Command == question {
		c.write(last, true)
		return
	}
	if c.cursor < c.next || !c.fresh() { // what is to be said again goes first
		c.write(c.at(c.cursor-1), true)
		return
	}
	c.sayNew(now, Request{Command: question}, true)
}

// sound says a line with a number that cannot be, in answer to which a printer
// tells which line it wants next.
func (c *Conversation) sound(now time.Duration) {
	again := c.sounded
	c.sounded, c.lastProbe = true, now
	c.probes++
	c.write(&line{Request: Request{Command: question}, number: c.next + far, own: true}, again)
}

// load is how many bytes would be under way beyond the printer's command slots
// with a line of so many more.
func (c *Conversation) load(more int) int {
	from := c.base + c.window.slots // the first line that is in the receive buffer still
	switch {
	case from > c.cursor:
		return 0
	case from == c.cursor:
		return more
	}
	return c.at(c.cursor-1).end - (c.at(from).end - c.size(from)) + more
}

// pump says what may be said now.
func (c *Conversation) pump(now time.Duration) {
	if c.settle > 0 || c.xoff > 0 || c.state == Dead {
		return
	}
	for c.cursor < c.next {
		l := c.at(c.cursor)
		if c.base < c.cursor && !c.window.fits(c.load(c.size(c.cursor))) {
			return
		}
		if c.base == c.cursor {
			c.lastWord, c.probes = now, 0
		}
		c.cursor++
		c.write(l, true)
	}
	if c.greet != done {
		return
	}
	for {
		var lane *[]Request
		other, spoken := c.cfg.Earlier.Others[c.next]
		switch {
		case spoken:
			lane = &[]Request{{Command: other}}
		case !c.fresh() && len(c.file) > 0:
			lane = &c.file
		case !c.fresh():
			return
		case len(c.manual) > 0:
			lane = &c.manual
		case len(c.file) > 0 && !c.held && !c.warming():
			lane = &c.file
		default:
			return
		}
		r, own := (*lane)[0], spoken
		if !c.habits.numbered && (c.window.open() && c.next%mark == 0 || c.window.narrow == 1) && c.fresh() && r.Lane == File {
			r, own = Request{Command: question}, true
		}
		if c.base < c.cursor && (c.next-c.base >= historySize/2 || !c.window.fits(c.load(gcode.NumberedSize(c.next, len(r.Command))))) {
			return
		}
		if !own {
			*lane = (*lane)[1:]
			if len(*lane) == 0 {
				*lane = nil
			}
		}
		c.sayNew(now, r, own)
	}
}

// sayNew gives a request its number and says it.
func (c *Conversation) sayNew(now time.Duration, r Request, own bool) {
	if c.base == c.next {
		c.answer = nil
		c.lastWord, c.probes = now, 0
	}
	c.bytes += gcode.NumberedSize(c.next, len(r.Command))
	l := c.at(c.next)
	*l = line{Request: r, number: c.next, end: c.bytes, own: own}
	if waitsForHeat(r.Command) {
		c.heats = c.next
	}
	c.next++
	c.cursor, c.sounded = c.next, false
	if r.Lane == File && !c.habits.numbered {
		c.doubt = c.next
	}
	c.write(l, false)
}

// size is how many bytes a line that has its number takes on the cable.
func (c *Conversation) size(number int) int {
	return gcode.NumberedSize(number, len(c.at(number).Command))
}

func (c *Conversation) write(l *line, again bool) {
	start := len(c.out)
	c.out = gcode.AppendNumbered(c.out, l.number, []byte(l.Command))
	text := string(bytes.TrimRight(c.out[start:], "\n"))
	c.events = append(c.events, Event{Kind: Said, Text: text, Request: l.Request, Number: l.number, Again: again, Own: l.own})
}
