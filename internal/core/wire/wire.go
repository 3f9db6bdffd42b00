// Package wire is the serial conversation with a printer as a state machine:
// bytes, ticks and requests in; bytes and events out. It has no goroutine, no
// clock and no port, so that a test can hold any conversation it likes.
//
// It promises that the printer takes every command handed to Send once and in
// its lane's order, or that the conversation says why it cannot go on; and that
// no more is under way than the printer can hold. Lines are numbered and
// checksummed. A line keeps its number and its text for good, so that whatever
// is lost, doubled or late on the cable, the printer's own count of lines decides
// what it takes.
//
// The states and how one follows another:
//
//	Greeting → Live      the printer has answered M110 and M115, or has told
//	                     the last line it took of an earlier conversation
//	Live     → Silent    a line is under way and nothing is said for too long
//	Silent   → Live      the printer acknowledges again
//	any      → Greeting  the printer says that it has started
//	any      → Dead      halted, a fatal error, silent past all patience, or
//	                     a count of lines that cannot be
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
	Command string        // as gcode.Command returns it; no line end in it
	Tag     uint64        // the caller's; comes back in the events
	Takes   time.Duration // how long the printer is at work on it, at most, as the caller's motion plan tells; 0: hardly any time
	Urgent  bool          // said ahead of all that waits and whatever is under way: for M108 and M410, which take effect as they arrive
}

// EventKind says what an Event tells.
type EventKind int

// The kinds of event.
const (
	Heard     EventKind = iota // the printer said Reply, to line Number; -1: to none, or nobody knows
	Said                       // a line went out: Text, Request, Number, Again, Own
	Acked                      // Request, line Number, was taken; Lines is the printer's answer. One of an earlier conversation that was not the file's has no tag
	Lost                       // Request will never be answered: Reason
	Changed                    // the state is now State, because of Reason
	Greeted                    // the printer told what it is: Firmware; Number is the last line it took before, -1 if it starts anew
	Restarted                  // the printer has started anew, or lost its place in an earlier conversation
	Measured                   // a measurement has ended: Holds, without bytes if it found nothing
)

// An Event is something the caller should know. Which fields hold something
// depends on Kind.
type Event struct {
	Kind     EventKind
	Reply    Reply
	Request  Request
	Number   int
	Text     string
	Again    bool
	Own      bool // the conversation's own line, of nobody's request
	Lines    []string
	State    State
	Reason   string
	Firmware Firmware
	Holds    Holds
}

// Config holds the conversation's patience and what is known of the printer. The
// zero value of a field means its default.
type Config struct {
	BootWait  time.Duration // greet after this long if the printer says nothing by itself; 2 s
	BootQuiet time.Duration // greet once a printer that spoke has been quiet for this long; 250 ms
	GreetWait time.Duration // greet again after this long without an answer; 3 s
	Silence   time.Duration // a line under way unanswered for this long, besides the time that moves take, raises a question; 2 s. Five times that is called silent
	SlowWait  time.Duration // the same for commands that wait by themselves, from the last word heard; 3 min. Of a printer that says while it waits that it is busy, five times Silence are enough
	GiveUp    time.Duration // after this long without one byte, besides the time that moves take, the printer is dead; 10 min
	Repeat    time.Duration // a line that may only be late is said again after this long where no request tells what it takes; 20 s
	Settle    time.Duration // quiet before a line is said again; 25 ms
	Single    bool          // one line under way at a time, whatever the printer could hold
	Wide      bool          // several even where the firmware carries out the rest of a line whose beginning it lost
	Buffer    int           // bytes of the printer's receive buffer; as it tells, otherwise 64
	Slots     int           // commands it holds besides; as it tells, otherwise 0
	Baud      int           // bits per second on the cable; 0: as fast as it goes
	Earlier   Earlier       // what was said before
}

// Earlier is what is known of an earlier conversation with this printer, which
// may have kept its place. A number keeps its meaning: those below Said, and those that the
// printer has taken beyond it, that are not in Others are the file's lines, in order.
type Earlier struct {
	Said     int            // all numbers below may have been used; 0: there was no earlier conversation
	More     int            // so many from Said on, too, of which nobody remembers it: the printer's count tells
	Taken    int            // the last line that the printer said it had taken; 0: none is known
	Others   map[int]string // commands that were not the file's, by number
	Firmware Firmware
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
	set(&c.Silence, 2*time.Second)
	set(&c.SlowWait, 3*time.Minute)
	set(&c.GiveUp, 10*time.Minute)
	set(&c.Repeat, 20*time.Second)
	set(&c.Settle, 25*time.Millisecond)
	return c
}

const (
	historySize = 512  // lines kept for the printer to ask for again
	longestLine = 4096 // bytes of one reply kept; the rest of a longer line is dropped
	readAhead   = 32   // file lines taken before they can be said

	okWait = time.Second // for the ok after a request to resend, where the printer says one
)

// line is a request that has its number.
type line struct {
	Request
	number int
	end    int  // bytes said in all when this line was, itself included
	told   bool // the caller knows that it was taken
	own    bool // of nobody's request
	spoken bool // said again of an earlier conversation, whose caller knows of it

	slow     bool // it is answered only when it is done
	awaits   bool // heat: what stands behind it in the file is not said before it is over, for a wait can be broken off, and what the printer has read by then would be carried out cold
	straight bool // it is a straight move
	asks     bool // it is the question
}

// A Conversation is one talk with one printer, from the opening of the port to
// its closing. Its methods are not safe for concurrent use. Times are durations
// since any fixed instant and never go back.
//
// The lines' numbers fall into these ranges:
//
//	       base        cursor        next
//	taken … | under way … | to be said again … | not said yet
type Conversation struct {
	cfg    Config
	state  State
	out    []byte
	spare  []byte // the buffer that out changes places with
	events []Event

	partial []byte // the reply line being received

	base, cursor, next int
	history            [historySize]line
	bytes              int // of all lines said, each once
	heats              int // the last line said that waits for heat

	manual []Request
	file   []Request
	held   bool // the file lane is held back
	answer []string

	doubt      int           // lines below this number, and not yet certain, may have been acknowledged by an ok too many; 0: none
	owed       int           // requests to resend whose ok has not come
	settle     time.Duration // nothing is said before this; 0: no wait
	asked      time.Duration // when the last of them came
	strange    int           // requests to resend in a row that cannot be
	claimed    int           // the line beyond all that was said of late that the printer asked for
	ignored    int           // oks in a row that were not for the question under way
	reached    int           // the line that the printer last told it had before: its ok has been said, or comes
	proved     int           // the last line that the printer has carried out for certain: it has said its token
	leap       int           // the line that the last ok named, out of its turn; 0: it was in turn
	xoff       time.Duration // the printer asked for a pause then; 0: it did not
	lastWord   time.Duration // when the printer last moved the conversation on
	lastByte   time.Duration // when it last said anything
	lastTaken  time.Duration // when a line was last taken, or the first one was said
	saidAt     time.Duration // when a new line was last said
	lastRemark time.Duration // when it last said anything that may be of a slow line under way
	lastProbe  time.Duration
	sounded    bool // the question of lastProbe was for a line that cannot be
	probes     int  // questions in a row without an answer
	window     window
	habits     habits
	measuring  measuring
	busyWith   int           // the line that busyFor was found for
	busyFor    time.Duration // see busy
	busyAsked  time.Duration // the same before a question that fits
	plans      bool          // requests tell how long they take

	greet    greetStep
	greetAt  time.Duration // when the next step of the greeting is due
	tries    int
	heard    int    // bytes, while greeting
	tests    int    // of the firmware's care
	rubbish  int    // of which no printer says
	told     bool   // the question for its count has been answered
	wants    int    // the line that the last error names as the next one; 0: none
	doubts   int    // times that the printer contradicted itself
	recounts int    // times in a row that the printer told the same number
	firstOdd string // the first line heard while greeting that no printer says
	firmware Firmware
	rejoined int // the last line it took of an earlier conversation; -1: none
}

// habits are what this printer's acknowledgements have shown so far.
type habits struct {
	busies   bool // it says while it waits that it is busy
	early    bool // an ok says that a line is queued, not that it is done
	waits    bool // a line that waits is acknowledged when the wait is over
	resendOK bool // an ok follows its request to resend
	askedOK  bool // the answer to M105 stands on the ok's own line
	apart    bool // the answer to M105 stands beside the ok
	chatty   bool // temperatures stand on other oks, too
	untold   int  // questions with a token in a row that were taken without the token being said
	token    int  // the last number that was a token
	names    int  // oks that named their lines
	numbered bool // so that oks name their lines
}

type greetStep int

const (
	listening  greetStep = iota // for a boot banner
	recounting                  // a line number that cannot be right was said, to hear which would be
	numbering                   // M110 said
	asking                      // M115 said
	testing                     // a line with a checksum and without a number said, which should be refused
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
	c.base, c.cursor, c.next, c.heats = 0, 0, 0, -1
	c.owed, c.settle, c.strange, c.xoff, c.probes, c.doubt, c.reached, c.proved = 0, 0, 0, 0, 0, 0, 0, -1
	c.window = newWindow(c.cfg)
	c.measuring = measuring{}
	c.busyWith = -1
	c.habits = habits{}
	c.tests = 0
	c.greet, c.tries, c.heard, c.rubbish, c.firstOdd, c.rejoined = listening, 0, 0, 0, "", -1
	c.greetAt = now + c.cfg.BootWait
	c.lastWord, c.lastByte = now, now
	c.change(Greeting, reason)
}

// State returns where the conversation stands.
func (c *Conversation) State() State { return c.state }

// Said returns how many line numbers have been used: the highest one said, plus
// one.
func (c *Conversation) Said() int { return c.next }

// Take returns what is to be written to the port and what has happened since
// the last Take. Both are valid until the next Take.
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

// Sure reports whether everything that was said is known to be taken. Where oks
// do not name their lines it is so once the printer has answered a question at
// the end.
func (c *Conversation) Sure() bool { return c.base == c.next && c.doubt == 0 }

// Send queues a request in its lane.
func (c *Conversation) Send(now time.Duration, r Request) {
	if c.state == Dead {
		c.events = append(c.events, Event{Kind: Lost, Request: r, Reason: "the printer is not answering"})
		return
	}
	switch {
	case r.Lane == File:
		c.file = append(c.file, r)
	case r.Urgent && c.cursor == c.next && c.settle == 0 && c.fresh():
		c.sayNew(now, r, false)
	case r.Urgent:
		c.manual = append([]Request{r}, c.manual...)
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

// DropFile forgets the file lines that have not been said, and returns how many they were.
func (c *Conversation) DropFile() int {
	n := len(c.file)
	c.file = c.file[:0]
	return n
}

// UnderWay returns the commands that have been said and are not known to be taken, and those
// that go before the file's next line, in the order in which the printer takes them.
func (c *Conversation) UnderWay() []string {
	var commands []string
	for n := c.base; n < c.next; n++ {
		commands = append(commands, c.at(n).Command)
	}
	for _, r := range c.manual {
		commands = append(commands, r.Command)
	}
	return commands
}

// Halt says the emergency stop ahead of everything, unnumbered, so that a
// firmware reads it whatever else it is doing. Nothing can be said after it
// until the printer restarts.
func (c *Conversation) Halt(now time.Duration) {
	const emergency = "M112"
	c.out = append(c.out, '\n')
	c.out = append(c.out, emergency...)
	c.out = append(c.out, '\n')
	c.events = append(c.events, Event{Kind: Said, Text: emergency, Request: Request{Command: emergency}, Number: -1, Own: true})
	c.lose("the printer was halted")
	c.change(Dead, "halted: reset the printer or switch it off and on, then reconnect")
}

// lose gives up everything under way and everything that waits.
func (c *Conversation) lose(reason string) {
	for n := c.base; n < c.next; n++ {
		if l := c.at(n); !l.told && !l.own {
			c.events = append(c.events, Event{Kind: Lost, Request: l.Request, Number: n, Reason: reason})
		}
	}
	for _, lane := range [][]Request{c.manual, c.file} {
		for _, r := range lane {
			c.events = append(c.events, Event{Kind: Lost, Request: r, Number: -1, Reason: reason})
		}
	}
	c.base, c.cursor = c.next, c.next
	c.manual, c.file, c.answer = nil, nil, nil
	c.held = false
	c.measuring = measuring{}
}

func (c *Conversation) change(s State, reason string) {
	c.state = s
	c.events = append(c.events, Event{Kind: Changed, State: s, Reason: reason})
}

func (c *Conversation) at(number int) *line { return &c.history[number%historySize] }

// Deadline returns when Tick must be called next if nothing else happens; 0 if
// nothing is due.
func (c *Conversation) Deadline() time.Duration {
	switch {
	case c.state == Dead:
		return 0
	case c.settle > 0:
		return c.settle
	case c.greet != done:
		return c.greetAt
	case c.trialDue() > 0:
		return c.trialDue()
	case c.xoff > 0 && c.base == c.cursor:
		return c.xoff + c.cfg.Silence
	case c.base < c.cursor:
		return c.overdueAt()
	case c.doubt > 0 && c.resting() && c.sounded:
		return c.lastProbe + c.cfg.Silence<<min(max(c.probes-1, 0), 4)
	case c.doubt > 0 && c.resting() && c.untold():
		return c.lastWord + c.cfg.Silence<<min(c.habits.untold, 4) + c.queued()
	case c.doubt > 0 && c.resting():
		return c.lastWord + c.cfg.BootQuiet
	}
	return 0
}

// Tick lets time pass.
func (c *Conversation) Tick(now time.Duration) {
	switch due := c.Deadline(); {
	case due == 0 || now < due:
	case c.settle > 0:
		if late := c.asked + okWait; c.owed > 0 && c.habits.resendOK && now < late {
			c.settle = late
			return
		}
		c.settle, c.owed = 0, 0
		c.pump(now)
	case c.greet != done:
		c.greetNext(now)
	case c.trialDue() > 0:
		c.trialTick(now)
	case c.xoff > 0 && now >= c.xoff+c.cfg.Silence: // the word to go on was lost
		c.xoff = 0
		c.pump(now)
	case c.base < c.cursor:
		c.overdue(now)
	case !c.fresh():
		c.doubt = 0
	case c.untold() && c.habits.untold < beliefIn:
		c.habits.untold++
		c.sayNew(now, Request{Command: c.query()}, true)
	case c.habits.chatty && c.query() == question: // every ok looks like an answer to it
		c.sound(now)
	default: // the file's lines have been said, and plain oks do not tell for certain that they were taken
		c.sayNew(now, Request{Command: c.query()}, true)
	}
}

// fresh reports whether new lines may be said: the numbers of an earlier
// conversation have been used up.
func (c *Conversation) fresh() bool { return c.greet == done && c.next >= c.cfg.Earlier.Said }

// resting reports whether nothing is under way, and nothing is said until that is
// certain.
func (c *Conversation) resting() bool { return c.idle() || c.Measuring() && c.base == c.next }

// idle reports whether there is nothing under way and nothing to say.
func (c *Conversation) idle() bool {
	return c.base == c.next && len(c.manual) == 0 && (c.held || len(c.file) == 0) && c.greet == done
}
