package host_test

import (
	"bytes"
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"log/slog"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"testing/synctest"
	"time"

	"diathermon/internal/core/bed"
	"diathermon/internal/core/heat"
	"diathermon/internal/core/machine"
	"diathermon/internal/core/motion"
	"diathermon/internal/core/routine"
	"diathermon/internal/core/run"
	"diathermon/internal/core/toolpath"
	"diathermon/internal/core/wire"
	"diathermon/internal/host"
	"diathermon/internal/host/printing"
	"diathermon/internal/host/talk"
	"diathermon/internal/journal"
	"diathermon/internal/samples"
	"diathermon/internal/shelf"
	"diathermon/internal/simprinter"
)

// cable is a port with a stand-in's board at its end, in the time of the test's
// bubble.
type cable struct {
	*standIn
	pace
	begun  time.Time
	closed bool
	deaf   bool   // nothing comes through, either way
	stray  []byte // that comes through besides
	onWay  []sent // to the board
}

// pace is how fast a cable and the clock of the board at its end are.
type pace struct {
	warp time.Duration // how much faster the board's clock runs; 0 is 1
	late time.Duration // by which what the board says arrives at the most; 0 is 5 ms
	slow time.Duration // by which what the host says arrives
}

// sent are bytes that arrive then.
type sent struct {
	at   time.Time
	data []byte
}

// now is the board's time.
func (c *cable) now() time.Duration { return time.Since(c.begun) * max(c.warp, 1) }

func newCable(c simprinter.Config) *cable {
	return &cable{standIn: newStandIn(c), begun: time.Now()}
}

// A standIn is a board that its cables move and tests meddle with.
type standIn struct {
	mu      sync.Mutex
	board   *simprinter.Board
	meddled chan struct{} // is closed when somebody has
}

func newStandIn(c simprinter.Config) *standIn {
	return &standIn{board: simprinter.NewBoard(c), meddled: make(chan struct{})}
}

// do lets f have the board.
func (m *standIn) do(f func(*simprinter.Board)) { m.meddle(func() { f(m.board) }) }

// meddle lets f change what comes of the board, or of a cable to it.
func (m *standIn) meddle(f func()) {
	m.mu.Lock()
	defer m.mu.Unlock()
	f()
	close(m.meddled)
	m.meddled = make(chan struct{})
}

func (m *standIn) reset() { m.do((*simprinter.Board).Reset) }

func (m *standIn) breaks(bed bool, f simprinter.HeaterFault) {
	m.do(func(b *simprinter.Board) { b.Break(bed, f) })
}

func (m *standIn) executed() (out []simprinter.Executed) {
	m.do(func(b *simprinter.Board) { out = slices.Clone(b.Executed()) })
	return out
}

func (m *standIn) segments() (n int) {
	m.do(func(b *simprinter.Board) { n = len(b.Segments()) })
	return n
}

func (m *standIn) temperatures() (nozzle, bed float64) {
	m.do(func(b *simprinter.Board) { nozzle, bed = b.Temperatures() })
	return nozzle, bed
}

// say lets the host hear a line.
func (c *cable) say(line string) {
	c.meddle(func() { c.stray = append(append(c.stray, line...), '\n') })
}

// deafen lets nothing through the cable, or all of it again.
func (c *cable) deafen(deaf bool) { c.meddle(func() { c.deaf = deaf }) }

func (c *cable) Write(p []byte) (int, error) {
	c.meddle(func() {
		if !c.deaf {
			c.onWay = append(c.onWay, sent{time.Now().Add(c.slow), bytes.Clone(p)})
		}
		c.deliver()
	})
	return len(p), nil
}

// deliver brings the board up to now, with what has arrived.
func (c *cable) deliver() {
	c.board.Advance(c.now())
	for len(c.onWay) > 0 && !c.onWay[0].at.After(time.Now()) {
		c.board.Receive(c.onWay[0].data)
		c.onWay = c.onWay[1:]
	}
}

func (c *cable) Read(p []byte) (int, error) {
	for {
		c.mu.Lock()
		c.deliver()
		out := append(c.stray, c.board.Output()...)
		if c.deaf {
			out = nil
		}
		n, closed := copy(p, out), c.closed
		c.stray = out[n:]
		next, meddled := c.next(), c.meddled
		c.mu.Unlock()
		switch {
		case closed:
			return 0, io.EOF
		case n > 0:
			return n, nil
		}
		select {
		case <-time.After(next): // virtual: it takes none
		case <-meddled:
			time.Sleep(c.look(0))
		}
	}
}

// next is how long nothing comes of the board, to the next look at it.
func (c *cable) next() time.Duration {
	wait := (c.board.Next() - c.now()) / max(c.warp, 1)
	if len(c.onWay) > 0 {
		wait = min(wait, time.Until(c.onWay[0].at))
	}
	return c.look(min(wait, time.Second))
}

// look is how long it takes to the first look at the board after a time: it is looked at
// every so often.
func (c *cable) look(after time.Duration) time.Duration {
	every := cmp.Or(c.late, 5*time.Millisecond)
	return max(after, 0) + every - (time.Since(c.begun)+max(after, 0))%every
}

func (c *cable) Close() error {
	c.meddle(func() { c.closed = true })
	return nil
}

// memory keeps what a host records.
type memory struct {
	mu       sync.Mutex
	runs     []run.Record
	readings []heat.Sample
	messages []wire.Message
	episodes []heat.Episode
	alarms   []heat.Alarm
	away     bool // what it is told is not kept for good
}

func (m *memory) Performance(routine.Record) {}

func (m *memory) Kept() <-chan struct{} {
	m.mu.Lock()
	defer m.mu.Unlock()
	kept := make(chan struct{})
	if !m.away {
		close(kept)
	}
	return kept
}

func (m *memory) Run(r run.Record) {
	m.mu.Lock()
	defer m.mu.Unlock()
	m.runs = append(m.runs, r)
}

func (m *memory) Readings(s []heat.Sample) {
	m.mu.Lock()
	defer m.mu.Unlock()
	m.readings = append(m.readings, s...)
}

func (m *memory) Mark(heat.Mark) {}

func (m *memory) Episode(e heat.Episode) {
	m.mu.Lock()
	defer m.mu.Unlock()
	m.episodes = append(m.episodes, e)
}

func (m *memory) Learned(heat.Heater, heat.Learned) {}

func (m *memory) Alarm(a heat.Alarm) {
	m.mu.Lock()
	defer m.mu.Unlock()
	m.alarms = append(m.alarms, a)
}

func (m *memory) Message(w wire.Message) {
	m.mu.Lock()
	defer m.mu.Unlock()
	m.messages = append(m.messages, w)
}

// folder is a shelf of one file.
type folder struct {
	file toolpath.File
	path string
}

func (f folder) File(context.Context, string) (toolpath.File, error)        { return f.file, nil }
func (f folder) Open(context.Context, toolpath.File) (io.ReadCloser, error) { return os.Open(f.path) }
func (f folder) Read(string) (*os.File, error)                              { return os.Open(f.path) }

// written is a part that is written as a file.
type written interface{ Write(io.Writer) error }

func shelfOf(t *testing.T, part written) folder {
	t.Helper()
	var body bytes.Buffer
	if err := part.Write(&body); err != nil {
		t.Fatal(err)
	}
	f := folder{path: filepath.Join(t.TempDir(), "coupon.gcode")}
	if err := os.WriteFile(f.path, body.Bytes(), 0o644); err != nil {
		t.Fatal(err)
	}
	var err error
	if f.file, err = shelf.Examine(t.Context(), &body, "", toolpath.Options{Limits: motion.Ordinary}, nil); err != nil {
		t.Fatal(err)
	}
	f.file.Name = "coupon.gcode"
	return f
}

// books keeps journals in a folder of the test's.
type books struct{ *journal.Folder }

func (b books) Begin(r run.Record) (printing.Book, error) { return b.Folder.Begin(r) }

func (b books) Unfinished() (*run.Life, printing.Book, error) {
	life, book, err := b.Folder.Unfinished()
	return life, book, err
}

// work runs a host on what open opens until the test's end.
func work(t testing.TB, files printing.Files, open func() (io.ReadWriteCloser, error)) (*host.Host, *memory) {
	t.Helper()
	h, kept, _ := workIn(t, t.TempDir(), files, open)
	return h, kept
}

// workIn runs a host that keeps its journals in a folder, until leave is called
// or the test ends.
func workIn(t testing.TB, folder string, files printing.Files, open func() (io.ReadWriteCloser, error), change ...func(*host.Config)) (h *host.Host, kept *memory, leave func()) {
	t.Helper()
	kept = &memory{}
	journals, err := journal.Open(folder)
	if err != nil {
		t.Fatal(err)
	}
	c := host.Config{
		Journal: books{journals}, Rules: run.Rules{IdleAfter: 10 * time.Minute, KeepBed: 30 * time.Minute}, UnusedFor: 30 * time.Minute,
		Bed:    bed.Bed{State: bed.Clear, Since: time.Now()},
		Device: "port", Baud: 115200, Recorder: kept, Files: files, Log: slog.New(slog.DiscardHandler),
		Printer: machine.Printer{Name: "Vesper", Filament: 1.75, Width: 230, Depth: 230, Height: 240, Tools: 1, Limits: heat.Limits{Nozzle: 285, Bed: 110}},
		Open:    func(string, int) (io.ReadWriteCloser, error) { return open() },
	}
	for _, f := range change {
		f(&c)
	}
	h = host.New(c)
	if _, err := h.Run.TakeUp(t.Context()); err != nil {
		t.Fatal(err)
	}
	ctx, cancel := context.WithCancel(t.Context())
	done := make(chan struct{})
	go func() {
		defer close(done)
		h.Work(ctx)
	}()
	leave = sync.OnceFunc(func() {
		cancel()
		<-done
		time.Sleep(time.Second) // virtual: the port's reader sees its end
	})
	t.Cleanup(leave)
	return h, kept, leave
}

// until lets virtual time pass until the bench meets a condition.
func until(t testing.TB, h *host.Host, within time.Duration, met func(host.Bench) bool) host.Bench {
	t.Helper()
	for end := time.Now().Add(within); ; time.Sleep(100 * time.Millisecond) {
		b, err := h.Bench(t.Context())
		if err != nil {
			t.Fatal(err)
		}
		if met(b) {
			return b
		}
		if time.Now().After(end) {
			t.Fatalf("not within %s: link %+v, run %+v", within, b.Link, b.Run)
		}
	}
}

func isLive(b host.Bench) bool { return b.Link.Live() }

func TestAWholePrintInVirtualTime(t *testing.T) {
	files := shelfOf(t, samples.Coupon(20))
	synctest.Test(t, func(t *testing.T) {
		h, kept := work(t, files, func() (io.ReadWriteCloser, error) { return newCable(simprinter.Vesper()), nil })
		until(t, h, 10*time.Second, isLive)
		begun := time.Now()
		if _, err := h.Run.Start(t.Context(), printing.Order{File: "coupon.gcode"}); err != nil {
			t.Fatal(err)
		}
		laying := until(t, h, 20*time.Minute, func(b host.Bench) bool { return b.Run.State == run.Running })
		if warm := time.Since(begun); warm < time.Minute {
			t.Errorf("a cold printer was warm after %s", warm)
		}
		if laying.Heat.Heaters[1].State != heat.Steady && laying.Heat.Heaters[1].State != heat.Settling {
			t.Errorf("drawing began with the bed %s", laying.Heat.Heaters[1].State)
		}
		half := until(t, h, time.Hour, func(b host.Bench) bool { return b.Run.Share >= 0.5 })
		at := time.Now()
		until(t, h, time.Hour, func(b host.Bench) bool { return b.Run.State == run.Finished })
		if ratio := half.Run.Left.Seconds() / time.Since(at).Seconds(); ratio < 0.8 || ratio > 1.25 {
			t.Errorf("half way %s were said to be left, and it took %s", half.Run.Left, time.Since(at))
		}

		kept.mu.Lock()
		defer kept.mu.Unlock()
		last := map[heat.Heater]time.Time{}
		for _, r := range kept.readings {
			if before, ok := last[r.Heater]; ok && r.At.Sub(before) > 2*time.Second {
				t.Errorf("the %s was not read for %s", r.Heater, r.At.Sub(before))
			}
			last[r.Heater] = r.At
		}
		if want := int(time.Since(begun).Seconds()) * 2; len(kept.readings) < want*9/10 {
			t.Errorf("%d readings, want about %d", len(kept.readings), want)
		}
		if final := kept.runs[len(kept.runs)-1]; final.State != run.Finished || final.Taken != files.file.Commands {
			t.Errorf("kept as %+v", final)
		}
		if len(kept.messages) == 0 || !strings.Contains(kept.messages[0].Text, "Vesper") {
			t.Errorf("the firmware's messages are %+v", kept.messages)
		}
	})
}

func TestAFileThatDoesNotFitIsNotStarted(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		files := shelfOf(t, samples.Coupon(1))
		files.file.Tools = 5
		h, _ := work(t, files, func() (io.ReadWriteCloser, error) { return newCable(simprinter.Vesper()), nil })
		until(t, h, time.Minute, isLive)
		var blocked *printing.BlockedError
		if _, err := h.Run.Start(t.Context(), printing.Order{File: files.file.Name}); !errors.As(err, &blocked) || len(blocked.Checks) == 0 {
			t.Errorf("%v", err)
		}
		if b, _ := h.Bench(t.Context()); b.Run != nil {
			t.Errorf("a run %s is there", b.Run.State)
		}
	})
}

func TestAPortThatComesLater(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		there := time.Now().Add(time.Hour)
		h, _ := work(t, folder{}, func() (io.ReadWriteCloser, error) {
			if time.Now().Before(there) {
				return nil, fs.ErrNotExist
			}
			return newCable(simprinter.Vesper()), nil
		})
		b := until(t, h, time.Minute, func(b host.Bench) bool { return b.Link.State == talk.Absent && b.Link.Reason != "" })
		if !strings.Contains(b.Link.Reason, "no port") {
			t.Errorf("the reason is %q", b.Link.Reason)
		}
		if err := h.Halt(t.Context()); !errors.Is(err, run.ErrLive) {
			t.Errorf("a halt without a printer: %v", err)
		}
		until(t, h, time.Hour+time.Minute, isLive)
	})
}

func TestAPrinterThatSaysNothingMoreIsGivenUp(t *testing.T) {
	files := shelfOf(t, samples.Coupon(20))
	synctest.Test(t, func(t *testing.T) {
		var c *cable
		h, _ := work(t, files, func() (io.ReadWriteCloser, error) { c = newCable(simprinter.Vesper()); return c, nil })
		until(t, h, 10*time.Second, isLive)
		if _, err := h.Run.Start(t.Context(), printing.Order{File: "coupon.gcode"}); err != nil {
			t.Fatal(err)
		}
		until(t, h, time.Hour, func(b host.Bench) bool { return b.Run.State == run.Running })
		c.mu.Lock()
		c.board = simprinter.NewBoard(simprinter.Config{Mute: true}) // it hangs, and its cable stays in
		c.begun = time.Now()
		c.mu.Unlock()
		until(t, h, time.Minute, func(b host.Bench) bool { return b.Link.State == talk.LinkState(wire.Silent) })
		b := until(t, h, time.Hour, func(b host.Bench) bool { return b.Link.State == talk.LinkState(wire.Dead) })
		if b.Run.State != run.Interrupted || b.Run.Reason == "" {
			t.Errorf("the run is %s (%s)", b.Run.State, b.Run.Reason)
		}
	})
}

func TestASlowSubscriberIsLetGo(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		h, _ := work(t, folder{}, func() (io.ReadWriteCloser, error) { return newCable(simprinter.Vesper()), nil })
		updates, end := h.Subscribe()
		defer end()
		until(t, h, 10*time.Second, isLive)
		time.Sleep(time.Hour) // an hour of readings that nobody takes
		n := 0
		for range updates { // ends because it was closed
			n++
		}
		if n == 0 || n > 1000 {
			t.Errorf("%d updates were kept for it", n)
		}
		if _, err := h.Hand.Say(t.Context(), "M105"); err != nil {
			t.Errorf("and the host: %v", err)
		}
	})
}

// printing returns a host whose printer draws, and the cable between them.
func aPrint(t *testing.T, c simprinter.Config, layers int) (*host.Host, *cable) {
	t.Helper()
	var c1 *cable
	h, _ := work(t, shelfOf(t, samples.Coupon(layers)), func() (io.ReadWriteCloser, error) { c1 = newCable(c); return c1, nil })
	until(t, h, 10*time.Second, isLive)
	if _, err := h.Run.Start(t.Context(), printing.Order{File: "coupon.gcode"}); err != nil {
		t.Fatal(err)
	}
	until(t, h, time.Hour, func(b host.Bench) bool { return b.Run.State == run.Running && b.Run.Layer > 1 })
	return h, c1
}

func TestTheNozzleOfALongHoldCoolsAndIsHotAgainToGoOn(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		h, _ := aPrint(t, simprinter.Vesper(), 20)
		if _, err := h.Run.Hold(t.Context(), ""); err != nil {
			t.Fatal(err)
		}
		until(t, h, time.Minute, func(b host.Bench) bool { return b.Position.Where[2] > 10 })
		time.Sleep(8 * time.Minute)
		b := until(t, h, time.Second, func(host.Bench) bool { return true })
		if b.Heat.Heaters[0].Setpoint != 205 || b.Heat.Heaters[1].Setpoint != 60 {
			t.Errorf("after eight minutes the setpoints are %g and %g", b.Heat.Heaters[0].Setpoint, b.Heat.Heaters[1].Setpoint)
		}
		b = until(t, h, 5*time.Minute, func(b host.Bench) bool { return b.Heat.Heaters[0].Setpoint == 0 })
		if b.Heat.Heaters[1].Setpoint != 60 || !strings.Contains(b.Run.Reason, "the nozzle cools") {
			t.Errorf("the bed is at %g, and it is held because %q", b.Heat.Heaters[1].Setpoint, b.Run.Reason)
		}
		if _, err := h.Hand.Say(t.Context(), "G1 E5 F300"); err != nil {
			t.Errorf("moving filament while parked: %v", err)
		}
		time.Sleep(10 * time.Minute)
		if _, err := h.Run.Resume(t.Context(), ""); err != nil {
			t.Fatal(err)
		}
		b = until(t, h, 10*time.Minute, func(b host.Bench) bool { return b.Run.State == run.Running })
		if b.Heat.Heaters[0].Actual < 200 {
			t.Errorf("it went on with the nozzle at %g °C", b.Heat.Heaters[0].Actual)
		}
		until(t, h, 2*time.Hour, func(b host.Bench) bool { return b.Run.State == run.Finished })
	})
}

func TestAHoldWhileComingBackIsKept(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		h, _ := aPrint(t, simprinter.Vesper(), 20)
		for range 3 { // a person who cannot decide
			h.Run.Hold(t.Context(), "")
			time.Sleep(3 * time.Second)
			h.Run.Resume(t.Context(), "")
			time.Sleep(2 * time.Second)
		}
		h.Run.Hold(t.Context(), "")
		until(t, h, 10*time.Minute, func(b host.Bench) bool { return b.Run.State == run.Held && b.Position.Where[2] > 10 })
		time.Sleep(time.Minute)
		if _, err := h.Run.Resume(t.Context(), ""); err != nil {
			t.Fatal(err)
		}
		until(t, h, 2*time.Hour, func(b host.Bench) bool { return b.Run.State == run.Finished })
	})
}

func TestAPortThatHangsKeepsNobodyWaiting(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		hangs := make(chan struct{})
		h, _ := work(t, folder{}, func() (io.ReadWriteCloser, error) {
			<-hangs
			return newCable(simprinter.Vesper()), nil
		})
		b := until(t, h, time.Minute, func(b host.Bench) bool { return strings.Contains(b.Link.Reason, "hangs") })
		if b.Link.State != talk.Opening {
			t.Errorf("the link is %s", b.Link.State)
		}
		asked := time.Now()
		if _, err := h.Bench(t.Context()); err != nil {
			t.Error(err)
		}
		if err := h.Halt(t.Context()); !errors.Is(err, run.ErrLive) || !strings.Contains(err.Error(), "no halt reaches it") {
			t.Errorf("a halt while it hangs: %v", err)
		}
		if waited := time.Since(asked); waited > 0 {
			t.Errorf("they waited %s", waited)
		}
		close(hangs)
		until(t, h, 10*time.Second, isLive)
	})
}

func TestAPortThatHangsAsItIsClosedIsNotOpenedMeanwhile(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		var open atomic.Int32
		hangs := make(chan struct{})
		h, _ := work(t, folder{}, func() (io.ReadWriteCloser, error) {
			if open.Add(1) > 1 {
				t.Error("it is open already")
			}
			return &stuck{newCable(simprinter.Vesper()), func() { <-hangs; open.Add(-1) }}, nil
		})
		until(t, h, 10*time.Second, isLive)
		if err := h.Link.Reconnect(t.Context()); err != nil {
			t.Fatal(err)
		}
		until(t, h, time.Minute, func(b host.Bench) bool { return strings.Contains(b.Link.Reason, "hangs") })
		close(hangs)
		until(t, h, 10*time.Second, isLive)
	})
}

// stuck is a port that takes its time to close.
type stuck struct {
	*cable
	wait func()
}

func (s *stuck) Close() error {
	s.wait()
	return s.cable.Close()
}

func TestAFirmwareThatStopsIsToldAsSuch(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		c := newCable(simprinter.Vesper())
		h, kept := work(t, folder{}, func() (io.ReadWriteCloser, error) { return c, nil })
		until(t, h, 10*time.Second, isLive)
		c.say("!! the firmware has stopped")
		until(t, h, 10*time.Second, func(b host.Bench) bool { return b.Link.State == talk.LinkState(wire.Dead) })
		kept.mu.Lock()
		defer kept.mu.Unlock()
		if !slices.ContainsFunc(kept.messages, func(m wire.Message) bool {
			return m.Kind == wire.Stopped && strings.Contains(m.Text, "has stopped")
		}) {
			t.Errorf("the messages are %+v", kept.messages)
		}
	})
}

func TestTheJournalKnowsALineBeforeThePrinterDoes(t *testing.T) {
	files := shelfOf(t, samples.Coupon(3))
	synctest.Test(t, func(t *testing.T) {
		var said, lines atomic.Int64
		h, _, _ := workIn(t, t.TempDir(), files, func() (io.ReadWriteCloser, error) {
			return &overheard{newCable(simprinter.Vesper()), func(number int64) {
				if lines.Add(1); said.Load() > 0 && number >= said.Load() {
					t.Errorf("line %d is said and the journal knows those below %d", number, said.Load())
				}
			}}, nil
		}, func(c *host.Config) { c.Journal = watched{c.Journal, &said} })
		until(t, h, 10*time.Second, isLive)
		if _, err := h.Run.Start(t.Context(), printing.Order{File: "coupon.gcode"}); err != nil {
			t.Fatal(err)
		}
		until(t, h, 2*time.Hour, func(b host.Bench) bool { return b.Run.State == run.Finished })
		if lines.Load() < int64(files.file.Commands) {
			t.Errorf("only %d lines were overheard", lines.Load())
		}
	})
}

// overheard is a port that tells the number of every line on its way out.
type overheard struct {
	*cable
	heard func(number int64)
}

func (o *overheard) Write(p []byte) (int, error) {
	for line := range bytes.Lines(p) {
		var number int64
		if _, err := fmt.Sscanf(string(line), "N%d ", &number); err == nil {
			o.heard(number)
		}
	}
	return o.cable.Write(p)
}

// watched is a journal whose count of lines said is seen; 0 while there is no run.
type watched struct {
	printing.Journal
	said *atomic.Int64
}

func (w watched) Begin(r run.Record) (printing.Book, error) {
	b, err := w.Journal.Begin(r)
	return watchedBook{b, w.said}, err
}

type watchedBook struct {
	printing.Book
	said *atomic.Int64
}

func (w watchedBook) Said(next int) {
	w.Book.Said(next)
	w.said.Store(int64(next))
}

func (w watchedBook) Close(keep bool) {
	w.said.Store(0)
	w.Book.Close(keep)
}
