// Package wire is the serial conversation with a printer as a state machine:
// bytes, ticks and requests in; bytes and events out. It has no goroutine, no
// clock and no port, so that a test can hold any conversation it likes.
//
// It promises that the printer takes every command handed to Send once and in
// its lane's order, or that the conversation says why it cannot go on. Lines are
// numbered and checksummed; one is under way at a time, with at most one
// question behind it when the printer has fallen silent.
//
// The states and how one follows another:
//
//	Greeting → Live      the printer has answered M110 and M115
//	Live     → Silent    a line is under way and nothing is said for too long
//	Silent   → Live      the printer acknowledges again
//	any      → Greeting  the printer says that it has started
//	any      → Dead      halted, a fatal error, or silent past all patience
//	Dead     → Greeting  the printer says that it has started
//
// It leaves to the host to open the port, to carry bytes, to tell the time and
// to give meaning to what was said.
package wire

import (
	"time"
)

// State is where the conversation stands.
type State string

// The states of a conversation.
const (
	Greeting State = "greeting" // opened; the printer has not answered yet
	Live     State = "live"     // the printer answers
	Silent   State = "silent"   // the printer owes an answer
	Dead     State = "dead"     // nothing more can be said until it restarts
)

// Lane orders what waits to be said: a lower lane goes first.
type Lane int

// The lanes. Halt has none: it goes out at once.
const (
	Manual Lane = iota // a person's commands, setpoints, the host's own questions
	File               // the lines of the file that runs
)

// A Request is one command to be said.
type Request struct {
	Lane    Lane
	Command string // as gcode.Command returns it; no line end in it
	Tag     uint64 // the caller's; comes back in the events
	Urgent  bool   // said even while another line is under way: for M108, which ends a wait
}

// EventKind says what an Event tells.
type EventKind int

// The kinds of event.
const (
	Heard     EventKind = iota // the printer said Reply
	Said                       // a line went out: Text, Request, Again
	Acked                      // Request was taken; Lines is the printer's answer
	Lost                       // Request will never be answered: Reason
	Changed                    // the state is now State, because of Reason
	Greeted                    // the printer told what it is: Firmware
	Restarted                  // the printer started anew in the middle of a conversation
)

// An Event is something the caller should know. Which fields hold something
// depends on Kind.
type Event struct {
	Kind     EventKind
	Reply    Reply
	Request  Request
	Text     string
	Again    bool
	Lines    []string
	State    State
	Reason   string
	Firmware Firmware
}

// Config holds the conversation's patience. The zero value of a field means its
// default.
type Config struct {
	BootWait  time.Duration // greet after this long if the printer says nothing by itself; 2 s
	BootQuiet time.Duration // greet once a printer that spoke has been quiet for this long; 250 ms
	GreetWait time.Duration // greet again after this long without an answer; 3 s
	Silence   time.Duration // a line under way unanswered for this long raises a question; 5 s
	SlowWait  time.Duration // the same for commands that wait by themselves, from the last word heard; 3 min
	GiveUp    time.Duration // after this long without one byte the printer is dead; 10 min
	Settle    time.Duration // pause before a line is said again; 20 ms
}

func (c Config) withDefaults() Config {
	set := func(d *time.Duration, v time.Duration) {
		if *d == 0 {
			*d = v
		}
	}
	set(&c.BootWait, 2*time.Second)
	set(&c.BootQuiet, 250*time.Millisecond)
	set(&c.GreetWait, 3*time.Second)
	set(&c.Silence, 5*time.Second)
	set(&c.SlowWait, 3*time.Minute)
	set(&c.GiveUp, 10*time.Minute)
	set(&c.Settle, 20*time.Millisecond)
	return c
}

const (
	historySize = 128  // lines kept for the printer to ask for again
	longestLine = 4096 // bytes of one reply kept; the rest of a longer line is dropped
	readAhead   = 4    // file lines taken before they can be said
)

// line is a request that has its number.
type line struct {
	Request
	number int
	acked  bool
	probe  bool
}

// A Conversation is one talk with one printer, from the opening of the port to
// its closing. Its methods are not safe for concurrent use. Times are durations
// since any fixed instant and never go back.
type Conversation struct {
	cfg    Config
	state  State
	out    []byte
	spare  []byte // the buffer that out changes places with
	events []Event

	partial []byte // the reply line being received

	next      int // number of the next new line
	flight    []line
	again     []line // to be said again, before anything new
	history   [historySize]line
	manual    []Request
	file      []Request
	held      bool // the file lane is held back
	answer    []string
	swallow   bool          // a resend was asked for and its ok has not come
	settle    time.Duration // nothing is said before this; 0: no wait
	resentAt  time.Duration
	lastWord  time.Duration // when the printer last moved the conversation on
	lastByte  time.Duration // when it last said anything
	lastProbe time.Duration

	greet   greetStep
	greetAt time.Duration // when the next step of the greeting is due
	tries   int
	bytes   int // heard while greeting
	rubbish int // of which no printer says
}

type greetStep int

const (
	listening greetStep = iota // for a boot banner
	numbering                  // M110 said
	asking                     // M115 said
	done
)

// New returns a conversation that begins at now, when the port was opened.
func New(cfg Config, now time.Duration) *Conversation {
	c := &Conversation{cfg: cfg.withDefaults()}
	c.begin(now, "the port is open; waiting for the printer to answer")
	return c
}

func (c *Conversation) begin(now time.Duration, reason string) {
	c.lose(reason)
	c.next = 0
	c.swallow, c.settle = false, 0
	c.greet, c.tries, c.bytes, c.rubbish = listening, 0, 0, 0
	c.greetAt = now + c.cfg.BootWait
	c.lastWord, c.lastByte = now, now
	c.change(Greeting, reason)
}

// State returns where the conversation stands.
func (c *Conversation) State() State { return c.state }

// Take returns what is to be written to the port and what has happened since
// the last Take. The bytes are valid until the next Take.
func (c *Conversation) Take() (out []byte, events []Event) {
	out, events = c.out, c.events
	c.out, c.spare, c.events = c.spare[:0], out, nil
	return out, events
}

// Wants returns how many file lines the conversation would take now.
func (c *Conversation) Wants() int {
	if c.state != Live && c.state != Silent {
		return 0
	}
	return max(readAhead-len(c.file), 0)
}

// Send queues a request in its lane.
func (c *Conversation) Send(now time.Duration, r Request) {
	if c.state == Dead {
		c.events = append(c.events, Event{Kind: Lost, Request: r, Reason: "the printer is not answering"})
		return
	}
	switch {
	case r.Lane == File:
		c.file = append(c.file, r)
	case r.Urgent && len(c.flight) == 1 && !c.swallow && c.settle == 0:
		c.say(line{Request: r, number: c.number()})
	default:
		c.manual = append(c.manual, r)
	}
	c.pump(now)
}

// Hold keeps back the file lane, or lets it go on. Lines under way stay so.
func (c *Conversation) Hold(now time.Duration, held bool) {
	c.held = held
	c.pump(now)
}

// DropFile forgets the file lines that have not been said.
func (c *Conversation) DropFile() { c.file = c.file[:0] }

// Halt says the emergency stop ahead of everything, unnumbered, so that a
// firmware reads it whatever else it is doing. Nothing can be said after it
// until the printer restarts.
func (c *Conversation) Halt(now time.Duration) {
	const emergency = "M112"
	c.out = append(c.out, '\n')
	c.out = append(c.out, emergency...)
	c.out = append(c.out, '\n')
	c.events = append(c.events, Event{Kind: Said, Text: emergency, Request: Request{Command: emergency}})
	c.lose("the printer was halted")
	c.change(Dead, "halted: reset the printer or switch it off and on, then reconnect")
}

// lose gives up everything under way and everything that waits.
func (c *Conversation) lose(reason string) {
	for _, l := range append(c.flight, c.again...) {
		if !l.acked && !l.probe && c.greet == done {
			c.events = append(c.events, Event{Kind: Lost, Request: l.Request, Reason: reason})
		}
	}
	for _, r := range append(c.manual, c.file...) {
		c.events = append(c.events, Event{Kind: Lost, Request: r, Reason: reason})
	}
	c.flight, c.again, c.manual, c.file, c.answer = nil, nil, nil, nil, nil
	c.held = false
}

func (c *Conversation) change(s State, reason string) {
	c.state = s
	c.events = append(c.events, Event{Kind: Changed, State: s, Reason: reason})
}

// Deadline returns when Tick must be called next if nothing else happens; 0 if
// nothing is due.
func (c *Conversation) Deadline() time.Duration {
	switch {
	case c.state == Greeting:
		return c.greetAt
	case c.state == Dead:
		return 0
	case c.settle > 0:
		return c.settle
	case c.swallow:
		return c.resentAt + c.cfg.Silence
	case len(c.flight) > 0:
		return max(c.lastWord+c.patience(), c.lastProbe+c.cfg.Silence)
	}
	return 0
}

// Tick lets time pass.
func (c *Conversation) Tick(now time.Duration) {
	switch {
	case c.state == Greeting:
		if now >= c.greetAt {
			c.greetNext(now)
		}
	case c.state == Dead:
	case c.settle > 0:
		if now >= c.settle {
			c.settle = 0
			c.pump(now)
		}
	case c.swallow:
		if now >= c.resentAt+c.cfg.Silence { // its ok was lost
			c.swallow = false
			c.pump(now)
		}
	case len(c.flight) > 0 && now >= c.Deadline():
		c.overdue(now)
	}
}
