package wire_test

import (
	"flag"
	"fmt"
	"maps"
	"math/rand/v2"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"diathermon/internal/core/wire"
	"diathermon/internal/simprinter"
)

var (
	soakSeeds = flag.Int("seeds", 20_000, "how many seeds TestAnySeed tries")
	oneSeed   = flag.Int64("seed", -1, "try this seed alone, and tell what is said")
)

// found are seeds beyond the ordinary ones that have found a mistake.
var found = []int64{38_993, 55_887, 176_922, 848_476, 888_441}

// TestAnySeed lets one number decide dialect, buffers, latencies, faults and
// what a person does meanwhile, and checks after every step that the printer has
// carried out the file's lines so far, each once, and nothing else of it.
func TestAnySeed(t *testing.T) {
	if *oneSeed >= 0 {
		s := newSim(*oneSeed)
		s.log = t.Logf
		if err := s.run(); err != nil {
			t.Fatal(err)
		}
		return
	}
	seeds := int64(*soakSeeds)
	if testing.Short() {
		seeds = min(seeds, 1000)
	}
	var next atomic.Int64
	var wait sync.WaitGroup
	var told sync.Map
	for range 2 {
		wait.Go(func() {
			for {
				seed := next.Add(1) - 1
				if t.Failed() || seed >= seeds+int64(len(found)) {
					return
				}
				if seed >= seeds {
					seed = found[seed-seeds]
				}
				s := newSim(seed)
				if err := s.run(); err != nil {
					t.Errorf("%v\nreplay: go test ./internal/core/wire -run TestAnySeed -seed %d -v", err, seed)
				}
				for what, n := range s.saw {
					count, _ := told.LoadOrStore(what, new(atomic.Int64))
					count.(*atomic.Int64).Add(int64(n))
				}
			}
		})
	}
	wait.Wait()
	if testing.Short() { // too few seeds for everything to happen
		return
	}
	for _, want := range []string{"said again", "rejoined", "restarted", "halted", "held", "wide", "clean", "measured", "silent", "answered", "questions", "undetectable", "cut off while greeting"} {
		count, _ := told.LoadOrStore(want, new(atomic.Int64))
		if n := count.(*atomic.Int64).Load(); n == 0 {
			t.Errorf("no seed led to %q: the simulation has lost its teeth", want)
		} else {
			t.Logf("%-12s %d", want, n)
		}
	}
}

// packet is bytes on their way.
type packet struct {
	at   time.Duration
	data []byte
}

// sim is one whole conversation in virtual time, with a file, a cable and a
// board, and a host that may be killed and come back.
type sim struct {
	seed  int64
	rng   *rand.Rand
	log   func(string, ...any)
	cfg   wire.Config
	board *simprinter.Board
	cable *simprinter.Cable
	conv  *wire.Conversation
	now   time.Duration
	saw   map[string]int

	perByte, latency, jitter time.Duration
	up, down                 []packet
	upFree, downFree         time.Duration
	cut                      time.Duration // nothing gets through until then

	file     []string
	fed      int            // lines handed to the conversation
	acked    int            // of the file
	numbers  map[int]int    // line number to index in the file, as a journal would tell
	others   map[int]string // line number to what was said that is not of the file
	said     int            // numbers used by all conversations so far
	taken    int            // the last of the file's that was acknowledged
	forgot   bool           // a conversation has told that the printer lost its place
	firmware wire.Firmware
	asked    map[uint64]int // manual lines not answered yet
	tags     uint64
	checked  int // commands of the board that have been compared
	done     int // of the file
	held     bool
	halted   bool
	reset    bool
	again    int           // times that the host went while it greeted a printer that had restarted
	calm     time.Duration // no faults after this
	spoilt   bool          // the comparison with the file has lost its sense
	greedy   bool          // the conversation was told of bigger buffers than there are
	misheard bool
	known    bool            // the conversation knows the printer's buffers
	clean    bool            // the cable loses nothing, and nobody meddles: then nothing may ever be said again
	takes    []time.Duration // that the file's lines take, as a motion plan would tell; nil: nobody has planned
	greets   int
	warp     time.Duration // how much faster the board's clock runs; 0 is 1
	measures bool          // what the printer holds, before the file
	holds    wire.Holds    // that were measured
	ended    int           // measurements
	early    bool          // the printer acknowledges a line before it carries it out
	still    time.Duration // since when the printer waits for lines; now where it does not
	longest  time.Duration // that it has waited
	spilt    int           // bytes that were more than the printer could hold while that was measured
}

func newSim(seed int64) *sim {
	rng := rand.New(rand.NewPCG(uint64(seed), 77))
	chance := func(one int) bool { return rng.IntN(one) == 0 }
	pick := func(n ...int) int { return n[rng.IntN(len(n))] }
	s := &sim{seed: seed, rng: rng, log: func(string, ...any) {}, numbers: map[int]int{}, others: map[int]string{}, asked: map[uint64]int{}, saw: map[string]int{}}
	d := simprinter.Dialect{
		Early: chance(8), Asked: chance(3), Keeping: chance(6), Queued: chance(4), Careless: chance(5), Telling: chance(2), Pausing: chance(8), Temperatures: chance(12),
		Words: simprinter.AnyWords(rng),
	}
	c := simprinter.Config{Seed: seed, Record: true, Dialect: d, ReceiveBuffer: pick(64, 128, 256, 1024), CommandSlots: pick(1, 4, 8, 16), PlannerSlots: pick(1, 8, 16, 32)}
	s.early = d.Early || strings.Contains(d.Words.String(), "standing=behind") // which look the same in the greeting
	s.board = simprinter.NewBoard(c)
	s.cable = simprinter.NewCable(seed)
	s.perByte = time.Duration(pick(0, 10, 40, 87)) * time.Microsecond
	s.latency = time.Duration(pick(0, 1, 16)) * time.Millisecond
	if chance(6) {
		s.jitter = time.Duration(pick(1, 30, 300, 3000)) * time.Millisecond
	}
	s.calm = time.Duration(rng.IntN(40)) * time.Second
	if s.clean = chance(5); s.clean {
		s.calm = 0 // no faults at all
	}
	slow, planned := pick(0, 0, 100, 300, 3000), chance(2)
	for i := range pick(15, 40, 80) {
		feed := 12000
		switch {
		case chance(200) && (planned || !s.clean):
			feed = 200 // a move of many seconds
		case s.clean && slow > 0 && chance(5) && (planned || slow > 100 && !d.Early):
			// Of seconds, of ten, or thirty minutes. A printer that acknowledges before it
			// carries out, and is silent for as long as its queue of slow moves lasts, is told
			// from a loose cable by a plan alone.
			feed = slow
			if slow == 100 && chance(8) {
				feed = 6 // a quarter of an hour
			}
		}
		line, takes := fmt.Sprintf("G1 X%d.%03d Y%d F%d", rng.IntN(60), i, rng.IntN(60), feed), 85/float64(feed)*60 // s: no move is longer than the bed's diagonal
		if chance(15) {
			line, takes = fmt.Sprintf("G4 P10%02d", i), 1.1 // which is answered when it is over, or, early, as it comes
		}
		s.file = append(s.file, line)
		if planned { // no plan is exact
			s.takes = append(s.takes, time.Duration(takes*(0.6+rng.Float64())*float64(time.Second)))
		}
	}
	if !s.clean {
		faults := func() simprinter.Faults {
			return simprinter.Faults{Spoil: pick(0, 0, 150, 600, 3000), Lose: pick(0, 0, 150, 600, 3000), Double: pick(0, 0, 0, 400)}
		}
		s.cable.ToBoard, s.cable.ToHost = faults(), faults()
		s.misheard = s.cable.ToHost != simprinter.Faults{} // replies have no checksum
	}
	s.cfg = wire.Config{Single: chance(10)}
	s.known = d.Telling
	if chance(4) {
		s.cfg.Buffer, s.cfg.Slots, s.known = c.ReceiveBuffer, c.CommandSlots, true
	}
	if chance(20) { // somebody believes in more than there is
		s.cfg.Buffer, s.cfg.Slots, s.known, s.greedy = 4*c.ReceiveBuffer, 4*c.CommandSlots, false, true
	}
	s.clean = s.clean && s.jitter == 0 && !s.greedy
	s.measures = !s.clean && chance(8)
	s.conv = wire.New(s.cfg, 0)
	return s
}

// run lets the conversation go on until the file is done.
func (s *sim) run() error {
	for step := 0; ; step++ {
		if err := s.step(); err != nil {
			return fmt.Errorf("seed %d, step %d, %s: %w", s.seed, step, s.now, err)
		}
		if s.spoilt {
			return nil
		}
		if s.done == len(s.file) && s.acked == len(s.file) && len(s.asked) == 0 && s.conv.Sure() || s.halted && s.now > s.calm || s.reset && s.conv.State() == wire.Live {
			return s.end()
		}
		if s.now > s.calm+30*time.Hour || step > 400_000 {
			return fmt.Errorf("seed %d: no end after %s and %d steps: %s, %d of %d lines carried out, %d acknowledged, %d manual lines unanswered", s.seed, s.now, step, s.conv.State(), s.done, len(s.file), s.acked, len(s.asked))
		}
	}
}

// end lets whatever is still on its way arrive, and looks once more.
func (s *sim) end() error {
	for until := s.now + 5*time.Second; s.now < until; {
		if err := s.step(); err != nil {
			return fmt.Errorf("seed %d, after its end: %w", s.seed, err)
		}
	}
	return nil
}

func (s *sim) step() error {
	if err := s.carry(); err != nil {
		return err
	}
	if s.measures && s.ended == 0 && s.conv.Measure(s.now) {
		s.saw["measured"]++
	}
	for !s.reset && !s.halted && (!s.measures || s.ended > 0 || s.now > time.Minute) && s.conv.Wants() > 0 && s.fed < len(s.file) {
		r := wire.Request{Lane: wire.File, Command: s.file[s.fed], Tag: uint64(s.fed)}
		if s.takes != nil {
			r.Takes = s.takes[s.fed]
		}
		s.conv.Send(s.now, r)
		s.fed++
	}
	if err := s.carry(); err != nil {
		return err
	}
	warp := max(s.warp, 1)
	next := s.board.Next() / warp
	for _, q := range [][]packet{s.up, s.down} {
		if len(q) > 0 {
			next = min(next, q[0].at)
		}
	}
	if due := s.conv.Deadline(); due > 0 {
		next = min(next, due)
	}
	s.now = max(s.now+50*time.Microsecond, next)
	for len(s.up) > 0 && s.up[0].at <= s.now {
		s.board.Advance(s.up[0].at * warp)
		s.board.Receive(s.up[0].data)
		s.up = s.up[1:]
	}
	s.board.Advance(s.now * warp)
	if err := s.wait(); err != nil {
		return err
	}
	if out := s.board.Output(); len(out) > 0 && s.now >= s.cut {
		out = s.cable.Down(out)
		s.downFree = max(s.now, s.downFree) + time.Duration(len(out))*s.perByte
		s.down = append(s.down, packet{s.downFree + s.latency + s.late(), out})
		s.downFree = s.down[len(s.down)-1].at - s.latency
	}
	for len(s.down) > 0 && s.down[0].at <= s.now {
		s.conv.Receive(s.now, s.down[0].data)
		s.down = s.down[1:]
	}
	s.conv.Tick(s.now)
	if s.calm > 0 && s.now >= s.calm {
		s.cable.ToBoard, s.cable.ToHost, s.jitter = simprinter.Faults{}, simprinter.Faults{}, 0
		if s.held {
			s.held = false
			s.conv.Hold(s.now, false)
		}
		s.calm = -s.now
	}
	if s.now < s.calm && !s.halted && !s.reset {
		s.meddle()
	}
	if s.reset && s.again < 3 && s.conv.State() == wire.Greeting && s.rng.IntN(8) == 0 { // the host goes again in the middle of its greeting
		s.again++
		s.saw["cut off while greeting"]++
		s.kill()
	}
	return s.check()
}

// wait looks how long the printer stands still although there is more to say.
func (s *sim) wait() error {
	if !s.board.Idle() || s.conv.State() != wire.Live || s.greets == 0 || s.held || s.done >= len(s.file) || s.reset || s.halted || s.now < s.cut || s.measures && s.ended == 0 {
		s.still = s.now
		return nil
	}
	s.longest = max(s.longest, s.now-s.still)
	limit := 300*time.Millisecond + 4*s.latency + 400*s.perByte
	switch {
	case s.clean:
	case s.takes == nil: // what its moves take nobody knows
		limit = 15 * time.Minute
	default: // several losses in a row, each found out once what is under way should have been made, and as much again
		limit = time.Minute + 4*slices.Max(s.takes) + 8*s.jitter
		if s.early { // what it has acknowledged it may still have to make
			for _, takes := range s.takes {
				limit += 2 * takes
			}
		}
	}
	if s.now-s.still > limit {
		return fmt.Errorf("the printer has waited %s for the next line", s.now-s.still)
	}
	return nil
}

func (s *sim) late() time.Duration {
	if s.jitter == 0 || s.rng.IntN(10) > 0 {
		return 0
	}
	return time.Duration(s.rng.Int64N(int64(s.jitter)))
}

// carry puts what the conversation says on the cable and follows its events.
func (s *sim) carry() error {
	out, events := s.conv.Take()
	for _, e := range events {
		switch e.Kind {
		case wire.Said:
			s.log("%12s > %s", s.now, e.Text)
			if e.Number < 1_000_000 {
				s.said = max(s.said, e.Number+1)
			}
			switch index, known := s.numbers[e.Number]; {
			case e.Again && s.clean && s.greets > 0:
				return fmt.Errorf("on a cable that loses nothing %q is said again", e.Text)
			case e.Again:
				s.saw["said again"]++
			case s.reset || e.Number < 0 || e.Number > 1_000_000:
			case e.Request.Lane == wire.File && !e.Own:
				if known && index != int(e.Request.Tag) {
					return fmt.Errorf("number %d meant line %d of the file and now means %d", e.Number, index, e.Request.Tag)
				}
				s.numbers[e.Number] = int(e.Request.Tag)
			default:
				if e.Own && e.Request.Command == "M105" {
					s.saw["questions"]++
				}
				if known {
					return fmt.Errorf("number %d meant a line of the file and now %s", e.Number, e.Text)
				}
				s.others[e.Number] = e.Request.Command
			}
		case wire.Heard:
			s.log("%12s < %s", s.now, e.Reply.Text)
			if k := e.Reply.Kind; s.clean && s.greets > 0 && (k == wire.Resend || k == wire.Skip || k == wire.Error) {
				return fmt.Errorf("on a cable that loses nothing the printer says %q", e.Reply.Text)
			}
		case wire.Acked:
			if e.Request.Lane == wire.File {
				if int(e.Request.Tag) != s.acked {
					return fmt.Errorf("line %d of the file was acknowledged, want %d", e.Request.Tag, s.acked)
				}
				s.acked++
				s.taken = e.Number
				break
			}
			delete(s.asked, e.Request.Tag)
			s.saw["answered"]++
		case wire.Changed:
			s.log("%12s   %s: %s", s.now, e.State, e.Reason)
			if e.State == wire.Silent {
				s.saw["silent"]++
			}
			if e.State == wire.Dead && !s.halted {
				return fmt.Errorf("dead: %s", e.Reason)
			}
		case wire.Lost:
			delete(s.asked, e.Request.Tag)
		case wire.Greeted:
			s.greets++
			if s.clean {
				s.saw["clean"]++
			}
			if err := s.greeted(e.Number, e.Firmware); err != nil {
				return err
			}
			s.conv.Send(s.now, wire.Request{Command: "M105", Tag: 1 << 40})
			if s.seed%3 == 0 { // reports come by themselves
				s.conv.Send(s.now, wire.Request{Command: "M155 S1", Tag: 1 << 40})
			}
		case wire.Measured:
			s.holds, s.ended = e.Holds, s.ended+1
		case wire.Restarted:
			if !s.reset && s.done > 0 {
				return fmt.Errorf("taken for restarted")
			}
			s.forgot = true
			s.saw["restarted"]++
		}
	}
	if len(out) > 0 {
		if strings.Count(string(out), "\n") > 2 {
			s.saw["wide"]++
		}
		data := s.cable.Up(append([]byte(nil), out...))
		s.upFree = max(s.now, s.upFree) + time.Duration(len(data))*s.perByte
		if s.now >= s.cut {
			s.up = append(s.up, packet{s.upFree, data})
		}
	}
	return nil
}

// greeted finds the place in the file after a host was killed and came back.
func (s *sim) greeted(last int, firmware wire.Firmware) error {
	s.firmware = firmware
	switch {
	case s.again > 0 && last >= 0:
		return fmt.Errorf("the printer has restarted and is taken to have kept its place at line %d", last)
	case s.reset:
		return nil
	case last < 0 && len(s.numbers) == 0: // nothing of the file has been said
		s.fed = 0
		return nil
	}
	if last < 0 {
		return fmt.Errorf("the printer has kept its place and was taken for restarted")
	}
	s.saw["rejoined"]++
	s.fed = 0
	for number, index := range s.numbers {
		if number <= last {
			s.fed = max(s.fed, index+1)
		}
	}
	s.acked = s.fed
	return nil
}

// kill ends the host, and lets another begin a conversation.
func (s *sim) kill() {
	cfg := s.cfg
	if !s.forgot {
		cfg.Earlier = wire.Earlier{Said: s.said, Taken: s.taken, Others: maps.Clone(s.others), Firmware: s.firmware}
	}
	s.conv = wire.New(cfg, s.now)
	s.asked, s.held = map[uint64]int{}, false
}

// meddle does what people, cables and printers do.
func (s *sim) meddle() {
	switch s.rng.IntN(600) {
	case 0, 1:
		s.held = !s.held
		s.conv.Hold(s.now, s.held)
		s.saw["held"]++
	case 2, 3, 4:
		if s.conv.State() == wire.Live && len(s.asked) < 5 {
			s.tags++
			s.asked[s.tags] = 1
			s.conv.Send(s.now, wire.Request{Command: []string{"M105", "M114", "M117 hello", "M104 S0"}[s.rng.IntN(4)], Tag: s.tags})
		}
	case 5:
		if s.rng.IntN(3) == 0 {
			s.saw["stalled"]++ // its loop stands still, so that it does not even fill its free slots
			s.board.Stall(time.Duration(s.rng.IntN(20_000)) * time.Millisecond)
		}
	case 6:
		if s.rng.IntN(3) == 0 {
			s.cut = s.now + time.Duration(s.rng.IntN(15_000))*time.Millisecond
		}
	case 7: // the host is killed and comes back
		if s.done > 0 && (s.conv.State() == wire.Live || s.conv.State() == wire.Silent) {
			s.kill()
		}
	case 8:
		if s.rng.IntN(12) == 0 && s.conv.State() != wire.Greeting {
			s.board.Reset()
			s.up, s.reset = nil, true
			s.asked = map[uint64]int{}
			s.checked = len(s.board.Executed())
		}
	case 9:
		if s.rng.IntN(12) == 0 && s.conv.State() != wire.Greeting {
			s.cut, s.cable.ToBoard = 0, simprinter.Faults{}
			s.conv.Halt(s.now)
			s.halted = true
			s.saw["halted"]++
			s.asked = map[uint64]int{}
		}
	}
}

// drawn tells the lines of which a file is made.
func drawn(line string) bool {
	return strings.HasPrefix(line, "G1 ") || strings.HasPrefix(line, "G4 P10")
}

// check looks at what the board has carried out since the last step.
func (s *sim) check() error {
	fresh := s.board.ExecutedSince(s.checked)
	s.checked += len(fresh)
	for _, e := range fresh {
		merged := !slices.Contains(s.file, e.Line)
		if index, numbered := s.numbers[e.Number]; s.reset || !numbered || e.Line == s.file[index] {
			merged = merged && drawn(e.Line)
		}
		if !merged && !drawn(e.Line) {
			continue
		}
		switch {
		case s.reset:
			return fmt.Errorf("a printer that has restarted carried out %q", e.Line)
		case s.done == len(s.file):
			return fmt.Errorf("carried out %q after the file's end", e.Line)
		case merged && (s.greedy || s.board.Overflows() > 0 || s.cut > 0):
			// Many bytes were lost between two lines, and the trade's
			// checksum happens to let what became of them pass. No host could notice.
			s.saw["undetectable"]++
			s.spoilt = true
			return nil
		case e.Line != s.file[s.done]:
			return fmt.Errorf("carried out %q, want %q", e.Line, s.file[s.done])
		}
		s.done++
	}
	if s.halted {
		if out, _ := s.conv.Take(); len(out) > 0 && !strings.Contains(string(out), "M112") {
			return fmt.Errorf("said after a halt: %q", out)
		} else if len(out) > 0 {
			s.board.Receive(out)
		}
	}
	if n := s.board.Overflows(); n > s.spilt && s.clean {
		return fmt.Errorf("%d bytes were more than the printer could hold", n)
	}
	if n := s.board.Overflows(); n > 0 && s.known && !s.misheard && s.calm <= 0 && s.jitter == 0 && !s.halted && s.saw["silent"]+s.saw["said again"]+s.saw["stalled"]+s.saw["measured"] == 0 {
		return fmt.Errorf("%d bytes were more than the printer could hold", n)
	}
	return nil
}
