package wire

import (
	"bytes"
	"fmt"
	"strings"
	"time"
)

// The bytes with which a printer asks for a pause and for the end of it.
const (
	xon  = 0x11
	xoff = 0x13
)

// Receive takes bytes from the port.
func (c *Conversation) Receive(now time.Duration, data []byte) {
	if len(data) > 0 {
		c.lastByte = now
	}
	if c.greet != done {
		c.heard += len(data)
		for _, b := range data {
			if b >= 0x7f || b < ' ' && b != '\r' && b != '\n' && b != '\t' && b != xon && b != xoff {
				c.rubbish++
			}
		}
	}
	for len(data) > 0 {
		i := bytes.IndexAny(data, "\r\n\x11\x13")
		if i < 0 {
			c.collect(data)
			return
		}
		c.collect(data[:i])
		b := data[i]
		data = data[i+1:]
		switch b {
		case xoff:
			c.xoff = max(now, 1)
		case xon:
			c.xoff = 0
			c.pump(now)
		default:
			c.hear(now, Sort(c.partial))
			c.partial = c.partial[:0]
		}
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
	proof := r.Kind == Other && c.proof(r.Text)
	told := len(c.events)
	c.events = append(c.events, Event{Kind: Heard, Reply: r, Own: proof, Number: -1})
	if c.base < c.cursor {
		c.events[told].Number = c.base
	}
	if proof {
		c.word(now)
		return
	}
	switch r.Kind {
	case Start:
		c.restart(now, "the printer has restarted; greeting it")
		return
	case Fatal:
		c.lose("the printer has stopped: " + r.Text)
		c.change(Dead, fmt.Sprintf("the firmware says %q: see to the cause, reset the printer, then reconnect", r.Text))
		return
	}
	if c.state == Dead {
		return
	}
	if c.greet != done && c.hearGreeting(now, r) {
		return
	}
	switch r.Kind {
	case OK:
		number := c.acknowledge(now, r)
		c.events[told].Number = number
	case Resend:
		c.resend(now, r.Number)
	case Skip:
		c.word(now)
		c.owed++
		c.doubt = c.next
		c.window.waver()
		switch {
		case r.Number < c.base || r.Number >= c.cursor:
		case c.habits.numbered:
			c.take(now, r.Number, r)
		default: // the oks of those that are still queued could not be told from later ones: wait for them
			c.reached = r.Number
		}
		if c.cursor < c.next && !c.sounded { // it may have more of what is said again, and tells so at once
			c.sound(now)
		}
	case Busy:
		c.habits.busies = true
		c.word(now)
	case Idle: // with a line under way: it, or its ok, was lost
		if c.base < c.cursor && c.settle == 0 && c.probes == 0 && now-c.lastWord >= c.cfg.Silence/5 {
			c.overdue(now)
		}
	default:
		if unasked := c.base == c.cursor || c.at(c.base).Lane == File; c.greet == done && (r.Kind == Error || r.Kind == Other && unasked) {
			c.doubt = c.next
		}
		if c.settle > 0 && r.Kind == Error {
			c.settle = now + c.cfg.Settle
		}
		if c.base == c.cursor {
			return
		}
		command := c.at(c.base).Command
		switch slow := c.at(c.base).slow; {
		case slow && r.Kind == Report && strings.Contains(r.Text, "W:"):
			c.word(now)
		case slow && r.Kind != Report && now-c.lastTaken < 3*c.cfg.SlowWait: // reports come by themselves, whatever has become of the line; so may remarks, in the long run
			c.lastRemark = now
		}
		if r.Kind != Report || isQuestion(command) {
			c.answer = append(c.answer, r.Text)
		}
	}
}

// restart begins anew with a printer that has forgotten everything.
func (c *Conversation) restart(now time.Duration, reason string) {
	if c.greet == done || c.state == Dead {
		c.cfg.Earlier = Earlier{}
		c.events = append(c.events, Event{Kind: Restarted})
		c.begin(now, reason)
	}
	c.dropEarlier()
	c.greet = listening
	c.greetAt = now + c.cfg.BootQuiet
}

// isQuestion tells the commands whose answer looks like an unasked report, or stands on
// the line of the ok.
func isQuestion(command string) bool {
	return strings.HasPrefix(command, question) || strings.HasPrefix(command, "M114") || strings.HasPrefix(command, "M115")
}

// tail is what stands behind an ok, where an answer may be.
func (r Reply) tail() string {
	if text := strings.TrimLeft(r.Text, " \t\x00\r"); r.Kind == OK && len(text) > 2 {
		return strings.TrimSpace(text[2:])
	}
	return ""
}

// answered finds the line under way that an ok is for which names none, by what it
// answers: temperatures M105, a place M114, a name M115. Oks come in the order of their
// lines, so that the first such line is meant; -1: it answers nothing.
func (c *Conversation) answered(r Reply) int {
	tail := r.tail()
	command := ""
	switch _, isPlace := ParsePosition(tail); {
	case tail == "":
		return -1
	case isPlace:
		command = "M114"
	case hasTemperatures(tail) && !c.habits.chatty:
		command = question
	case identified([]string{tail}):
		command = "M115"
	default:
		return -1
	}
	for n := c.base; n < c.cursor; n++ {
		if strings.HasPrefix(c.at(n).Command, command) {
			return n
		}
	}
	if command == question {
		c.habits.chatty = true
	}
	return -1
}

// word notes that the printer has moved the conversation on.
func (c *Conversation) word(now time.Duration) {
	c.lastWord, c.probes = now, 0
	if c.state == Silent {
		c.change(Live, "the printer answers again")
	}
}

// acknowledge finds the lines that an ok is for, and returns the last of them; -1 if it
// is for none.
func (c *Conversation) acknowledge(now time.Duration, r Reply) int {
	c.word(now)
	if r.Slots >= 0 {
		c.window.free(r.Slots)
	}
	if r.Number >= 0 {
		c.habits.names++
	}
	c.habits.numbered = r.Number >= 0 || c.habits.names >= beliefIn
	answers := -1
	if r.Number < 0 {
		answers = c.answered(r)
	}
	switch {
	case c.owed > 0 && r.Number < c.base && answers < 0: // the ok after a request, which may name any line of before
		c.owed--
		c.habits.resendOK = true
		c.settle = now + c.cfg.Settle
		return -1
	case r.Number >= 0:
		c.owed = max(c.owed-1, 0)
	}
	if c.base == c.cursor { // nobody's
		c.doubt = c.next
		c.window.waver()
		return -1
	}
	through := c.base
	switch {
	case r.Number >= 0:
		through = r.Number
		if through < c.base || through >= c.cursor { // of a line that is settled, or misheard
			return -1
		}
		warm := hasTemperatures(r.Text)
		asked := warm && c.at(through).asks && !c.habits.chatty
		if warm && !c.at(through).asks {
			c.habits.chatty = true
		}
		// Oks were lost, or this one is misheard: the next one tells. As many as named none are
		// accounted for, and what answers its question is it.
		if through > c.base+c.ignored && !asked && (c.leap == 0 || through < c.leap) {
			c.leap = through
			return -1
		}
		c.certain(through)
	case c.proved >= c.base && c.proved < c.cursor:
		through = c.proved
		c.certain(through)
	case answers >= 0:
		through = answers
		if c.at(through).asks {
			c.habits.askedOK = true
			c.certain(through)
		}
	case c.habits.numbered && (c.doubt == 0 || c.window.open()): // it names none, for whatever reason: the next one tells whether it was the oldest's
		c.doubt = c.next
		c.window.waver()
	case c.habits.numbered && c.base+1 < c.cursor && c.ignored < beliefIn: // this printer names its lines: not to a line with a number, or garbled
		c.ignored++
		c.doubt = c.next
		c.window.waver()
		return -1
	case c.habits.numbered: // there is but one line that it can be for
		c.doubt = c.next
	case c.habits.askedOK && !c.habits.chatty && strings.HasPrefix(c.at(c.base).Command, question) && c.ignored < beliefIn:
		c.ignored++ // an answer to the question has temperatures: this is an ok too many
		return -1
	}
	c.take(now, through, r)
	return through
}

// take notes that the printer has taken the lines up to a number; r is what it
// said to the last of them.
func (c *Conversation) take(now time.Duration, through int, r Reply) {
	for ; c.base <= through; c.base++ {
		l := c.at(c.base)
		if !l.told && (!l.own || l.spoken) {
			var lines []string
			if c.base == through {
				lines = c.answer
				if tail := r.tail(); tail != "" && isQuestion(l.Command) {
					lines = append(lines, tail)
				}
			}
			c.events = append(c.events, Event{Kind: Acked, Request: l.Request, Number: l.number, Lines: lines})
		}
		l.told = true
		if c.base == through && r.Kind == OK {
			c.waited(l, now)
			if l.asks {
				c.habits.apart = !hasTemperatures(r.Text)
			}
		}
		if c.ignored > 0 && strings.HasPrefix(l.Command, question) && !c.habits.numbered && !hasTemperatures(r.Text) { // so that a plain ok was for it
			c.habits.askedOK = false
		}
		c.window.taken()
		switch asked := l.own && l.Command == question; {
		case r.Kind != OK:
		case r.Number == l.number || asked && !c.habits.chatty || c.proved >= l.number:
			c.window.sure()
			c.certain(l.number)
		case asked:
			c.window.sure()
		case l.own && l.number == c.habits.token && !c.habits.early:
			c.habits.untold++
		}
	}
	c.strange, c.ignored, c.leap = 0, 0, 0
	c.lastTaken = now
	c.cursor = max(c.cursor, c.base)
	answer := c.answer
	c.answer = nil
	c.trialWord(now)
	if c.greet == asking && r.Kind == OK {
		c.greeted(now, ParseFirmware(append(answer, r.tail())))
	}
	c.pump(now)
}

// certain notes that the lines up to a number are known to be taken.
func (c *Conversation) certain(number int) {
	if number+1 >= c.doubt {
		c.doubt = 0
	}
}

// beliefIn is how many requests that cannot be must come in a row before they are
// believed: a reply has no checksum.
const beliefIn = 3

// resend goes back to the line the printer asks for: what came before it has
// been taken, and nothing after it has.
func (c *Conversation) resend(now time.Duration, number int) {
	c.word(now)
	c.measuring.failed = true
	c.owed++
	c.asked = now
	c.settle = now + c.cfg.Settle
	if c.cursor-c.base > 1 {
		c.window.fall()
	}
	c.window.waver()
	switch {
	case number == 1 && c.greet == done: // it has answered line 1, so it has forgotten it
		if c.strange++; c.strange >= beliefIn {
			c.restart(now, "the printer has lost count, so it has restarted; greeting it")
			return
		}
		number = c.base
	case number > c.next && number <= c.cfg.Earlier.most() && number == c.claimed:
		c.recount(now)
		return
	case number > c.next && number <= c.cfg.Earlier.most():
		c.claimed, number = number, c.base
	case number < 0 || number > c.next || number < c.next-historySize/2 || number < c.first():
		// Misheard, for a reply has no checksum: the oldest line is safe to say again.
		if c.strange++; c.strange >= beliefIn*2 {
			c.lose("the printer has lost count")
			c.change(Dead, fmt.Sprintf("the printer asks for line %d and %d would be next: reset it, then reconnect", number, c.next))
			return
		}
		number = c.base
	case number > c.cursor && number != c.claimed: // it has taken more than was said of late: believed when it says so again
		c.claimed, number = number, c.base
	default:
		c.strange = 0
	}
	for c.base < number {
		c.take(now, c.base, Reply{})
	}
	c.base, c.cursor, c.answer = number, number, nil
	c.doubt = c.next
	if c.sounded && number == c.next { // it has taken all there is
		c.doubt = 0
	}
	c.sounded = false
}

// first is the lowest number that this conversation has a line for.
func (c *Conversation) first() int {
	if c.rejoined >= 0 {
		return c.rejoined + 1
	}
	if c.greet == done { // M110 and M115 were answered; M110 said again would undo the count
		return 2
	}
	return 0
}
