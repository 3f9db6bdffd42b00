package wire_test

import (
	"fmt"
	"math/rand/v2"
	"strings"
	"testing"
	"time"

	"diathermon/internal/core/wire"
	"diathermon/internal/simprinter"
)

// measured lets a conversation find out what a board can hold.
func measured(t *testing.T, cfg simprinter.Config, conversation wire.Config, perByte, latency time.Duration) (*sim, wire.Holds) {
	t.Helper()
	s := alone(cfg, conversation, perByte, latency)
	s.live(t)
	if !s.conv.Measure(s.now) {
		t.Fatal("it was not begun")
	}
	s.until(t, "its end", func() bool { return s.ended > 0 })
	return s, s.holds
}

// alone is a conversation with a board over a cable that loses nothing, about nothing.
func alone(board simprinter.Config, cfg wire.Config, perByte, latency time.Duration) *sim {
	board.Record = true
	return &sim{
		board: simprinter.NewBoard(board), cable: simprinter.NewCable(1), cfg: cfg, conv: wire.New(cfg, 0), perByte: perByte, latency: latency,
		rng: rand.New(rand.NewPCG(1, 1)), log: func(string, ...any) {}, numbers: map[int]int{}, others: map[int]string{}, asked: map[uint64]int{}, saw: map[string]int{},
	}
}

// live goes on until the printer has been greeted and has nothing to do.
func (s *sim) live(t *testing.T) {
	t.Helper()
	s.until(t, "a live link", func() bool { return s.conv.State() == wire.Live })
	for end := s.now + time.Second; s.now < end; {
		if err := s.step(); err != nil {
			t.Fatal(err)
		}
	}
}

// until goes on until something is so.
func (s *sim) until(t *testing.T, what string, met func() bool) {
	t.Helper()
	for step := 0; !met(); step++ {
		if err := s.step(); err != nil {
			t.Fatal(err)
		}
		if step > 300_000 {
			t.Fatalf("waited in vain for %s, until %s: %s", what, s.now, s.conv.State())
		}
	}
}

func TestWhatThePrinterHoldsIsMeasured(t *testing.T) {
	for _, dialect := range []string{"", "naming=full", "naming=full,plainly=temperatures", "working=nothing", "amends=none", "keeping", "repeated=skipped", "warm-oks", "working=nothing,amends=none,keeping", "pausing"} {
		for _, rx := range []int{64, 128, 256, 1024} {
			for _, slots := range []int{1, 4, 8} {
				for _, perByte := range []time.Duration{0, 40 * time.Microsecond, 87 * time.Microsecond} {
					what := fmt.Sprintf("%s, %d bytes, %d slots, %s a byte", dialect, rx, slots, perByte)
					d, err := simprinter.ParseDialect(dialect)
					if err != nil {
						t.Fatal(err)
					}
					baud := 0
					if perByte > 0 {
						baud = int(10 * time.Second / perByte)
					}
					s, h := measured(t, simprinter.Config{Dialect: d, ReceiveBuffer: rx, CommandSlots: slots}, wire.Config{Baud: baud}, perByte, 16*time.Millisecond)
					for _, length := range []int{16, 24, 32, 48, 80} {
						really, believed := slots*length+rx-1, h.Lines*length+h.Bytes
						if believed > really || rx < 1024 && believed < really*92/100 {
							t.Errorf("%s: %d bytes and %d lines; with lines of %d bytes that is %d, and it holds %d", what, h.Bytes, h.Lines, length, believed, really)
							break
						}
					}
					if s.now > 40*time.Second {
						t.Errorf("%s: it took until %s", what, s.now)
					}
					for _, e := range s.board.Executed() {
						if !strings.HasPrefix(e.Line, "G4 P") && !strings.HasPrefix(e.Line, "M1") {
							t.Errorf("%s: the printer carried out %q", what, e.Line)
						}
					}
					s.spilt, s.clean, s.greets = s.board.Overflows(), true, 1 // from now on nothing is lost
					for i := range 300 {
						s.file = append(s.file, fmt.Sprintf("G1 X%d.%d Y%d F12000", i%60, i%10, i%50))
					}
					s.until(t, what+": the file", func() bool { return s.acked == len(s.file) && s.conv.Sure() })
				}
			}
		}
	}
}

func TestAClockThatRunsFastIsMeasuredOrLeftAlone(t *testing.T) {
	for _, warp := range []time.Duration{2, 8, 20, 100, 1000} {
		for _, dialect := range []string{"", "naming=full", "working=nothing", "amends=none"} {
			d, _ := simprinter.ParseDialect(dialect)
			s := alone(simprinter.Config{Dialect: d, ReceiveBuffer: 128, CommandSlots: 4}, wire.Config{Baud: 115200}, 0, time.Millisecond)
			s.warp = warp
			s.live(t)
			if !s.conv.Measure(s.now) {
				t.Fatal("it was not begun")
			}
			begun := s.now
			s.until(t, fmt.Sprintf("its end at %d times, %s", warp, dialect), func() bool { return s.ended > 0 })
			if s.now-begun > time.Minute || s.holds.Lines*30+s.holds.Bytes > 4*30+127 {
				t.Errorf("at %d times, %s: after %s it was found to hold %+v", warp, dialect, s.now-begun, s.holds)
			}
		}
	}
}

func TestWhatIsNotToBeMeasuredIsLeftAlone(t *testing.T) {
	for name, c := range map[string]struct {
		printer simprinter.Dialect
		cfg     wire.Config
	}{
		"one line at a time": {simprinter.Dialect{}, wire.Config{Single: true}},
		"careless":           {simprinter.Dialect{Careless: true}, wire.Config{}},
		"early":              {simprinter.Dialect{Early: true}, wire.Config{}},
	} {
		s := alone(simprinter.Config{Dialect: c.printer}, c.cfg, 0, 0)
		s.live(t)
		if s.conv.Measure(s.now) {
			t.Errorf("%s: it is measured", name)
		}
	}
}

func TestWhatIsSaidMeanwhileEndsTheMeasurement(t *testing.T) {
	s := alone(simprinter.Config{ReceiveBuffer: 128}, wire.Config{Baud: 115200}, 87*time.Microsecond, 0)
	s.live(t)
	s.conv.Measure(s.now)
	for range 40 {
		if err := s.step(); err != nil {
			t.Fatal(err)
		}
	}
	begun := s.now
	s.asked[7] = 1
	s.conv.Send(s.now, wire.Request{Command: "M114", Tag: 7})
	s.until(t, "an answer", func() bool { return len(s.asked) == 0 })
	if took := s.now - begun; took > 3*time.Second || s.conv.Measuring() {
		t.Errorf("the answer came after %s, measuring: %v", took, s.conv.Measuring())
	}
	s.conv.Measure(s.now)
	s.conv.Halt(s.now)
	if s.conv.Measuring() || s.conv.State() != wire.Dead {
		t.Error("a halt does not end it")
	}
}
