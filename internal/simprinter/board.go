package simprinter

import (
	"fmt"
	"math"
	"math/rand/v2"
	"strconv"
	"strings"
	"time"
)

// Executed is one command the board has carried out.
type Executed struct {
	Number int // the line number it came with; -1 without one
	Line   string
	At     time.Duration // of the board's own clock
}

// Segment is one stretch of plastic laid.
type Segment struct {
	From, To [3]float64 // mm
	Filament float64    // mm
}

// A Board is the printer's electronics and mechanics in virtual time. It is
// driven by Receive and Advance and answers through Output.
type Board struct {
	cfg Config
	rng *rand.Rand
	now float64 // s of virtual time

	rx        []byte // the receive buffer
	urgent    []byte // the line being received, for commands that cannot wait
	line      []byte // the line being read from rx
	slots     []command
	last      int // the last line number taken
	out       []byte
	overflows int
	requests  int
	drawback  drawback
	paused    bool    // XOFF was said
	idleAt    float64 // "wait" is due then
	dry       float64 // when the planner ran out of moves; 0: it did not, or was meant to
	starved   float64 // s it was without moves in the middle of a file
	stalled   float64 // nothing happens until then

	current   *command
	busyAt    float64
	waits     func() bool // current is done when it says so
	halted    bool
	interrupt bool

	planner   planner
	rest      [4]float64 // where the machine is when nothing moves
	planned   [4]float64 // where the last planned move ends
	origin    [4]float64 // G92: what the firmware calls planned
	homed     [3]bool
	relative  bool
	relativeE bool
	inches    bool
	plane     int     // of arcs: XY, ZX or YZ
	feed      float64 // mm/s
	speed     float64 // M220
	flow      float64 // M221
	fan       float64
	light     float64 // of the case, 0 to 1
	blocked   bool    // no plastic comes out, whatever the gears do
	cut       int     // moves that ended where an axis does
	heatedAt  float64
	nozzle    *heater
	bed       *heater
	house     *house
	heatEvery float64 // automatic reports, s; 0 is off
	heatNext  float64
	posEvery  float64
	posNext   float64
	executed  []Executed
	segments  []Segment
}

type command struct {
	number int
	text   string
	words  map[byte]float64
	code   string
}

// NewBoard returns a board that is switched on at time zero, its heaters at
// room temperature.
func NewBoard(cfg Config) *Board {
	cfg = cfg.withDefaults()
	rng := rand.New(rand.NewPCG(uint64(cfg.Seed), 0x5eed))
	b := &Board{cfg: cfg, rng: rng}
	b.nozzle = newHeater(cfg.Nozzle, cfg.Ambient, rng)
	b.bed = newHeater(cfg.Bed, cfg.Ambient, rng)
	b.house = newHouse(cfg.House, rng)
	b.Reset()
	return b
}

// Reset restarts the firmware: everything it knew is gone, the heat is not.
func (b *Board) Reset() {
	at := b.planner.at(b.now, b.rest)
	b.rx, b.urgent, b.line, b.slots, b.out = nil, nil, nil, nil, nil
	b.last, b.current, b.waits, b.halted, b.interrupt = 0, nil, nil, false, false
	b.paused, b.stalled = false, 0
	b.planner = planner{slots: b.cfg.PlannerSlots, Motion: b.cfg.Motion}
	b.drawback = drawback{length: 3, feed: 45 * 60}
	b.rest = [4]float64{at[0], at[1], at[2]}
	b.planned, b.origin = b.rest, b.rest // a board that starts believes to be at zero
	b.homed = [3]bool{}
	b.relative, b.relativeE, b.inches, b.plane = false, false, false, 0
	b.feed, b.speed, b.flow, b.fan, b.light = 25, 1, 1, 0, 0
	b.nozzle.target, b.bed.target = 0, 0
	b.nozzle.Heater, b.bed.Heater = b.cfg.Nozzle, b.cfg.Bed // as they were last stored
	b.nozzle.tuning, b.bed.tuning = nil, nil
	b.heatEvery, b.posEvery = 0, 0
	b.say("start")
	b.say("echo:%s stand-in board", b.cfg.Name)
	b.say("echo:Free memory: 4096  planner slots: %d", b.cfg.PlannerSlots)
}

// Now is the board's clock.
func (b *Board) Now() time.Duration { return seconds(b.now) }

func seconds(s float64) time.Duration { return time.Duration(s * float64(time.Second)) }

func (b *Board) say(format string, args ...any) {
	if b.cfg.Mute {
		return
	}
	b.out = fmt.Appendf(b.out, format, args...)
	b.out = append(b.out, b.cfg.Dialect.Words.text(ending)...)
	if text := b.cfg.Dialect.Words.text(between); text != "" && b.rng.IntN(8) == 0 {
		b.out = append(append(b.out, text...), b.cfg.Dialect.Words.text(ending)...)
	}
}

// Output returns what the board has said since the last call.
func (b *Board) Output() []byte {
	out := b.out
	b.out = nil
	if b.cfg.Rubbish {
		for i := range out {
			out[i] = byte(b.rng.IntN(256))
		}
	}
	return out
}

// split reads "G1 X5 E.2", with or without its spaces, into its code and its
// words. A word without a number has the value NaN.
func split(text string) (string, map[byte]float64) {
	text = strings.ToUpper(text)
	end := 1
	for end < len(text) && strings.IndexByte("0123456789.", text[end]) >= 0 {
		end++
	}
	code, rest := text[:min(end, len(text))], text[min(end, len(text)):]
	words := map[byte]float64{}
	for i := 0; i < len(rest); {
		letter := rest[i]
		i++
		if letter < 'A' || letter > 'Z' {
			continue
		}
		start := i
		for i < len(rest) && strings.IndexByte("+-0123456789.", rest[i]) >= 0 {
			i++
		}
		v, err := strconv.ParseFloat(rest[start:i], 64)
		if err != nil {
			v = math.NaN()
		}
		words[letter] = v
	}
	return code, words
}

// Advance lets the board's clock run to that time.
func (b *Board) Advance(to time.Duration) {
	end := to.Seconds()
	for {
		b.work()
		next := b.nextEvent()
		if next > end {
			break
		}
		b.pass(max(next, b.now))
	}
	b.pass(max(end, b.now))
	b.work()
}

// Next is when the board has something to do by itself.
func (b *Board) Next() time.Duration { return seconds(b.nextEvent()) }

func (b *Board) nextEvent() float64 {
	next := min(b.planner.next(), b.heatedAt+heaterStep)
	if b.nozzle.target == 0 && b.bed.target == 0 && b.current == nil && len(b.planner.moves) == 0 {
		next = b.heatedAt + 10*heaterStep // nothing that could be late
	}
	if b.now < b.stalled {
		return min(b.stalled, b.heatedAt+heaterStep)
	}
	words := b.cfg.Dialect.Words
	if b.current != nil && words.text(working) != "" {
		next = min(next, b.busyAt)
	}
	if words.text(idling) != "" && b.idle() {
		next = min(next, b.idleAt)
	}
	if b.heatEvery > 0 {
		next = min(next, b.heatNext)
	}
	if b.posEvery > 0 {
		next = min(next, b.posNext)
	}
	return next
}

// pass moves the clock to t, in steps no event lies between.
func (b *Board) pass(t float64) {
	b.now = t
	for b.heatedAt+heaterStep <= t {
		flow := 0.0
		if len(b.planner.moves) > 0 && b.planner.moves[0].begun && !b.blocked {
			flow = b.planner.moves[0].flow
		}
		b.house.step(b.nozzle, b.bed, b.cfg.Ambient, b.fan, flow)
		b.heatedAt += heaterStep
	}
	for _, h := range []*heater{b.nozzle, b.bed} {
		if why := h.broken(); why != "" && !b.cfg.Dialect.Trusting {
			b.kill(why + " triggered, system stopped!")
		}
	}
	if t < b.stalled {
		return
	}
	b.planner.advance(t, b.made)
	if b.halted {
		return
	}
	if !b.idle() {
		b.idleAt = t + 1
	} else if t >= b.idleAt {
		b.word(idling)
		b.idleAt = t + 1
	}
	if b.heatEvery > 0 && t >= b.heatNext {
		b.say(" %s", b.temperatures())
		b.heatNext = t + b.heatEvery
	}
	if b.posEvery > 0 && t >= b.posNext {
		b.say("%s", b.position())
		b.posNext = t + b.posEvery
	}
	if b.current != nil && t >= b.busyAt {
		b.word(working)
		b.busyAt = t + 2
	}
}

// made accounts for a move that has ended.
func (b *Board) made(m *move) {
	b.rest = m.to
	if len(b.planner.moves) == 1 {
		b.dry = m.ends
	}
	if m.filament > 0 && !b.blocked && b.cfg.Record && (m.from[0] != m.to[0] || m.from[1] != m.to[1]) {
		b.segments = append(b.segments, Segment{From: [3]float64(m.from[:3]), To: [3]float64(m.to[:3]), Filament: m.filament})
	}
}

// work carries out commands until one has to wait.
func (b *Board) work() {
	for !b.halted && b.now >= b.stalled {
		if b.current == nil {
			b.read()
			if len(b.slots) == 0 {
				return
			}
			c := b.slots[0]
			b.slots = append(b.slots[:0], b.slots[1:]...)
			b.current, b.busyAt, b.interrupt = &c, b.now+2, false
			if b.waits = b.execute(&c); b.halted { // it was M112, in its turn
				return
			}
		}
		if b.waits != nil && !b.waits() {
			return
		}
		b.done()
	}
}

// done acknowledges the current command.
func (b *Board) done() {
	c := b.current
	b.current, b.waits = nil, nil
	if b.cfg.Record {
		b.executed = append(b.executed, Executed{Number: c.number, Line: c.text, At: b.Now()})
	}
	if b.cfg.Dialect.Early {
		b.reply(c)
		return
	}
	switch where := b.cfg.Dialect.Words.name(standing); {
	case where == "before":
		b.reply(c)
		b.acknowledge(c, "")
	case where == "behind":
		b.acknowledge(c, "")
		b.reply(c)
	case c.code == "M114" && b.cfg.Dialect.Words.name(place) == "spaced": // nearly all say it before
		b.reply(c)
		b.acknowledge(c, "")
	case c.code == "M115" && b.cfg.Dialect.Words.name(identity) != "on-ok":
		b.reply(c)
		b.acknowledge(c, "")
	default:
		b.acknowledge(c, b.answerTo(c))
	}
}

// answerTo is what a question is answered on one line; empty for anything else.
func (b *Board) answerTo(c *command) string {
	switch c.code {
	case "M105":
		return b.temperatures()
	case "M114":
		return b.position()
	case "M115":
		return fill(b.cfg.Dialect.Words.text(identity), b.cfg.Name)
	}
	return ""
}

// reply answers a question on lines of their own.
func (b *Board) reply(c *command) {
	if text := b.answerTo(c); text != "" {
		b.say("%s", text)
	}
	if c.code == "M115" {
		b.capabilities()
	}
}

// Words tells how the board says things.
func (b *Board) Words() Words { return b.cfg.Dialect.Words }

// Idle reports whether the board has nothing to do, to read or to make.
func (b *Board) Idle() bool {
	return b.idle() && len(b.rx) == 0 && len(b.planner.moves) == 0 && b.now >= b.stalled
}

// idle reports whether there is nothing to do.
func (b *Board) idle() bool { return b.current == nil && len(b.slots) == 0 && !b.halted }

// acknowledge says the ok to a command, with what else stands on its line.
func (b *Board) acknowledge(c *command, tail string) {
	words := b.cfg.Dialect.Words
	name := ""
	unnamed := c.number < 0
	switch words.name(plainly) {
	case "temperatures":
		unnamed = unnamed || c.code == "M105"
	case "questions":
		unnamed = unnamed || b.answerTo(c) != ""
	case "every-fifth":
		unnamed = unnamed || c.number%5 == 0
	}
	if words.text(naming) != "" && !unnamed {
		name = fill(words.text(naming), c.number, b.cfg.PlannerSlots-len(b.planner.moves), b.cfg.CommandSlots-len(b.slots))
	}
	if b.cfg.Dialect.Temperatures && c.code != "M105" {
		tail = strings.TrimSpace(tail + " " + b.temperatures())
	}
	if tail != "" {
		tail = " " + tail
	}
	b.say("ok%s%s", name, tail)
}

func (b *Board) temperatures() string {
	return report(b.cfg.Dialect.Words, b.nozzle, b.bed)
}

// endstops tells what the switches say: each is at the low end of its axis.
func (b *Board) endstops() {
	b.say("Reporting endstop status")
	x, y, z := b.Place()
	for i, at := range []float64{x, y, z} {
		says := "open"
		if at <= 0.01 {
			says = "TRIGGERED"
		}
		b.say("%c_min: %s", "xyz"[i], says)
	}
}

func (b *Board) position() string {
	var p [4]float64
	at := b.planner.at(b.now, b.rest)
	for i := range p {
		p[i] = at[i] - b.origin[i]
	}
	return fill(b.cfg.Dialect.Words.text(place), p[0], p[1], p[2], p[3], int(at[0]*80), int(at[1]*80), int(at[2]*400))
}

// Executed returns what has been carried out so far, if the board records.
func (b *Board) Executed() []Executed { return append([]Executed(nil), b.executed...) }

// ExecutedSince returns what has been carried out after the first n commands,
// valid until the board goes on.
func (b *Board) ExecutedSince(n int) []Executed { return b.executed[min(n, len(b.executed)):] }

// Segments returns the plastic laid so far, if the board records.
func (b *Board) Segments() []Segment { return append([]Segment(nil), b.segments...) }

// Starved is how long the planner was without moves in the middle of a file: not
// while it was told to wait until nothing moves.
func (b *Board) Starved() time.Duration { return seconds(b.starved) }

// fed ends a time without moves.
func (b *Board) fed() {
	if b.dry > 0 {
		b.starved += b.now - b.dry
		b.dry = 0
	}
}

// Break gives a heater a fault.
func (b *Board) Break(bed bool, f HeaterFault) {
	if bed {
		b.bed.breaks(f)
	} else {
		b.nozzle.breaks(f)
	}
}

// Block lets no plastic come out of the nozzle any more, or lets it come again.
func (b *Board) Block(on bool) { b.blocked = on }

// Place is where the nozzle really is, whatever the firmware believes, in mm.
func (b *Board) Place() (x, y, z float64) {
	at := b.planner.at(b.now, b.rest)
	return at[0], at[1], at[2]
}

// Overflows counts the bytes that did not fit the receive buffer.
func (b *Board) Overflows() int { return b.overflows }

// Requests counts how often it has asked for a line again.
func (b *Board) Requests() int { return b.requests }

// Cut counts the moves that were to go beyond the end of an axis, and ended there.
func (b *Board) Cut() int { return b.cut }

// Halted reports whether the firmware has stopped until it is reset.
func (b *Board) Halted() bool { return b.halted }

// Setpoints returns what the firmware believes the nozzle and the bed should have,
// in °C.
func (b *Board) Setpoints() (nozzle, bed float64) { return b.nozzle.target, b.bed.target }

// Last is the number of the last line that was taken.
func (b *Board) Last() int { return b.last }

// Temperatures returns what the nozzle and the bed really have, in °C.
func (b *Board) Temperatures() (nozzle, bed float64) { return b.nozzle.block, b.bed.block }

// argument is the text after a command's code, for commands that take text.
func (c *command) argument() string {
	return strings.TrimSpace(c.text[min(len(c.code), len(c.text)):])
}
