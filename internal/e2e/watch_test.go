package e2e

import (
	"bytes"
	"errors"
	"os"
	"os/exec"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/creack/pty"

	"diathermon/internal/api"
	"diathermon/internal/api/ops"
	"diathermon/internal/client"
	"diathermon/internal/simprinter"
)

// A terminal is a program in a terminal of 80 x 24.
type terminal struct {
	b    *bench
	cmd  *exec.Cmd
	pty  *os.File
	done chan error

	mu  sync.Mutex
	out bytes.Buffer
}

func (b *bench) terminal(args ...string) *terminal {
	b.t.Helper()
	path, err := binary()
	if err != nil {
		b.t.Fatal(err)
	}
	s := &terminal{b: b, cmd: exec.Command(path, args...), done: make(chan error, 1)}
	s.cmd.Env = append(os.Environ(), "TERM=xterm-256color", "HOME="+b.t.TempDir(), "DIATHERMON_URL="+b.service.URL, "DIATHERMON_TOKEN="+b.service.Keeper)
	if s.pty, err = pty.StartWithSize(s.cmd, &pty.Winsize{Rows: 24, Cols: 80}); err != nil {
		b.t.Fatal(err)
	}
	go func() {
		chunk := make([]byte, 4096)
		for {
			n, err := s.pty.Read(chunk)
			s.mu.Lock()
			s.out.Write(chunk[:n])
			s.mu.Unlock()
			if err != nil {
				s.done <- s.cmd.Wait()
				return
			}
		}
	}()
	b.t.Cleanup(func() { s.cmd.Process.Kill(); s.pty.Close() })
	return s
}

// shows waits until the program has drawn a text since it was last asked.
func (s *terminal) shows(text string) {
	s.b.t.Helper()
	s.b.until("the terminal to show "+text, func(api.Bench) bool {
		s.mu.Lock()
		defer s.mu.Unlock()
		at := strings.Index(s.out.String(), text)
		if at >= 0 {
			s.out.Next(at + len(text))
		}
		return at >= 0
	})
}

func (s *terminal) press(keys string) {
	s.b.t.Helper()
	if _, err := s.pty.WriteString(keys); err != nil {
		s.b.t.Fatal(err)
	}
}

func (s *terminal) size(rows, cols uint16) {
	s.b.t.Helper()
	if err := pty.Setsize(s.pty, &pty.Winsize{Rows: rows, Cols: cols}); err != nil {
		s.b.t.Fatal(err)
	}
}

func TestTheLiveViewWorksOnThePrinter(t *testing.T) {
	t.Parallel()
	p := simprinter.Vesper()
	p.Warp = 10
	b := start(t, p).live()
	b.mustSend("knob.gcode", coupon(t, 20), false)
	s := b.terminal("watch")
	s.shows("Vesper")
	s.press("tnozzle0 900\ry")
	s.shows("limit of 285")
	s.press("tnozzle0 60\r")
	s.shows("Heat nozzle0 to 60 °C?")
	s.press("n")
	s.shows("Nothing is done")
	s.press("tnozzle0 60\ry")
	b.until("its heat", func(api.Bench) bool { return b.setpoint() == 60 })
	s.press("tnozzle 0\r")
	b.until("its being off", func(api.Bench) bool { return b.setpoint() == 0 })
	s.press("m0")
	b.until("its being homed", func(now api.Bench) bool { return now.Motion.Homed == "XYZ" && !now.Motion.Going })
	s.press("+\x1b[C\x1b[C\x1b[A\x1b[5~")
	b.until("the head to be there", func(now api.Bench) bool {
		return !now.Motion.Going && now.Motion.X == 20 && now.Motion.Y == 10 && now.Motion.Z == 10
	})
	s.press("x\x1b[C") // not any more
	s.size(0, 0)
	s.size(1, 1)
	s.press("w")
	s.size(24, 80)
	s.shows("G1 ")
	if _, err := client.Call(t.Context(), b.Client, ops.StartRun, ops.Body(api.StartRun{File: "knob.gcode"})); err != nil {
		t.Fatal(err)
	}
	b.untilRun("running")
	s.press("h")
	b.untilRun("held")
	s.press("r")
	b.untilRun("running")
	s.press("s")
	s.shows("Stop knob.gcode?")
	s.press("y")
	b.untilRun("stopped")
	if x := b.place()[0]; x == 30 {
		t.Error("an arrow moved it that was not to")
	}
	s.press("s!") // whatever is asked
	b.until("the emergency stop", func(now api.Bench) bool { return now.Link.State == "dead" })
	s.press("q")
	select {
	case err := <-s.done:
		if err != nil {
			t.Errorf("it ended with %v", err)
		}
	case <-time.After(patience):
		t.Error("q does not end it")
	}
}

// BenchmarkWatch measures what the live view costs while a print goes on in real time:
// bytes over the terminal, and the processor.
func BenchmarkWatch(b *testing.B) {
	const window = 30 * time.Second
	s := start(b, simprinter.Vesper()).live()
	s.mustSend("moves.gcode", []byte("G28\n"+strings.Repeat("G1 X20 Y20 F3000\nG1 X25 Y20\nG1 X25 Y25\nG1 X20 Y25\n", 5000)), true)
	s.untilRun("running")
	for b.Loop() {
		w := s.terminal("watch")
		w.shows("Vesper")
		time.Sleep(window)
		w.mu.Lock()
		bytes := w.out.Len()
		w.mu.Unlock()
		w.press("q")
		if err := <-w.done; err != nil && !errors.Is(err, os.ErrClosed) {
			b.Fatal(err)
		}
		state := w.cmd.ProcessState
		b.ReportMetric(float64(bytes)/window.Seconds(), "bytes/s")
		b.ReportMetric(100*(state.UserTime()+state.SystemTime()).Seconds()/window.Seconds(), "processor-%")
	}
}
