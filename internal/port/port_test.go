package port_test

import (
	"errors"
	"io"
	"os"
	"path/filepath"
	"runtime"
	"strings"
	"sync"
	"sync/atomic"
	"syscall"
	"testing"
	"testing/synctest"
	"time"

	"github.com/creack/pty"

	"diathermon/internal/port"
)

// slow is a port that takes a write only when it is let.
type slow struct {
	let   chan struct{}
	mu    sync.Mutex
	taken []string
	err   error
}

func (s *slow) Write(b []byte) (int, error) {
	<-s.let
	s.mu.Lock()
	defer s.mu.Unlock()
	s.taken = append(s.taken, string(b))
	return len(b), s.err
}

func TestWhatIsUrgentGoesAheadOfAllThatWaits(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		s := &slow{let: make(chan struct{})}
		w := port.NewWriter(s, func(error) {})
		if !w.Write([]byte("1")) {
			t.Fatal("there is no room")
		}
		synctest.Wait() // it is being written
		for _, line := range []string{"2", "3"} {
			w.Write([]byte(line))
		}
		w.Urge([]byte("M112"))
		for range 4 {
			s.let <- struct{}{}
		}
		synctest.Wait()
		if got := strings.Join(s.taken, " "); got != "1 M112 2 3" {
			t.Errorf("written in the order %s", got)
		}
		select {
		case <-w.Out():
		default:
			t.Error("nobody is told when it was written")
		}
		w.Quit()
	})
}

// narrow is a port that takes three bytes at once, and more when it is waited for.
type narrow struct{ slow }

func (n *narrow) TryWrite(b []byte) (int, error) {
	n.taken = append(n.taken, string(b[:min(3, len(b))]))
	return min(3, len(b)), nil
}

func TestNothingComesIntoTheMiddleOfALine(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		n := &narrow{slow{let: make(chan struct{})}}
		w := port.NewWriter(n, func(error) {})
		w.Write([]byte("G1\n"))    // at once
		w.Write([]byte("G28 X\n")) // in part
		w.Urge([]byte("\nM112\n"))
		w.Write([]byte("G2\n"))
		for range 3 {
			n.let <- struct{}{}
		}
		synctest.Wait()
		if got := strings.Join(n.taken, ""); got != "G1\nG28 X\n\nM112\nG2\n" {
			t.Errorf("written: %q", got)
		}
		w.Quit()
	})
}

func TestAPortThatTakesNothingKeepsNobodyWaiting(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		s := &slow{let: make(chan struct{}), err: errors.New("gone")}
		failed := 0
		w := port.NewWriter(s, func(error) { failed++ })
		room := 0
		for w.Write([]byte("x")) {
			if room++; room > 1000 {
				t.Fatal("it takes without end")
			}
			synctest.Wait()
		}
		for range 10 {
			w.Urge([]byte("M112"))
		}
		s.let <- struct{}{}
		synctest.Wait()
		if failed != 1 {
			t.Errorf("its failure was told %d times", failed)
		}
	})
}

func TestAReaderTellsTheEnd(t *testing.T) {
	in, out := io.Pipe()
	r := port.Read(in)
	go func() {
		out.Write([]byte("ok\n"))
		out.CloseWithError(syscall.EIO)
	}()
	if got, err := r.Next(time.Now().Add(time.Minute)); string(got) != "ok\n" || err != nil {
		t.Errorf("read %q, %v", got, err)
	}
	if _, err := r.Next(time.Now().Add(time.Minute)); !errors.Is(err, syscall.EIO) {
		t.Errorf("it ended with %v", err)
	}
	r.Quit()
}

// soon is later than anything that a test waits for.
func soon() time.Time { return time.Now().Add(time.Minute) }

func TestWhoReadsIsWokenAndMissesNothing(t *testing.T) {
	board, _, p := open(t)
	in, out := io.Pipe()
	for name, c := range map[string]struct {
		r    port.Reader
		from io.Writer
	}{"a serial port": {port.Read(p), board}, "one that cannot be waited for": {port.Read(in), out}} {
		t.Run(name, func(t *testing.T) {
			defer c.r.Quit()
			if got, err := c.r.Next(time.Now().Add(time.Millisecond)); len(got) > 0 || err != nil {
				t.Errorf("at its time it has %q, %v", got, err)
			}
			c.r.Wake()
			if got, err := c.r.Next(soon()); len(got) > 0 || err != nil {
				t.Errorf("woken before it waits it has %q, %v", got, err)
			}
			const wakes = 1000
			var called, seen atomic.Int64
			go func() { // each wake is seen before the next, whatever it meets
				for range wakes {
					called.Add(1)
					c.r.Wake()
					for seen.Load() != called.Load() {
						runtime.Gosched()
					}
				}
			}()
			for seen.Load() < wakes {
				if got, err := c.r.Next(soon()); len(got) > 0 || err != nil {
					t.Fatalf("woken it has %q, %v", got, err)
				}
				seen.Store(called.Load())
			}
			go c.from.Write([]byte("ok\n"))
			var got []byte
			for end := soon(); string(got) != "ok\n"; {
				c.r.Wake() // by somebody who never stops
				data, err := c.r.Next(soon())
				if err != nil || time.Now().After(end) {
					t.Fatalf("under wakes without end it has read %q, %v", got, err)
				}
				got = append(got, data...)
			}
		})
	}
}

// open returns a serial port, its path and the board at its other end.
func open(t *testing.T) (board *os.File, path string, p io.ReadWriteCloser) {
	t.Helper()
	board, name, err := pty.Open()
	if err != nil {
		t.Fatal(err)
	}
	name.Close()
	t.Cleanup(func() { board.Close() })
	if p, err = port.OpenSerial(name.Name(), 115200); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { p.Close() })
	return board, name.Name(), p
}

func TestARealPortIsReadWrittenAndClosed(t *testing.T) {
	board, path, p := open(t)
	if _, timed := p.(port.Timed); !timed {
		t.Error("a goroutine has to wait for it")
	}
	if _, err := p.Write([]byte("M115\n")); err != nil {
		t.Fatal(err)
	}
	buf := make([]byte, 64)
	if n, err := board.Read(buf); err != nil || string(buf[:n]) != "M115\n" {
		t.Errorf("the board read %q, %v", buf[:n], err)
	}
	board.Write([]byte("ok\n"))
	if n, err := p.Read(buf); err != nil || string(buf[:n]) != "ok\n" {
		t.Errorf("read %q, %v", buf[:n], err)
	}
	ended := make(chan error, 1)
	go func() {
		_, err := p.Read(make([]byte, 1))
		ended <- err
	}()
	p.Close()
	if err := <-ended; err == nil {
		t.Error("who waits for a port that is closed reads on")
	}
	open, _ := os.ReadDir("/proc/self/fd")
	for _, e := range open {
		if target, _ := os.Readlink(filepath.Join("/proc/self/fd", e.Name())); target == path {
			t.Error("it is open still")
		}
	}
}

func TestAPortThatIsNotThereIsExplained(t *testing.T) {
	closed := make(chan struct{})
	close(closed)
	file := filepath.Join(t.TempDir(), "file")
	os.WriteFile(file, nil, 0o600)
	for device, want := range map[string]string{filepath.Join(t.TempDir(), "none"): "there is no port", file: "is not a serial port"} {
		o := port.Begin(device, 115200, port.OpenSerial, closed)
		if got := <-o.Done; got.Port != nil || !strings.Contains(got.Why, want) || got.Device != device {
			t.Errorf("%s: %+v, want %q", device, got, want)
		}
	}
}
