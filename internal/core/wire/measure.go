package wire

import (
	"bytes"
	"math"
	"strconv"
	"time"

	"diathermon/internal/core/gcode"
)

// Where a firmware does not tell the sizes of its buffers, they are measured: behind a
// short dwell, in which it reads nothing, it is sent harmless numbered lines, more and
// more of them until one is lost. What was lost is said again as always, so that the
// count stays exact. It is done once with short lines and once with long ones: the
// lines that fit tell how many the firmware holds besides its receive buffer, because
// there a long line takes no more room than a short one.
//
// Whatever is lost at the end of the lines, nothing but a dwell of no time can come of
// it: before they are said, every beginning of a line is put together with every end of
// a later one, and lines of which anything else could be read are not said.

// Holds is what a printer can hold.
type Holds struct {
	Bytes int // in its receive buffer
	Lines int // besides
}

// measuring is a measurement that goes on.
type measuring struct {
	step   trialStep
	begun  time.Duration
	long   bool // the lines are long ones
	fits   int  // bytes that have been held
	lost   int  // bytes of which some were lost; 0: not known
	short  int  // the bytes of short lines that were held
	least  int  // of a short line that is not the last of its trial, bytes
	most   int  // and of a long one
	dwell  time.Duration
	size   int           // bytes of the trial that goes on
	sizes  []int         // of its lines, bytes
	shorts []int         // of the short lines that were held
	first  int           // the number of its dwell
	sent   time.Duration // when the last of its bytes was on the cable
	taken  time.Duration // when the last of its lines was taken
	failed bool          // some were lost
	exact  bool          // it does not get more exact
	spoilt bool          // by noise: nothing can be found out
	window window        // as it was before
}

type trialStep int

const (
	noTrial  trialStep = iota
	dwelling           // the dwell was said
	filling            // and the lines behind it
)

const (
	trialLead    = 60 * time.Millisecond  // until the firmware is at its dwell
	trialSilence = 250 * time.Millisecond // after which lines that were not answered were lost
	trialLeast   = 64                     // bytes of the first trial
	trialMost    = 2048                   // bytes of the largest: 20 ms at 1,000,000 baud
	trialStepBy  = 4                      // bytes to which it is measured
	shortLine    = 16                     // bytes with number and checksum
	longLine     = 40                     // the longest of a trial is shortLine longer, and fits any receive buffer
	longestTrial = 4 * time.Second        // dwell
	measureFor   = 2 * time.Minute
)

// Measure begins to find out what the printer can hold, and reports whether it has
// begun: not while anything is under way, nor where only one line may be. It ends with
// an event, and before its end if something else is to be said.
func (c *Conversation) Measure(now time.Duration) bool {
	if c.state != Live || !c.idle() || len(c.file) > 0 || !c.Sure() || !c.fresh() || c.measuring.step != noTrial || !c.Measurable() {
		return false
	}
	c.measuring = measuring{begun: now, dwell: 300 * time.Millisecond, window: c.window}
	c.trial(now, trialLeast)
	return true
}

// Measurable reports whether it makes sense to measure what the printer can hold.
func (c *Conversation) Measurable() bool {
	return c.window.careful && !c.window.single && !c.habits.early && c.greet == done
}

// Measuring reports whether a measurement goes on.
func (c *Conversation) Measuring() bool { return c.measuring.step != noTrial }

// Learn takes what is known of what the printer can hold.
func (c *Conversation) Learn(h Holds) { c.window.learn(h.Bytes+1, h.Lines) }

// perByte is how long a byte with its start and stop bit is on the cable.
func (c *Conversation) perByte() time.Duration {
	if c.cfg.Baud <= 0 {
		return 0
	}
	return 10 * time.Second / time.Duration(c.cfg.Baud)
}

// trial says a dwell behind which so many bytes are to be held.
func (c *Conversation) trial(now time.Duration, size int) {
	m := &c.measuring
	m.size, m.failed = size, false
	onCable := time.Duration(size) * c.perByte()
	if least := 2*trialLead + 2*onCable; m.dwell < least {
		m.dwell = least
	}
	m.step, m.first = dwelling, c.next
	m.sent = now + trialLead
	c.sayNew(now, Request{Command: "G4 P" + strconv.FormatInt(m.dwell.Milliseconds(), 10)}, true)
}

// fill says the lines of a trial in one go.
func (c *Conversation) fill(now time.Duration) {
	m := &c.measuring
	length := shortLine
	if m.long {
		length = longLine
	}
	lines := padding(c.next, m.size, length)
	if lines == nil || !harmless(c.next, lines) {
		c.measured(now, Holds{})
		return
	}
	m.step, m.size, m.sizes = filling, 0, m.sizes[:0]
	for i, command := range lines {
		before := len(c.out)
		c.sayNew(now, Request{Command: command}, true)
		size := len(c.out) - before
		m.size += size
		m.sizes = append(m.sizes, size)
		switch {
		case i == len(lines)-1:
		case m.long:
			m.most = max(m.most, size)
		case m.least == 0 || size < m.least:
			m.least = size
		}
	}
	m.sent = now + time.Duration(m.size)*c.perByte()
}

// padding returns commands that, with numbers from first on, take size bytes on the
// cable, each about as long as length; nil if that cannot be.
func padding(first, size, length int) []string {
	var out []string
	for left := size; left > 0; {
		want := length
		if left < length+shortLine { // the last one takes the rest
			want = left
		}
		command, got := padded(first+len(out), want)
		if got == 0 || got > left {
			if left < shortLine {
				return out // a few bytes less
			}
			return nil
		}
		out = append(out, command)
		left -= got
	}
	return out
}

// padded returns a dwell of no time that takes about want bytes with its number, and
// how many it takes.
func padded(number, want int) (command string, size int) {
	for zeros := 1; zeros <= want; zeros++ {
		next := "G4 P" + string(bytes.Repeat([]byte("0"), zeros))
		n := len(gcode.AppendNumbered(nil, number, []byte(next)))
		if n > want {
			break
		}
		command, size = next, n
	}
	return command, size
}

// harmless reports whether nothing but a dwell of no time can come of lines of which
// some bytes in a row were lost: neither its number nor its checksum would tell.
func harmless(first int, commands []string) bool {
	type said struct {
		text []byte // without its line end
		sums []byte // sums[i] is the exclusive or of the first i bytes
		star int
	}
	lines := make([]said, len(commands))
	for i, command := range commands {
		text := bytes.TrimSuffix(gcode.AppendNumbered(nil, first+i, []byte(command)), []byte("\n"))
		sums := make([]byte, len(text)+1)
		for j, b := range text {
			sums[j+1] = sums[j] ^ b
		}
		lines[i] = said{text, sums, bytes.LastIndexByte(text, '*')}
	}
	type place struct{ line, from int }
	var bySum [256][]place // where lines may go on behind what was lost: the checksum does not tell
	for i, l := range lines {
		for from := range l.star {
			bySum[l.sums[from]] = append(bySum[l.sums[from]], place{i, from})
		}
	}
	var whole []byte
	for i, a := range lines {
		for cut := 1; cut < a.star; cut++ {
			for _, p := range bySum[a.sums[cut]] {
				if p.line <= i {
					continue
				}
				b := lines[p.line]
				whole = append(append(whole[:0], a.text[:cut]...), b.text[p.from:b.star]...)
				if number, command := numbered(whole); number == first+i && !idleDwell(command) {
					return false
				}
			}
		}
	}
	return true
}

// numbered splits a line, which begins with N, into its number and what follows.
func numbered(line []byte) (number int, command []byte) {
	command = line[1:]
	for len(command) > 0 && command[0] >= '0' && command[0] <= '9' {
		number = number*10 + int(command[0]-'0')
		command = command[1:]
	}
	return number, command
}

// idleDwell reports whether a command is a dwell of less than a second, or nothing at
// all, however it is read.
func idleDwell(command []byte) bool {
	if bytes.ContainsAny(command, "MTmt") {
		return false
	}
	for at, b := range command {
		if b != 'G' {
			continue
		}
		digits := bytes.TrimLeft(command[at+1:], " ")
		if len(digits) > 0 && digits[0] >= '0' && digits[0] <= '9' && !bytes.HasPrefix(digits, []byte("4 ")) && !bytes.HasPrefix(digits, []byte("44 ")) { // G44 is no printer's
			return false
		}
	}
	for {
		at := bytes.IndexByte(command, 'P')
		if at < 0 {
			return true
		}
		command = bytes.TrimLeft(command[at+1:], " 0")
		digits := 0
		for digits < len(command) && command[digits] >= '0' && command[digits] <= '9' {
			digits++
		}
		if digits > 3 {
			return false
		}
	}
}

// trialDue is when a trial goes on by itself; 0 if it waits for the printer.
func (c *Conversation) trialDue() time.Duration {
	switch m := &c.measuring; {
	case m.step == dwelling:
		return m.sent
	case m.step == filling && c.Sure():
		return max(m.taken, 1)
	case m.step == filling && !m.failed && c.base > m.first && c.base < c.cursor && c.cursor == c.next && c.settle == 0: // the dwell is over
		return max(m.taken, m.sent) + trialSilence
	}
	return 0
}

// trialTick goes on with a trial whose time has come.
func (c *Conversation) trialTick(now time.Duration) {
	switch {
	case c.measuring.step == dwelling:
		c.fill(now)
		return
	case c.Sure():
		c.nextTrial(now)
		return
	}
	c.measuring.failed = true
	c.out = append(c.out, '\n') // ends half a line that is left in the printer
	c.lastWord = now
	c.sayNew(now, Request{Command: question}, true)
}

// trialWord follows a trial as lines are taken: a dwell that was over before the lines
// were sent was too short to tell anything.
func (c *Conversation) trialWord(now time.Duration) {
	m := &c.measuring
	if m.step == noTrial || c.base <= m.first {
		return
	}
	m.taken = now
	if m.step == dwelling || m.sent > now && !m.failed {
		if m.dwell *= 2; m.dwell > longestTrial {
			c.measured(now, Holds{})
			return
		}
		m.size = -m.size // to be tried again
		m.sent = 0
		if m.step == dwelling {
			c.nextTrial(now)
			return
		}
	}
	if c.Sure() && c.settle == 0 {
		c.nextTrial(now)
	}
}

// nextTrial takes the outcome of a trial, and begins the next one.
func (c *Conversation) nextTrial(now time.Duration) {
	m := &c.measuring
	c.window = m.window
	switch {
	case m.size < 0:
		m.size = -m.size
		c.again(now, m.size)
		return
	case m.failed && (m.lost == 0 || m.size < m.lost):
		m.lost = m.size
	case !m.failed && m.size > m.fits:
		m.fits = m.size
		if !m.long {
			m.shorts = append(m.shorts[:0], m.sizes...)
		}
	default: // lines are not to be had in every length: it does not get more exact
		m.exact = true
	}
	next, most := 0, trialMost-shortLine // which may be a few bytes more than was wanted
	switch {
	case m.lost == 0 && m.fits < most && !m.exact:
		next = min(2*m.fits, trialMost)
	case m.lost > 0 && m.lost-m.fits > trialStepBy && !m.exact:
		next = (m.fits + m.lost) / 2
	case !m.long && m.fits < most && m.fits > 0: // and now with long lines, of which no fewer bytes fit
		m.long, m.exact, m.short, m.lost = true, false, m.fits, 0
		next = min(m.fits+m.fits/2, trialMost)
	default:
		c.measured(now, m.holds())
		return
	}
	c.again(now, next)
}

// again begins another trial, unless there is something else to say.
func (c *Conversation) again(now time.Duration, size int) {
	if m := &c.measuring; m.spoilt || len(c.manual)+len(c.file) > 0 || now-m.begun > measureFor {
		c.measured(now, Holds{})
		return
	}
	c.trial(now, size)
}

// holds is what both series tell: so many lines that a long one could be no shorter,
// and the bytes of short ones besides.
func (m *measuring) holds() Holds {
	if !m.long || m.most <= m.least {
		return Holds{Bytes: m.fits}
	}
	more := float64(m.fits - m.short - trialStepBy)
	lines := min(max(int(math.Ceil(more/float64(m.most-m.least))), 0), mostSlots, len(m.shorts))
	left := m.short
	for _, size := range m.shorts[:lines] {
		left -= size
	}
	return Holds{Bytes: left, Lines: lines}
}

// measured ends the measurement. What could not be found out has no bytes.
func (c *Conversation) measured(now time.Duration, h Holds) {
	if c.window = c.measuring.window; h.Bytes > 0 {
		c.Learn(h)
	}
	c.measuring = measuring{}
	c.events = append(c.events, Event{Kind: Measured, Holds: h})
	c.pump(now)
}
