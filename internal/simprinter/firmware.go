package simprinter

import (
	"strconv"
	"strings"
	"time"
)

// Receive takes bytes that arrive now. What does not fit the receive buffer is
// lost, as on a real board.
func (b *Board) Receive(data []byte) {
	for _, c := range data {
		if !b.cfg.Dialect.Queued {
			b.watch(c)
		}
		if len(b.rx) >= b.cfg.ReceiveBuffer-1 { // a ring of bytes is full with one place free
			b.overflows++
			continue
		}
		b.rx = append(b.rx, c)
		if b.cfg.Dialect.Pausing && !b.paused && len(b.rx) > b.cfg.ReceiveBuffer*3/4 {
			b.paused = true
			b.out = append(b.out, 0x13)
		}
		if c == '\n' {
			b.read() // a firmware's loop goes round many times a millisecond
		}
	}
	b.read()
}

// Stall lets the board do nothing at all for a while: it neither reads nor moves
// nor speaks.
func (b *Board) Stall(d time.Duration) { b.stalled = b.now + d.Seconds() }

// watch looks for the commands that take effect as they arrive, whatever is
// queued before them.
func (b *Board) watch(c byte) {
	if c != '\n' && c != '\r' {
		if len(b.urgent) < 96 {
			b.urgent = append(b.urgent, c)
		}
		return
	}
	text := strings.TrimSpace(string(b.urgent))
	b.urgent = b.urgent[:0]
	if strings.HasPrefix(text, "N") {
		_, text, _ = strings.Cut(text, " ")
	}
	text, _, _ = strings.Cut(text, "*")
	switch strings.TrimSpace(text) {
	case "M112":
		b.kill("Printer halted. kill() called!")
	case "M108":
		b.interrupt = true
	case "M410":
		b.quickStop()
	}
}

// quickStop drops the moves that are planned and stays where the machine is.
func (b *Board) quickStop() {
	b.rest = b.planner.at(b.now, b.rest)
	b.planned = b.rest
	b.planner.moves = nil
}

// kill stops everything until the next Reset.
func (b *Board) kill(why string) {
	if b.halted {
		return
	}
	b.halted = true
	b.nozzle.target, b.bed.target, b.fan = 0, 0, 0
	b.rest = b.planner.at(b.now, b.rest)
	b.planner.moves, b.slots, b.current = nil, nil, nil
	b.heatEvery, b.posEvery = 0, 0
	b.word(failing, why)
}

// read takes lines from the receive buffer while there are command slots.
func (b *Board) read() {
	for len(b.rx) > 0 && len(b.slots) < b.cfg.CommandSlots && !b.halted && b.now >= b.stalled {
		c := b.rx[0]
		b.rx = b.rx[1:]
		if b.paused && len(b.rx) < b.cfg.ReceiveBuffer/4 {
			b.paused = false
			b.out = append(b.out, 0x11)
		}
		if c != '\n' && c != '\r' {
			if len(b.line) < 96 {
				b.line = append(b.line, c)
			}
			continue
		}
		text := strings.TrimSpace(string(b.line))
		b.line = b.line[:0]
		if text != "" {
			b.take(text)
		}
	}
}

// take checks a line's number and checksum and queues its command.
func (b *Board) take(text string) {
	cmd := command{number: -1}
	if text[0] == 'N' {
		end := 1
		for end < len(text) && text[end] >= '0' && text[end] <= '9' {
			end++
		}
		number, _ := strconv.Atoi(text[1:end])
		star := strings.LastIndexByte(text, '*')
		body := strings.TrimSpace(text[end:])
		if star >= end {
			body = strings.TrimSpace(text[end:star])
		}
		if words := b.cfg.Dialect.Words; words.text(repeated) != "" && star >= end && number <= b.last && number > 0 && !strings.HasPrefix(body, "M110") {
			b.word(repeated, number)
			if words.name(repeated) == "skipped-named" {
				b.say("ok%s", fill(words.text(naming), number, 1, 1))
			} else {
				b.say("ok")
			}
			return
		}
		if number != b.last+1 && !strings.HasPrefix(body, "M110") {
			b.refuse("Line Number is not Last Line Number+1")
			return
		}
		if star < 0 {
			b.refuse("No Checksum with line number")
			return
		}
		var sum byte
		for i := range star {
			sum ^= text[i]
		}
		if want, err := strconv.Atoi(strings.TrimSpace(text[star+1:])); err != nil || want != int(sum) {
			b.refuse("checksum mismatch")
			return
		}
		b.last, cmd.number, text = number, number, body
		if at := strings.IndexByte(body, 'N'); strings.HasPrefix(body, "M110") && at > 0 { // which sets the count
			if n, err := strconv.Atoi(strings.TrimSpace(body[at+1:])); err == nil {
				b.last = n
			}
		}
	} else if strings.Contains(text, "*") && !b.cfg.Dialect.Careless {
		b.refuse("No Line Number with checksum")
		return
	}
	if i := strings.IndexByte(text, ';'); i >= 0 {
		text = strings.TrimSpace(text[:i])
	}
	cmd.text = text
	if cmd.code, cmd.words = split(text); b.cfg.Dialect.Lenient && text != "" {
		cmd.code, cmd.words = b.lenient(text)
	}
	b.slots = append(b.slots, cmd)
	if b.cfg.Dialect.Words.name(between) == "echo" {
		b.say("echo:%s", text)
	}
	if b.cfg.Dialect.Early {
		b.acknowledge(&cmd, "")
	}
}

// refuse drops what has arrived and asks for the line after the last good one.
func (b *Board) refuse(why string) {
	b.word(refusal, why, b.last)
	if !b.cfg.Dialect.Keeping {
		b.rx, b.line = b.rx[:0], nil
	}
	b.requests++
	b.word(request, b.last+1)
	switch words := b.cfg.Dialect.Words; words.name(amends) {
	case "plain":
		b.say("ok")
	case "stale": // it names what stands in its queue, which may be of long ago
		b.say("ok%s", fill(words.text(naming), max(b.last-b.rng.IntN(4), 0), 1, 1))
	}
}
