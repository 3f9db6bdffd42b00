package wire_test

import (
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"
	"time"

	"diathermon/internal/core/wire"
	"diathermon/internal/simprinter"
)

// talk is a conversation with a stand-in board over a cable, all in virtual
// time.
type talk struct {
	t       *testing.T
	conv    *wire.Conversation
	board   *simprinter.Board
	rng     *rand.Rand
	now     time.Duration
	file    []string
	sent    int
	acked   []string
	answers map[uint64][]string
	states  []wire.State
	lost    []string

	dropEvery int // replies: lose about one byte in so many
}

// tick is the step of virtual time in which the cable is served.
const tick = time.Millisecond

func newTalk(t *testing.T, cfg simprinter.Config, lines int) *talk {
	cfg.Record, cfg.Baud = true, 0
	k := &talk{t: t, board: simprinter.NewBoard(cfg), rng: rand.New(rand.NewPCG(uint64(cfg.Seed), 1)), answers: map[uint64][]string{}}
	for i := range lines {
		k.file = append(k.file, fmt.Sprintf("G1 X%d.%d Y%d F9000", i%200, i%10, i%7))
	}
	k.conv = wire.New(wire.Config{}, 0)
	return k
}

// step serves the cable once and lets a millisecond pass.
func (k *talk) step() {
	for k.conv.Wants() > 0 && k.sent < len(k.file) {
		k.conv.Send(k.now, wire.Request{Lane: wire.File, Command: k.file[k.sent]})
		k.sent++
	}
	out, events := k.conv.Take()
	for _, e := range events {
		switch e.Kind {
		case wire.Acked:
			if e.Request.Lane == wire.File {
				k.acked = append(k.acked, e.Request.Command)
			} else {
				k.answers[e.Request.Tag] = e.Lines
			}
		case wire.Changed:
			k.states = append(k.states, e.State)
		case wire.Lost:
			k.lost = append(k.lost, e.Request.Command)
		}
	}
	k.board.Receive(out)
	k.now += tick
	k.board.Advance(k.now)
	k.conv.Receive(k.now, k.mangle(k.board.Output()))
	if due := k.conv.Deadline(); due > 0 && due <= k.now {
		k.conv.Tick(k.now)
	}
}

func (k *talk) mangle(b []byte) []byte {
	var out []byte
	for _, c := range b {
		if k.dropEvery > 0 && k.rng.IntN(k.dropEvery) == 0 {
			continue
		}
		out = append(out, c)
	}
	return out
}

// until steps until the condition holds, for at most that much virtual time.
func (k *talk) until(what string, within time.Duration, met func() bool) {
	k.t.Helper()
	for end := k.now + within; k.now < end; {
		if met() {
			return
		}
		k.step()
	}
	k.t.Fatalf("waited %s of virtual time in vain for %s: state %s, %d of %d lines acknowledged", within, what, k.conv.State(), len(k.acked), len(k.file))
}

// executed returns the file's lines that the board carried out.
func (k *talk) executed() []string {
	var out []string
	for _, e := range k.board.Executed() {
		if strings.HasPrefix(e.Line, "G1") {
			out = append(out, e.Line)
		}
	}
	return out
}

// same fails unless the board carried out exactly the file.
func (k *talk) same() {
	k.t.Helper()
	if got := k.executed(); !slices.Equal(got, k.file) {
		for i := range min(len(got), len(k.file)) {
			if got[i] != k.file[i] {
				k.t.Fatalf("command %d was %q, want %q", i, got[i], k.file[i])
			}
		}
		k.t.Fatalf("%d commands were carried out, want %d", len(got), len(k.file))
	}
}

func (k *talk) live() {
	k.t.Helper()
	k.until("a live link", 30*time.Second, func() bool { return k.conv.State() == wire.Live })
}

func TestAFileArrivesWholeAndInOrder(t *testing.T) {
	for name, cfg := range map[string]simprinter.Config{
		"plain":             {},
		"advanced ok":       {Dialect: simprinter.MustDialect("naming=full,plainly=temperatures")},
		"without busy":      {Dialect: simprinter.MustDialect("working=nothing")},
		"one command slot":  {CommandSlots: 1},
		"a small planner":   {PlannerSlots: 2},
		"a big rx":          {ReceiveBuffer: 1024},
		"without reporting": {Dialect: simprinter.Dialect{Asked: true}},
	} {
		t.Run(name, func(t *testing.T) {
			k := newTalk(t, cfg, 400)
			k.until("all lines", 10*time.Minute, func() bool { return len(k.acked) == len(k.file) })
			k.same()
			if k.board.Overflows() > 0 {
				t.Errorf("%d bytes did not fit the receive buffer", k.board.Overflows())
			}
		})
	}
}

func TestAnswersAreMatchedToQuestionsWhileAFileRuns(t *testing.T) {
	k := newTalk(t, simprinter.Config{}, 200)
	k.live()
	k.until("some lines", time.Minute, func() bool { return len(k.acked) > 50 })
	k.conv.Send(k.now, wire.Request{Command: "M105", Tag: 1})
	k.conv.Send(k.now, wire.Request{Command: "M115", Tag: 2})
	k.conv.Send(k.now, wire.Request{Command: "M118 focuser", Tag: 3})
	k.until("all lines", 10*time.Minute, func() bool { return len(k.acked) == len(k.file) })
	k.same()
	if a := k.answers[1]; len(a) != 1 || !strings.HasPrefix(a[0], "T:") {
		t.Errorf("M105 was answered %q", a)
	}
	if a := k.answers[2]; len(a) < 5 || !strings.HasPrefix(a[0], "FIRMWARE_NAME:") {
		t.Errorf("M115 was answered %q", a)
	}
	if a := k.answers[3]; !slices.Equal(a, []string{"echo:focuser"}) {
		t.Errorf("M118 was answered %q", a)
	}
}

func TestAHeldFileStaysHeldAndManualLinesDoNot(t *testing.T) {
	k := newTalk(t, simprinter.Config{}, 200)
	k.live()
	k.until("some lines", time.Minute, func() bool { return len(k.acked) > 50 })
	k.conv.Hold(k.now, true)
	held := len(k.executed()) // the line under way may still follow
	k.conv.Send(k.now, wire.Request{Command: "M114", Tag: 9})
	for range 5000 {
		k.step()
	}
	if got := len(k.executed()); got > held+1 {
		t.Errorf("%d lines went out while held", got-held)
	}
	if len(k.answers[9]) == 0 {
		t.Error("M114 was not answered while held")
	}
	k.conv.Hold(k.now, false)
	k.until("all lines", 10*time.Minute, func() bool { return len(k.acked) == len(k.file) })
	k.same()
}

func TestAnUrgentLineReachesAPrinterThatWaits(t *testing.T) {
	k := newTalk(t, simprinter.Config{}, 0)
	k.live()
	k.conv.Send(k.now, wire.Request{Command: "M190 S100", Tag: 1})
	for range 5000 {
		k.step()
	}
	if _, done := k.answers[1]; done {
		t.Fatal("a cold bed cannot be at 100 °C after five seconds")
	}
	k.conv.Send(k.now, wire.Request{Command: "M108", Tag: 2, Urgent: true})
	k.until("the wait's end", 5*time.Second, func() bool { _, done := k.answers[2]; return done })
	if _, done := k.answers[1]; !done {
		t.Error("the wait itself was not acknowledged")
	}
}

func TestHaltGoesAheadOfEverything(t *testing.T) {
	k := newTalk(t, simprinter.Config{}, 300)
	k.live()
	k.until("some lines", time.Minute, func() bool { return len(k.acked) > 20 })
	k.conv.Halt(k.now)
	out, _ := k.conv.Take()
	if string(out) != "\nM112\n" {
		t.Errorf("halt says %q", out)
	}
	k.board.Receive(out)
	if !k.board.Halted() {
		t.Error("the board goes on after a halt")
	}
	if k.conv.State() != wire.Dead {
		t.Errorf("the conversation is %s after a halt", k.conv.State())
	}
	before := len(k.executed())
	for range 2000 {
		k.step()
	}
	if got := len(k.executed()); got != before {
		t.Errorf("%d lines were carried out after the halt", got-before)
	}
	k.board.Reset()
	k.sent = len(k.file)
	k.live()
}

func TestARestartInMidConversationIsNoticed(t *testing.T) {
	k := newTalk(t, simprinter.Config{}, 300)
	k.live()
	k.until("some lines", time.Minute, func() bool { return len(k.acked) > 20 })
	k.board.Reset()
	k.sent = len(k.file) // what was to come is not sent to a printer that forgot where it is
	k.until("a greeting", 5*time.Second, func() bool { return k.conv.State() == wire.Greeting })
	k.step()
	if len(k.lost) == 0 {
		t.Error("nothing was reported lost")
	}
	k.live()
}

func TestSilenceIsNamedAndForgiven(t *testing.T) {
	k := newTalk(t, simprinter.Config{}, 50)
	k.live()
	k.until("some lines", time.Minute, func() bool { return len(k.acked) > 10 })
	k.dropEvery = 1 // nothing comes back any more
	k.until("silence", time.Minute, func() bool { return k.conv.State() == wire.Silent })
	k.dropEvery = 0
	k.until("all lines", 10*time.Minute, func() bool { return len(k.acked) == len(k.file) })
	k.same()
	if k.conv.State() != wire.Live {
		t.Errorf("the conversation is %s", k.conv.State())
	}
}

func TestASilentPrinterIsGivenUp(t *testing.T) {
	k := newTalk(t, simprinter.Config{}, 50)
	k.live()
	k.dropEvery = 1
	k.until("death", 30*time.Minute, func() bool { return k.conv.State() == wire.Dead })
	k.conv.Send(k.now, wire.Request{Command: "M105", Tag: 7})
	k.step()
	if !slices.Contains(k.lost, "M105") {
		t.Error("a line to a dead printer is lost at once")
	}
}

func TestGreetingSaysWhatIsWrong(t *testing.T) {
	for name, c := range map[string]struct {
		cfg  simprinter.Config
		want string
	}{
		"mute":    {simprinter.Config{Mute: true}, "says nothing"},
		"rubbish": {simprinter.Config{Rubbish: true}, "rubbish"},
	} {
		t.Run(name, func(t *testing.T) {
			k := newTalk(t, c.cfg, 0)
			reason := ""
			for k.now < time.Minute && !strings.Contains(reason, c.want) {
				k.step()
				_, events := k.conv.Take()
				for _, e := range events {
					if e.Kind == wire.Changed {
						reason = e.Reason
					}
				}
			}
			if !strings.Contains(reason, c.want) {
				t.Errorf("the reason is %q, want %q in it", reason, c.want)
			}
			if k.conv.State() != wire.Greeting {
				t.Errorf("the state is %s", k.conv.State())
			}
		})
	}
}
