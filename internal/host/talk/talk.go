// Package talk holds the conversation with the printer: it carries what the core's
// conversation says to the port, gives meaning to what it tells of itself, and says
// what the parts want said.
//
// It promises that what the journal must know of a line is in it before the line is
// said, and that a halt goes ahead of everything. It leaves the port to port, the
// file's lines to the run, and what the printer says of heaters and head to the parts
// behind it.
package talk

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"time"

	"diathermon/internal/core/bounds"
	"diathermon/internal/core/gcode"
	"diathermon/internal/core/run"
	"diathermon/internal/core/wire"
	"diathermon/internal/host/part"
)

// pollEvery is how often a firmware is asked that does not report by itself.
const pollEvery = 2 * time.Second

// ErrNotLive means that the printer does not answer.
var ErrNotLive = run.ErrLive

// ErrRate ends a conversation at a baud rate at which the printer does not answer.
var ErrRate = errors.New("no answer at this baud rate")

// Config is what a Talk needs.
type Config struct {
	Device string // path of the port; empty: the only one found
	Baud   int    // 0: find it
	Wire   wire.Config
}

// Where tells where the printer's lines lead.
type Where interface {
	Point() *run.Point
}

// A Run is what the conversation asks of the run that goes on.
type Run interface {
	Earlier() wire.Earlier // what a new conversation should know of the one before it
	Feed()                 // it may say lines of its file
	Jot([]wire.Event)      // what lines' numbers mean, before they are said
	Busy() bool            // it goes on, so that the port may not be opened anew
}

// Port takes bytes, those that are urgent ahead of the others.
type Port interface {
	Write([]byte) bool // there is room for them
	Urge([]byte)
}

// Now is how the conversation stands.
type Now struct {
	Link        Link
	Firmware    wire.Firmware
	HaltsAtOnce bool // the firmware reads an emergency stop as it arrives
}

// Talk is the part.
type Talk struct {
	part.Plain
	cfg    Config
	loop   *part.Loop
	flight part.Flight
	where  Where
	run    Run

	link    Link
	said    string // the link's reason, as it was last set
	reopen  bool
	rate    int    // which of the rates is tried, where none is configured
	trouble string // what the last of them led to

	conv     *wire.Conversation // nil while no port is open
	port     Port
	firmware wire.Firmware
	told     []byte // what it says of itself, as JSON
	waiting  map[uint64]func(lines []string, err error)
	lastTag  uint64
	pollHeat time.Time // next M105 or M114, where the firmware does not report by itself
	polling  bool
}

// New returns the part.
func New(c Config, loop *part.Loop, flight part.Flight, where Where) *Talk {
	return &Talk{
		cfg: c, loop: loop, flight: flight, where: where, waiting: map[uint64]func([]string, error){},
		link: Link{State: Absent, Device: c.Device, Baud: c.Baud, Since: time.Now()},
	}
}

// Attend says whose file is said.
func (t *Talk) Attend(r Run) { t.run = r }

// Now is how the conversation stands.
func (t *Talk) Now() Now {
	return Now{Link: t.link, Firmware: t.firmware, HaltsAtOnce: t.HaltsAtOnce()}
}

// Begin begins a conversation over a port.
func (t *Talk) Begin(p Port) {
	t.port = p
	talk := t.cfg.Wire
	talk.Earlier, talk.Baud = t.run.Earlier(), t.link.Baud
	t.conv = wire.New(talk, t.loop.Now())
	t.polling = false
}

// End ends it: the port is gone, for that reason.
func (t *Talk) End(reason string) {
	t.conv, t.port = nil, nil
	t.loop.Announce(part.Cut{Reason: reason})
	for tag, answer := range t.waiting {
		delete(t.waiting, tag)
		answer(nil, fmt.Errorf("%w: %s", part.ErrLost, reason))
	}
	t.forget()
}

// forget drops what the printer has said, when it restarts or goes away.
func (t *Talk) forget() {
	t.firmware = wire.Firmware{}
	t.loop.Announce(part.Forgotten{})
}

// Receive takes bytes that the port has read.
func (t *Talk) Receive(data []byte) {
	t.flight.Add(part.MarkReceived, data)
	t.conv.Receive(t.loop.Now(), data)
}

// Due is how long from now the conversation wants time to pass; negative: never.
func (t *Talk) Due() time.Duration {
	due := t.conv.Deadline()
	if due <= 0 {
		return -1
	}
	return max(due-t.loop.Now(), 0)
}

// Pass lets time pass for the conversation. It returns ErrRate where another baud rate
// is to be tried.
func (t *Talk) Pass() error {
	t.conv.Tick(t.loop.Now())
	if t.cfg.Baud == 0 && t.conv.Unheard() {
		t.trouble = t.conv.Trouble()
		return ErrRate
	}
	return nil
}

// Carry brings bytes to the port and events to their meaning until neither is left,
// and lets the run say its file.
func (t *Talk) Carry() {
	for {
		t.run.Feed()
		out, events := t.conv.Take()
		t.run.Jot(events)
		if len(out) > 0 {
			t.flight.Add(part.MarkSent, out)
			if !t.port.Write(out) {
				t.loop.Log.Error("the port does not take what is said; the line will be asked for again")
			}
		}
		if len(events) == 0 {
			return
		}
		for i := range events {
			t.loop.Announce(&events[i])
		}
	}
}

// Halt says the emergency stop and lets everyone know.
func (t *Talk) Halt() { t.HaltAnd(func() {}) }

// HaltAnd says the emergency stop, calls said, and lets everyone know.
func (t *Talk) HaltAnd(said func()) {
	if t.conv == nil {
		return
	}
	t.conv.Halt(t.loop.Now())
	out, events := t.conv.Take()
	t.port.Urge(out)
	said()
	t.loop.Announce(part.Halted{})
	for i := range events {
		t.loop.Announce(&events[i])
	}
	t.flight.Add(part.MarkSent, out)
	t.loop.Log.Warn("halted")
}

// Hear follows the conversation.
func (t *Talk) Hear(event any) bool {
	e, ok := event.(*wire.Event)
	if !ok {
		return false
	}
	switch e.Kind {
	case wire.Acked:
		if e.Request.Lane == wire.Manual {
			t.answer(e.Request.Tag, e.Lines, nil)
		}
	case wire.Lost:
		if e.Request.Lane == wire.Manual {
			t.answer(e.Request.Tag, nil, fmt.Errorf("%w: %s", part.ErrLost, e.Reason))
		}
	case wire.Changed:
		t.SetLink(LinkState(e.State), e.Reason, t.link.Device)
		if t.Live() && t.firmware.Capabilities != nil { // otherwise it is greeted next
			t.loop.Announce(part.Answers{})
		}
		if e.State == wire.Dead { // what it last reported no longer holds: a firmware that stops turns its heaters off
			t.loop.Announce(part.Cut{Reason: e.Reason})
			t.loop.Announce(part.Forgotten{})
		}
	case wire.Restarted:
		t.loop.Message(wire.Wrong, "the printer restarted")
		t.loop.Announce(part.Reset{Reason: "the printer restarted in the middle of it"})
		t.forget()
	case wire.Greeted:
		t.greeted(e.Firmware)
	}
	return false
}

func (t *Talk) answer(tag uint64, lines []string, err error) {
	if f := t.waiting[tag]; f != nil {
		delete(t.waiting, tag)
		f(lines, err)
	}
}

// greeted asks a printer that has just answered for its reports.
func (t *Talk) greeted(f wire.Firmware) {
	t.firmware = f
	t.told, _ = json.Marshal(f)
	t.loop.Log.Info("printer", "firmware", f.Name, "machine", f.Machine, "capabilities", f.Capabilities)
	if t.Reports("AUTOREPORT_TEMP") {
		t.Say("M155 S1", nil)
	}
	if t.Reports("AUTOREPORT_POS") {
		t.Say("M154 S1", nil)
	}
	t.Say("M105", nil)
	t.loop.Publish(t.link)
	if !t.HaltsAtOnce() {
		t.loop.Message(wire.Told, "this firmware reads an emergency stop only in its turn, behind what it has queued: keep the printer's switch in reach")
	}
	t.loop.Announce(part.Answers{})
}

// Tick asks for what the firmware does not report by itself.
func (t *Talk) Tick() {
	if !t.Live() || t.polling || t.conv.Measuring() || time.Now().Before(t.pollHeat) {
		return
	}
	t.pollHeat = time.Now().Add(pollEvery)
	ask := func(capability, command string) {
		if !t.Reports(capability) {
			t.polling = true
			t.Say(command, func([]string, error) { t.polling = false })
		}
	}
	ask("AUTOREPORT_TEMP", "M105")
	ask("AUTOREPORT_POS", "M114")
}

// Live reports whether the printer answers. Without a port it does not, whatever was
// told of the link last.
func (t *Talk) Live() bool { return t.conv != nil && t.link.Live() }

// Open reports whether there is a port to say things to.
func (t *Talk) Open() bool { return t.conv != nil }

// Hears reports whether what the printer says holds: it has not been given up.
func (t *Talk) Hears() bool { return t.link.State != LinkState(wire.Dead) }

// Reason is how the link stands, in words.
func (t *Talk) Reason() string { return t.link.Reason }

// HaltsAtOnce reports whether the firmware reads M112, M108 and M410 as they arrive,
// whatever is queued before them.
func (t *Talk) HaltsAtOnce() bool { return t.Reports("EMERGENCY_PARSER") }

// Reports reports whether the firmware says that it can do something.
func (t *Talk) Reports(capability string) bool { return t.firmware.Capabilities[capability] }

// Told is what the firmware says of itself, as JSON.
func (t *Talk) Told() []byte { return t.told }

// Conversation is the one that goes on; nil while no port is open.
func (t *Talk) Conversation() *wire.Conversation { return t.conv }

// Quiet reports whether nobody but the host's own asking waits for an answer.
func (t *Talk) Quiet() bool { return len(t.waiting) == 0 || t.polling }

// Say says a command of the host's own, or a person's.
func (t *Talk) Say(command string, answer func(lines []string, err error)) {
	if t.conv == nil {
		if answer != nil {
			answer(nil, fmt.Errorf("%w: there is no port", part.ErrLost))
		}
		return
	}
	t.lastTag++
	if answer != nil {
		t.waiting[t.lastTag] = answer
	}
	at := t.where.Point()
	state := at.State
	t.conv.Send(t.loop.Now(), wire.Request{Lane: wire.Manual, Command: command, Tag: t.lastTag, Takes: takes(&state, command, at.Speed)})
}

// SayEach says commands, each once the one before it was taken and where allowed agrees,
// and calls over with all that was answered, or with why it went no further.
func (t *Talk) SayEach(commands []string, allowed func(command string) error, over func(lines []string, err error)) {
	var all []string
	var next func()
	next = func() {
		if len(commands) == 0 {
			over(all, nil)
			return
		}
		command := commands[0]
		commands = commands[1:]
		if err := allowed(command); err != nil {
			over(all, err)
			return
		}
		t.Say(command, func(lines []string, err error) {
			if all = append(all, lines...); err != nil {
				over(all, err)
				return
			}
			next()
		})
	}
	next()
}

// SayOfFile says a command of a file; leads is where the lines before it lead, and
// goes on with it.
func (t *Talk) SayOfFile(command string, leads *gcode.State) {
	t.conv.Send(t.loop.Now(), wire.Request{Lane: wire.File, Command: command, Takes: takes(leads, command, t.where.Point().Speed)})
}

// Urge says a command ahead of what is queued in the printer.
func (t *Talk) Urge(command string) {
	if t.conv == nil {
		return
	}
	t.lastTag++
	t.conv.Send(t.loop.Now(), wire.Request{Lane: wire.Manual, Command: command, Tag: t.lastTag, Urgent: true})
}

// Order says a command where allowed agrees, and waits for its answer until ctx ends.
func (t *Talk) Order(ctx context.Context, command string, allowed func() error) (part.Said, error) {
	said := part.Said{Line: command}
	type answer struct {
		lines []string
		err   error
	}
	answered := make(chan answer, 1)
	var refused error
	err := t.loop.Ask(ctx, func() {
		if !t.Live() {
			refused = fmt.Errorf("%w: %s", ErrNotLive, t.link.Reason)
			return
		}
		if refused = allowed(); refused == nil {
			t.Say(command, func(lines []string, err error) { answered <- answer{lines, err} })
		}
	})
	if err = errors.Join(err, refused); err != nil {
		return said, err
	}
	select {
	case a := <-answered:
		said.Reply, said.Taken = a.lines, a.err == nil
		return said, a.err
	case <-ctx.Done():
		return said, nil
	}
}

// Reconnect closes the port and opens it anew, which restarts most boards. It may be
// called from anywhere.
func (t *Talk) Reconnect(ctx context.Context) error {
	var refused error
	err := t.loop.Ask(ctx, func() {
		if t.run.Busy() {
			refused = fmt.Errorf("%w: opening the port anew would end it", bounds.ErrBusy)
			return
		}
		t.reopen = true
	})
	return errors.Join(err, refused)
}

// Reopen reports whether the port is to be opened anew.
func (t *Talk) Reopen() bool { return t.reopen }

// Reopening notes that it is.
func (t *Talk) Reopening() { t.reopen = false }
