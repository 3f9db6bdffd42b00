package simprinter

import (
	"encoding/binary"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"sync"
	"time"

	"github.com/creack/pty"
	"golang.org/x/sys/unix"
	"golang.org/x/term"
)

// A Device is a Board on a pseudo-terminal. Programs open its Path like any
// serial port.
type Device struct {
	Path string // the stable path: a link to the pseudo-terminal

	cfg      Config
	master   *os.File
	watch    int // the kernel's queue of openings and closings
	began    time.Time
	incoming chan []byte   // read from the pseudo-terminal
	opened   chan struct{} // a program has opened the port
	quit     chan struct{}
	ended    sync.WaitGroup
	closing  sync.Once

	mu     sync.Mutex // guards what follows
	board  *Board
	inward []timed // on the cable towards the board
	onward []timed // on the cable towards the host
	full   time.Duration
	boot   time.Duration // when the board starts; 0 while it runs
	sent   time.Duration // when the cable towards the host is free again
}

// timed is a run of bytes and when its first one arrives; the rest follow at
// the baud rate.
type timed struct {
	at   time.Duration
	data []byte
}

// cableHolds is how many bytes towards the board may wait in the converter and
// the kernel before a writer has to wait.
const cableHolds = 4096

// Open makes a pseudo-terminal in raw mode, links path to it and puts a Board
// behind it. A link that is left over from an earlier stand-in is replaced;
// anything else at path is left alone and is an error.
func Open(path string, cfg Config) (*Device, error) {
	cfg = cfg.withDefaults()
	path, err := filepath.Abs(path)
	if err != nil {
		return nil, err
	}
	if info, err := os.Lstat(path); err == nil && info.Mode()&os.ModeSymlink == 0 {
		return nil, fmt.Errorf("%s is there already and is not a stand-in's link: choose another path", path)
	}
	master, slave, err := pty.Open()
	if err != nil {
		return nil, fmt.Errorf("no pseudo-terminal to be had: %w", err)
	}
	name := slave.Name()
	_, err = term.MakeRaw(int(slave.Fd()))
	slave.Close() // from now on the kernel tells when a program opens it
	if err == nil {
		err = unix.SetNonblock(int(master.Fd()), true)
	}
	watch := -1
	if err == nil {
		watch, err = unix.InotifyInit1(unix.IN_NONBLOCK | unix.IN_CLOEXEC)
	}
	if err == nil {
		_, err = unix.InotifyAddWatch(watch, name, unix.IN_OPEN|unix.IN_CLOSE)
	}
	if err == nil {
		err = link(name, path)
	}
	if err != nil {
		unix.Close(watch)
		master.Close()
		return nil, err
	}
	d := &Device{
		Path: path, cfg: cfg, master: master, watch: watch, began: time.Now(),
		incoming: make(chan []byte), opened: make(chan struct{}), quit: make(chan struct{}),
		board: NewBoard(cfg),
	}
	d.board.Output() // nobody has the port open to hear the greeting
	d.ended.Add(2)
	go d.read()
	go d.run()
	return d, nil
}

// link points path at name in one step.
func link(name, path string) error {
	if err := os.MkdirAll(filepath.Dir(path), 0o755); err != nil {
		return err
	}
	next := fmt.Sprintf("%s.%d", path, os.Getpid())
	os.Remove(next)
	if err := os.Symlink(name, next); err != nil {
		return err
	}
	return os.Rename(next, path)
}

// Close takes the printer away, as if its cable were pulled. Once is enough.
func (d *Device) Close() (err error) {
	d.closing.Do(func() {
		close(d.quit)
		d.ended.Wait()
		os.Remove(d.Path)
		err = d.master.Close()
	})
	return err
}

// Do calls f with the board while nothing else uses it.
func (d *Device) Do(f func(*Board)) {
	d.mu.Lock()
	defer d.mu.Unlock()
	f(d.board)
}

// now is the board's time.
func (d *Device) now() time.Duration {
	return time.Duration(float64(time.Since(d.began)) * d.cfg.Warp)
}

// perByte is how long one byte with its start and stop bit takes on the cable.
func (d *Device) perByte() time.Duration {
	if d.cfg.Baud <= 0 {
		return 0
	}
	return 10 * time.Second / time.Duration(d.cfg.Baud)
}

// read passes on what programs write and notices when one opens the port. The
// kernel queues openings and closings, so that none is missed however quickly
// they follow each other.
func (d *Device) read() {
	defer d.ended.Done()
	defer unix.Close(d.watch)
	fd := int(d.master.Fd())
	programs := 0 // that have the port open
	for {
		select {
		case <-d.quit:
			return
		default:
		}
		fds := []unix.PollFd{{Fd: int32(d.watch), Events: unix.POLLIN}, {Fd: int32(fd), Events: unix.POLLIN}}
		if _, err := unix.Poll(fds, 50); err != nil && !errors.Is(err, unix.EINTR) {
			return
		}
		opened := false
		opened, programs = d.openings(programs)
		if opened {
			select {
			case d.opened <- struct{}{}:
			case <-d.quit:
				return
			}
		}
		events := fds[1].Revents
		if events&unix.POLLIN == 0 {
			if events&unix.POLLHUP != 0 { // poll returns at once while nobody has it open
				select {
				case <-d.quit:
					return
				case <-time.After(5 * time.Millisecond):
				}
			}
			continue
		}
		buf := make([]byte, 1024)
		n, err := unix.Read(fd, buf)
		if err != nil || n == 0 {
			continue
		}
		select {
		case d.incoming <- buf[:n]:
		case <-d.quit:
			return
		}
	}
}

// openings reads what the kernel has queued and tells whether the port was
// opened while no program had it open, and how many have now.
func (d *Device) openings(programs int) (opened bool, now int) {
	var buf [4096]byte
	n, err := unix.Read(d.watch, buf[:])
	if err != nil {
		return false, programs
	}
	for at := 0; at+unix.SizeofInotifyEvent <= n; {
		mask := binary.NativeEndian.Uint32(buf[at+4:])
		named := binary.NativeEndian.Uint32(buf[at+12:])
		if mask&unix.IN_OPEN != 0 {
			opened = opened || programs == 0
			programs++
		} else {
			programs = max(programs-1, 0)
		}
		at += unix.SizeofInotifyEvent + int(named)
	}
	return opened, programs
}

// mismatch reports whether the program that has the port open has set another
// baud rate than the board's.
func (d *Device) mismatch() bool {
	if d.cfg.Baud <= 0 {
		return false
	}
	t, err := unix.IoctlGetTermios(int(d.master.Fd()), unix.TCGETS2)
	return err == nil && t.Ospeed != 0 && t.Ospeed != 38400 && int(t.Ospeed) != d.cfg.Baud
}

// run lets the board's clock follow the real one.
func (d *Device) run() {
	defer d.ended.Done()
	timer := time.NewTimer(0)
	defer timer.Stop()
	for {
		d.mu.Lock()
		wait := d.step()
		waiting := 0
		for _, t := range d.inward {
			waiting += len(t.data)
		}
		d.mu.Unlock()
		incoming := d.incoming
		if waiting > cableHolds {
			incoming = nil
		}
		timer.Reset(time.Duration(float64(wait) / d.cfg.Warp))
		select {
		case <-d.quit:
			return
		case <-d.opened:
			d.mu.Lock()
			d.plugged()
			d.mu.Unlock()
		case data := <-incoming:
			d.mu.Lock()
			d.arrive(data)
			d.mu.Unlock()
		case <-timer.C:
		}
	}
}

// plugged is what happens when a program opens the port: most boards restart.
func (d *Device) plugged() {
	d.inward, d.onward = nil, nil
	d.board.Advance(d.now())
	if !d.cfg.KeepOnOpen {
		d.boot = d.now() + time.Duration(float64(bootTime)*d.cfg.Warp)
	}
}

// bootTime is how long, in real time, a board is deaf and mute after the port
// was opened. A program sets its baud rate in that time.
const bootTime = 30 * time.Millisecond

// arrive puts bytes on the cable towards the board.
func (d *Device) arrive(data []byte) {
	if d.mismatch() {
		for i := range data {
			data[i] ^= 0x5a
		}
	}
	at := max(d.now(), d.full)
	d.inward = append(d.inward, timed{at: at, data: data})
	d.full = at + time.Duration(len(data))*d.perByte()
}

// slack is how much earlier than exactly a byte may be delivered, so that the
// real clock's coarse timers do not slow the cable down.
const slack = 500 * time.Microsecond

// step brings everything up to now and returns how long nothing will happen.
func (d *Device) step() time.Duration {
	now := d.now()
	per := d.perByte()
	if d.boot > 0 {
		d.inward, d.onward = nil, nil
		d.board.Advance(now)
		d.board.Output()
		if now < d.boot {
			return d.boot - now
		}
		d.boot = 0
		d.board.Reset()
	}
	for len(d.inward) > 0 {
		t := &d.inward[0]
		n := len(t.data)
		if per > 0 {
			n = min(n, int((now+slack-t.at)/per))
		}
		if n <= 0 {
			break
		}
		d.board.Advance(min(max(t.at, d.board.Now()), now))
		d.board.Receive(t.data[:n])
		t.data = t.data[n:]
		t.at += time.Duration(n) * per
		if len(t.data) == 0 {
			d.inward = d.inward[1:]
		}
	}
	d.board.Advance(now)
	if out := d.board.Output(); len(out) > 0 {
		start := max(now, d.sent)
		d.sent = start + time.Duration(len(out))*per
		ready := d.sent
		if per > 0 {
			ready += d.cfg.Latency // the converter waits for more before it passes on
		}
		d.onward = append(d.onward, timed{at: ready, data: out})
	}
	for len(d.onward) > 0 && d.onward[0].at <= now+slack {
		if d.mismatch() {
			for i := range d.onward[0].data {
				d.onward[0].data[i] ^= 0xa7
			}
		}
		d.write(d.onward[0].data)
		d.onward = d.onward[1:]
	}
	next := d.board.Next()
	if len(d.inward) > 0 {
		next = min(next, d.inward[0].at+per)
	}
	if len(d.onward) > 0 {
		next = min(next, d.onward[0].at)
	}
	return max(next-now, 0)
}

// write hands bytes to whoever has the port open. If nobody reads them the
// kernel's buffer fills and the rest is lost, as on a real cable.
func (d *Device) write(data []byte) {
	fd := int(d.master.Fd())
	for len(data) > 0 {
		fds := []unix.PollFd{{Fd: int32(fd), Events: unix.POLLOUT}}
		if n, err := unix.Poll(fds, 0); err != nil || n == 0 || fds[0].Revents&unix.POLLOUT == 0 {
			return
		}
		n, err := unix.Write(fd, data)
		if err != nil {
			return
		}
		data = data[n:]
	}
}
