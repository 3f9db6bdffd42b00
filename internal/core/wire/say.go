package wire

import (
	"bytes"
	"fmt"
	"strconv"
	"strings"
	"time"

	"diathermon/internal/core/gcode"
)

// newLine is a request with its number, and what its command does.
func newLine(r Request, number int, own bool) line {
	command := []byte(r.Command)
	code, traits := gcode.CodeOf(command), gcode.TraitsOf(command)
	return line{
		Request: r, number: number, own: own,
		slow: traits&gcode.Slow != 0, awaits: traits&gcode.Awaits != 0,
		straight: code.Is('G', 0) || code.Is('G', 1), asks: code.Is('M', 105),
	}
}

// warming reports whether a wait for heat is under way.
func (c *Conversation) warming() bool { return c.base <= c.heats && c.heats < c.next }

// question is the harmless line that asks a silent printer for an answer.
const question = "M105"

// query is the question that the next number would be for. Where an answer to M105
// could be one to another question, does not stand on its ok, or every ok looks like one,
// it is a message with a token, which the printer repeats, be it only to say that it does not know the
// command.
func (c *Conversation) query() string {
	if c.tokens(c.questioned()) {
		return tokenQuestion + token(c.next)
	}
	return question
}

// tokens reports whether the next question is one with a token; questioned says that one is
// under way.
func (c *Conversation) tokens(questioned bool) bool {
	return (c.habits.chatty || c.habits.apart || questioned) && c.habits.untold < beliefIn
}

// questioned reports whether a question is under way.
func (c *Conversation) questioned() bool {
	for n := c.base; n < c.cursor; n++ {
		if c.at(n).asks {
			return true
		}
	}
	return false
}

const tokenQuestion = "M118 "

// untold reports whether a token is still to be said: by a printer that acknowledges a
// line before it carries it out.
func (c *Conversation) untold() bool {
	return c.habits.early && c.habits.token > c.proved && c.habits.token < c.base
}

func token(number int) string { return "q" + strconv.Itoa(number) + "." }

// proof looks for the token of a question in what the printer says. Some firmwares repeat
// every line as they read it, which says nothing of when it is carried out.
func (c *Conversation) proof(text string) bool {
	if !strings.Contains(text, "q") || strings.Contains(text, tokenQuestion) && !IsUnknown(text) {
		return false
	}
	for n := c.next - 1; n >= max(c.next-historySize+1, 0); n-- {
		if l := c.at(n); l.own && strings.HasSuffix(l.Command, " "+token(n)) && strings.Contains(text, token(n)) {
			c.proved, c.reached = max(c.proved, n), max(c.reached, n)
			c.habits.untold = 0
			if c.base > c.proved {
				c.certain(c.proved)
				c.window.sure()
			}
			return true
		}
	}
	return false
}

// mark is how many lines are said to a printer whose oks name no line before a
// question is put among them: its answer tells which ok is whose.
const mark = 400

// planned is how many of the lines that were taken last, at most, the printer may not
// have carried out yet: those in its planner and its command slots.
const planned = 80

// busy is how long the printer may be at work, as the motion plan tells, before it
// takes the line that is under way longest. A straight move is taken when the one that
// is being made leaves its place in the planner; anything else, at the worst, when
// everything before it is done. So is a straight move behind a wait that the printer has
// acknowledged as it came. Where it acknowledges a wait when that is over, all that stands
// before one is done. A plan may be wrong by half.
func (c *Conversation) busy() time.Duration {
	if c.busyWith == c.base {
		return c.busyFor
	}
	own := c.at(c.base)
	longest, all, waited := time.Duration(0), time.Duration(0), time.Duration(0) // waited: until the last that waits for all before it is over
	for n := max(c.base-planned, c.next-historySize+1, 0); n < c.base; n++ {
		l := c.at(n)
		switch {
		case l.number != n:
		case l.slow && c.habits.waits:
			longest, all, waited = 0, 0, 0
		default:
			if longest, all = max(longest, l.Takes), all+l.Takes; l.slow {
				waited = all
			}
		}
	}
	c.busyWith, c.busyFor, c.busyAsked = c.base, 2*(all+own.Takes), 2*(longest+own.Takes)
	if own.straight {
		c.busyFor = 2 * (max(longest, waited) + own.Takes)
	}
	return c.busyFor
}

// queued is how long, at most, the printer may still be at what it has taken.
func (c *Conversation) queued() (all time.Duration) {
	for n := max(c.base-planned, c.next-historySize+1, 0); n < c.base; n++ {
		all += 2 * c.at(n).Takes
	}
	return all
}

// waited learns from the answer to a wait of known length whether it comes when that is
// over.
func (c *Conversation) waited(l *line, now time.Duration) {
	const enough = 100 * time.Millisecond // to be told from an answer that only took its way
	if !l.slow || l.Takes < 2*enough || c.habits.early {
		return
	}
	switch took := now - max(c.lastTaken, c.saidAt); {
	case took >= max(l.Takes/2, enough):
		c.habits.waits = true
	case l.number == c.next-1:
		c.habits.waits = false
	}
}

// waitsByItself reports whether the line that is under way longest takes a time that no
// plan tells.
func (c *Conversation) waitsByItself() bool {
	l := c.at(c.base)
	return l.slow && l.Takes == 0
}

// patience is how long the line that is under way longest may take before the printer is
// asked. A command that waits by itself is asked after soon, too, as long as a new question
// fits: it is answered when the command is done, and if that was lost, or its ok, at once.
func (c *Conversation) patience() time.Duration {
	wait := c.cfg.Silence
	switch {
	case c.Measuring():
		wait += c.measuring.dwell
	case c.waitsByItself() && (c.habits.busies || c.asksAnew()): // busies: it would say so
		wait = min(c.cfg.SlowWait, 5*c.cfg.Silence)
	case c.waitsByItself():
		wait = c.cfg.SlowWait
	case c.asksAnew(): // a question that fits does no harm, so that the longest move is waited for and not all
		c.busy()
		return wait + min(c.busyAsked, c.busyFor)
	}
	return wait + c.busy()
}

// quiet is how long a printer is left without a word before that is told.
func (c *Conversation) quiet() time.Duration {
	if c.waitsByItself() && !c.habits.busies {
		return c.cfg.SlowWait + c.busy()
	}
	return 5*c.cfg.Silence + c.busy()
}

// overdueAt is when a line under way has been unanswered for too long. Each
// question without an answer doubles the wait for the next.
func (c *Conversation) overdueAt() time.Duration {
	if c.base <= c.proved && c.proved < c.cursor || c.leap > 0 && c.probes == 0 && c.asksAnew() { // what has been carried out has been acknowledged; an ok out of turn is judged by the next one
		return c.lastWord + c.cfg.BootQuiet
	}
	due := c.lastWord + c.patience()
	if c.probes > 0 {
		due = max(due, c.lastProbe+c.cfg.Silence<<min(c.probes-1, 4))
	}
	if c.cursor == c.next && c.fresh() && !c.asksAnew() { // what may only be late is not said again soon
		wait := max(2*c.cfg.Silence, c.busy())
		if !c.plans {
			wait = c.cfg.Repeat
		}
		due = max(due, max(c.lastWord, c.lastProbe)+wait)
		if c.waitsByItself() {
			due = max(due, max(c.lastWord, c.lastRemark)+c.cfg.SlowWait+c.busy())
		}
	}
	return due
}

// asksAnew reports whether a question with a number of its own may be said: one that
// the printer can hold and whose answer is its own, so that on a cable that loses
// nothing it leads to an answer and to nothing else, however late that is.
func (c *Conversation) asksAnew() bool {
	if c.cursor != c.next || !c.fresh() {
		return false
	}
	questioned := c.questioned()
	size := len(question)
	if c.tokens(questioned) {
		size = len(tokenQuestion) + len("q.") + gcode.Digits(c.next)
	} else if questioned {
		return false
	}
	const halt = len("\nM112\n")
	room := max(c.window.room, AssumedBuffer-1-reserve) + reserve - halt
	return c.load(1+gcode.NumberedSize(c.next, size)) <= room
}

// overdue asks a printer that owes an answer with a numbered, harmless line. If
// a line under way was lost the number makes the printer ask for it; if only its
// ok was lost the temperatures in the answer tell.
func (c *Conversation) overdue(now time.Duration) {
	if now-c.lastByte >= c.cfg.GiveUp+c.busy() {
		c.lose("the printer has stopped answering")
		c.change(Dead, fmt.Sprintf("nothing heard for %s: check the cable and the printer's power, then reconnect", (now-c.lastByte).Round(time.Minute)))
		return
	}
	c.doubt, c.measuring.spoilt = c.next, true
	if c.base <= c.reached && c.reached < c.cursor { // the oks do not come
		c.lastWord = now
		c.take(now, c.reached, Reply{})
		return
	}
	c.lastProbe = now
	c.probes++
	if now-c.lastWord >= c.quiet() && c.state == Live && !(c.at(c.base).slow && now-c.lastByte < c.cfg.Silence) {
		c.change(Silent, fmt.Sprintf("no answer for %s: the printer is busy, or the cable is loose", (now-c.lastWord).Round(time.Second)))
	}
	c.out = append(c.out, '\n') // ends a line whose end was lost
	if c.asksAnew() {
		c.sayNew(now, Request{Command: c.query()}, true)
		return
	}
	c.write(c.at(c.cursor-1), true) // what is to be said again goes first; and where no more fits it was lost, or all is late
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
	if c.greet != done || c.Measuring() {
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
			r, own = Request{Command: c.query()}, true
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
		c.at(c.next - 1).spoken = spoken
	}
}

// sayNew gives a request its number and says it.
func (c *Conversation) sayNew(now time.Duration, r Request, own bool) {
	if c.base == c.next {
		c.answer = nil
		c.lastWord, c.lastTaken, c.probes = now, now, 0
	}
	c.bytes += gcode.NumberedSize(c.next, len(r.Command))
	c.plans = c.plans || r.Takes > 0
	l := c.at(c.next)
	*l = newLine(r, c.next, own)
	if own && strings.HasPrefix(r.Command, tokenQuestion) {
		c.habits.token = c.next
	}
	l.end = c.bytes
	if c.next == c.busyWith {
		c.busyWith = -1
	}
	if l.awaits {
		c.heats = c.next
	}
	c.next++
	c.saidAt = now
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
