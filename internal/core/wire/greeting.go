package wire

import (
	"fmt"
	"strconv"
	"strings"
	"time"

	"diathermon/internal/core/gcode"
)

// far is how much a number is off that cannot be right.
const far = 1_000_000

// greetNext takes the next step of the greeting because its time has come.
func (c *Conversation) greetNext(now time.Duration) {
	if c.greet == asking && c.habits.early && identified(c.answer) { // all of it has come
		c.base = c.cursor
		c.greeted(now, ParseFirmware(c.answer))
		c.answer = nil
		return
	}
	if c.greet == testing {
		c.test(now)
		return
	}
	c.habits.early = false
	c.tries++
	if c.tries > 3 && c.tries%3 == 1 {
		c.change(Greeting, c.Trouble())
	}
	c.greetAt = now + c.cfg.GreetWait
	c.out = append(c.out, '\n') // ends whatever half a line the printer holds
	c.owed, c.settle, c.answer = 0, 0, nil
	if c.greet == asking && c.tries <= 3 { // its answer was lost: ask again, without losing count
		c.base, c.cursor = c.next, c.next
		c.sayNew(now, Request{Command: "M115"}, true)
		return
	}
	if c.cfg.Earlier.Said > 0 && c.greet != numbering {
		c.greet, c.told = recounting, false
		c.write(&line{Request: Request{Command: question}, number: c.cfg.Earlier.most() + far, own: true}, c.tries > 1)
		return
	}
	c.number(now)
}

// number gives the printer's count of lines a beginning.
func (c *Conversation) number(now time.Duration) {
	c.greet = numbering
	c.greetAt = now + c.cfg.GreetWait
	c.base, c.cursor, c.next, c.rejoined = 0, 0, 0, -1
	c.sayNew(now, Request{Command: "M110 N0"}, true)
}

// identify asks the printer what it is.
func (c *Conversation) identify(now time.Duration) {
	c.greet, c.answer = asking, nil
	c.greetAt = now + c.cfg.GreetWait
	c.settle = 0
	c.sayNew(now, Request{Command: "M115"}, true)
}

// Trouble says why the greeting does not come to an end.
func (c *Conversation) Trouble() string {
	switch {
	case c.heard == 0:
		return "the port is open but the printer says nothing: is it switched on, and is this its port?"
	case c.rubbish*4 > c.heard:
		return "the printer answers rubbish: the baud rate is most likely wrong"
	case c.firstOdd != "":
		return fmt.Sprintf("something answers, but not as a printer does; it says %s: is this its port, and does its firmware take numbered G-code lines?", strconv.Quote(c.firstOdd))
	}
	return fmt.Sprintf("something answers (%d bytes), but not as a printer does: is this its port?", c.heard)
}

// Unheard reports whether the printer was greeted twice and answered nothing, or
// rubbish: as at a wrong baud rate.
func (c *Conversation) Unheard() bool {
	return c.greet != done && c.tries > 2 && (c.heard == 0 || c.rubbish*8 > c.heard)
}

// hearGreeting is hear before the printer has told what it is. It reports whether
// that is all there is to do.
func (c *Conversation) hearGreeting(now time.Duration, r Reply) bool {
	if r.Kind == Other && c.firstOdd == "" && c.greet != asking {
		c.firstOdd = r.Text[:min(len(r.Text), 60)]
	}
	if r.Kind == Busy {
		c.greetAt = max(c.greetAt, now+c.cfg.GreetWait)
		return true
	}
	switch c.greet {
	case listening:
		c.greetAt = min(c.greetAt, now+c.cfg.BootQuiet)
		return true
	case recounting:
		c.hearCount(now, r)
		return true
	case numbering:
		switch {
		case r.Kind == Resend: // of what stood before M110
			c.owed++
		case r.Kind == OK && c.owed > 0:
			c.owed--
		case r.Kind == OK && c.tries > 1: // perhaps to one of several: let the others be answered
			c.base, c.tries = c.cursor, 0
			c.greet, c.greetAt = asking, now+c.cfg.BootQuiet
		case r.Kind == OK:
			c.base = c.cursor
			c.identify(now)
		}
		return true
	}
	if c.greet == asking && c.base == c.cursor && c.owed == 0 { // not asked yet
		if r.Kind != Report {
			c.greetAt = now + c.cfg.BootQuiet
		}
		return true
	}
	if c.greet == asking && r.Kind == Resend && (r.Number > c.next || r.Number < c.base) { // of an older greeting, or misheard
		c.greet, c.greetAt = listening, now+c.cfg.BootQuiet
		return true
	}
	if c.greet == testing {
		c.hearTest(now, r)
		return true
	}
	// asking: the numbers hold, so that the conversation's own rules do.
	if r.Kind == OK && c.owed == 0 && c.tries <= 3 && !identified(append(c.answer, r.tail())) { // not to M115, or its answer follows
		c.habits.early = true
		return true
	}
	if r.Kind == Other && c.habits.early {
		c.greetAt = now + c.cfg.BootQuiet
	}
	return false
}

// identified tells an answer to M115, be it that the firmware does not know it; one that
// repeats a checksum has misheard it.
func identified(answer []string) bool {
	for _, line := range answer {
		if strings.Contains(line, "FIRMWARE_NAME") || strings.HasPrefix(line, "Cap:") || IsUnknown(line) && strings.Contains(line, "115") && !strings.Contains(line, "*") {
			return true
		}
	}
	return false
}

// test says a harmless line with a checksum and without a number. A firmware that
// takes care refuses it.
func (c *Conversation) test(now time.Duration) {
	if c.tests++; c.tests > 3 {
		c.arrive(now, false)
		return
	}
	c.greetAt = now + c.cfg.GreetWait/2
	text := fmt.Sprintf("%s*%d", question, gcode.Checksum([]byte(question)))
	c.out = append(append(c.out, text...), '\n')
	c.events = append(c.events, Event{Kind: Said, Text: text, Request: Request{Command: question}, Number: -1, Own: true})
}

// hearTest is hearGreeting while testing.
func (c *Conversation) hearTest(now time.Duration, r Reply) {
	switch {
	case r.Kind == Resend && r.Number != c.next: // M115 was not taken after all, or this is misheard
		c.greet, c.tests, c.greetAt = listening, 0, now+c.cfg.BootQuiet
	case r.Kind == Resend:
		c.owed++
		c.greetAt = now + c.cfg.Settle // where no ok follows
		c.tests = 3
		c.window.careful = true
	case r.Kind == OK && c.owed > 0:
		c.owed--
		c.arrive(now, true)
	case r.Kind == OK && hasTemperatures(r.Text):
		c.arrive(now, false)
	}
}

// hearCount is hearGreeting while recounting. Two requests in a row for the same
// line are believed: one alone may be misheard, or be meant for what an earlier
// conversation said last.
//
// Most firmwares tell the line that they took last in an error before the request, too:
// while the two contradict each other one of them is misheard, and neither is believed.
func (c *Conversation) hearCount(now time.Duration, r Reply) {
	switch {
	case r.Kind == Error:
		c.wants = lastLine(r.Text) + 1
		return
	case r.Kind != Resend:
		return
	case c.wants > 0 && r.Number != c.wants && c.doubts < mostDoubts:
		c.doubts++
		c.wants = 0
		return
	}
	c.wants = 0
	c.greetAt = now + c.cfg.BootQuiet
	if r.Number != c.rejoined+1 {
		c.rejoined, c.recounts, c.told = r.Number-1, 0, false
	}
	if c.told { // one answer to each question counts
		return
	}
	c.told = true
	if c.recounts++; c.recounts < 2 {
		return
	}
	c.recounts = 0
	// Otherwise it has lost count, so it has restarted, or somebody else has counted.
	if e := c.cfg.Earlier; r.Number < 2 || r.Number > e.most() || r.Number <= e.Taken-tooMany {
		c.rejoined = -1
		c.dropEarlier()
		c.greet = listening
		return
	}
	c.cfg.Earlier.Said = max(c.cfg.Earlier.Said, r.Number)
	c.base, c.cursor, c.next = r.Number, r.Number, r.Number
	c.greet, c.tests = testing, 0
	c.firmware = c.cfg.Earlier.Firmware
	c.window.narrow = narrowFor // what is still on its way from before makes the count uncertain
	c.window.learn(pick(c.cfg.Buffer, c.firmware.Buffer), pick(c.cfg.Slots, c.firmware.Slots))
}

// mostDoubts is how often an answer is doubted that contradicts itself: a firmware whose
// last line means something else is believed then.
const mostDoubts = 8

// lastLine is the line that an error names as the one that was taken last; -1: none.
func lastLine(text string) int {
	_, rest, told := strings.Cut(strings.ToLower(text), "last line:")
	if !told {
		return -1
	}
	return firstNumber(rest)
}

// tooMany is by how many lines, at most, oks that were one too many may have run
// ahead of the printer.
const tooMany = 16

// most is the number below which all may have been used.
func (e Earlier) most() int { return e.Said + e.More }

// dropEarlier gives the earlier conversation up and tells so, before the printer's
// count is given a new beginning: if this conversation ends right after that, the next
// one must not take the new count for the old.
func (c *Conversation) dropEarlier() {
	if c.cfg.Earlier.Said > 0 {
		c.cfg.Earlier = Earlier{}
		c.events = append(c.events, Event{Kind: Restarted})
	}
}

// recount asks anew for the last line the printer took: it has taken more of what
// an earlier conversation said than it had told.
func (c *Conversation) recount(now time.Duration) {
	const reason = "the printer's count of lines was not certain; asking again"
	c.lose(reason)
	c.greet, c.recounts, c.rejoined, c.claimed, c.wants = listening, 0, -1, 0, 0
	c.greetAt = now + c.cfg.BootQuiet
	c.settle, c.owed = 0, 0
	c.change(Greeting, reason)
}

// greeted goes on when M115 has been taken.
func (c *Conversation) greeted(now time.Duration, firmware Firmware) {
	c.firmware = firmware
	c.window.early = c.habits.early
	c.window.learn(pick(c.cfg.Buffer, firmware.Buffer), pick(c.cfg.Slots, firmware.Slots))
	c.greet = testing
	c.test(now)
}

// arrive ends the greeting.
func (c *Conversation) arrive(now time.Duration, careful bool) {
	c.window.careful = c.window.careful || careful || c.cfg.Wide
	c.greet, c.owed, c.settle = done, 0, 0
	c.lastWord = now
	why := "the printer answers"
	if c.rejoined > 0 {
		why = "the printer answers and has kept its place"
		c.doubt = c.next + 1 // oks may still come of what was said before
	}
	c.change(Live, why)
	c.events = append(c.events, Event{Kind: Greeted, Firmware: c.firmware, Number: c.rejoined})
	c.pump(now)
}

// pick prefers what was configured to what was told.
func pick(configured, told int) int {
	if configured > 0 {
		return configured
	}
	return told
}
