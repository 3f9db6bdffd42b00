package simprinter

import (
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"runtime"
	"sync"
	"time"

	"golang.org/x/sys/unix"
)

// A Device is a Board on a pseudo-terminal. Programs open its Path like any
// serial port.
type Device struct {
	Path string // the stable path: a link to the pseudo-terminal

	cfg     Config
	began   time.Time
	wake    int // an eventfd: something has changed
	quit    chan struct{}
	ended   sync.WaitGroup
	closing sync.Once

	mu     sync.Mutex // guards what follows
	board  *Board
	cable  *Cable
	port   *port   // nil while the cable is pulled
	inward []timed // on the cable towards the board
	onward []timed // on the cable towards the host
	full   time.Duration
	sent   time.Duration // when the cable towards the host is free again
	boot   time.Duration // when the board starts; 0 while it runs
	off    bool          // the board has no power
	loose  time.Duration // nothing gets through until then
	plugAt time.Duration // the cable is put back then; 0: it is in, or stays out
	ready  bool          // DTR, the line that resets most boards as it rises
	lines  int           // line ends received
	bytes  int           // received
	first  time.Duration // when the first byte of them came
	latest time.Duration
	gap    time.Duration // the longest between two arrivals
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
	wake, err := unix.Eventfd(0, unix.EFD_NONBLOCK|unix.EFD_CLOEXEC)
	if err != nil {
		return nil, err
	}
	d := &Device{
		Path: path, cfg: cfg, wake: wake, began: time.Now(), quit: make(chan struct{}),
		board: NewBoard(cfg), cable: NewCable(cfg.Seed),
	}
	d.cable.ToBoard, d.cable.ToHost = cfg.Faults, cfg.Faults
	if d.port, err = plug(path); err != nil {
		unix.Close(wake)
		return nil, err
	}
	d.board.Output() // nobody has the port open to hear the greeting
	d.ended.Add(1)
	go d.run()
	return d, nil
}

// Close takes the printer away, as if its cable were pulled. Once is enough.
func (d *Device) Close() error {
	d.closing.Do(func() {
		close(d.quit)
		d.stir()
		d.ended.Wait()
		d.mu.Lock()
		defer d.mu.Unlock()
		d.pull()
		unix.Close(d.wake)
	})
	return nil
}

// stir lets the device look at what has changed.
func (d *Device) stir() { unix.Write(d.wake, []byte{1, 0, 0, 0, 0, 0, 0, 0}) }

// Do calls f with the board while nothing else uses it.
func (d *Device) Do(f func(*Board)) {
	d.mu.Lock()
	defer d.mu.Unlock()
	f(d.board)
	d.stir()
}

// Traffic is what has come over the cable to the board.
type Traffic struct {
	Lines, Bytes int
	Took         time.Duration // from the first byte to the last
	Gap          time.Duration // the longest time between two arrivals
}

// Received tells what has come over the cable since it was last asked.
func (d *Device) Received() Traffic {
	d.mu.Lock()
	defer d.mu.Unlock()
	t := Traffic{d.lines, d.bytes, d.latest - d.first, d.gap}
	d.lines, d.bytes, d.gap = 0, 0, 0
	return t
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

// run lets the board's clock follow the real one and carries bytes.
func (d *Device) run() {
	defer d.ended.Done()
	runtime.LockOSThread() // which the kernel wakes to the microsecond
	defer runtime.UnlockOSThread()
	unix.Prctl(unix.PR_SET_TIMERSLACK, 1000, 0, 0, 0)
	for {
		d.mu.Lock()
		wait := time.Duration(float64(d.step()) / d.cfg.Warp)
		fds := []unix.PollFd{{Fd: int32(d.wake), Events: unix.POLLIN}}
		if d.port != nil {
			fds = append(fds, unix.PollFd{Fd: int32(d.port.watch), Events: unix.POLLIN})
			if d.waiting() <= cableHolds && d.port.programs > 0 {
				fds = append(fds, unix.PollFd{Fd: int32(d.port.fd), Events: unix.POLLIN})
			}
		}
		d.mu.Unlock()
		timeout := unix.NsecToTimespec(int64(min(max(wait, 0), time.Second)))
		if _, err := unix.Ppoll(fds, &timeout, nil); err != nil && !errors.Is(err, unix.EINTR) {
			return
		}
		select {
		case <-d.quit:
			return
		default:
		}
		var drain [8]byte
		unix.Read(d.wake, drain[:])
		d.mu.Lock()
		d.receive()
		d.mu.Unlock()
	}
}

func (d *Device) waiting() int {
	n := 0
	for _, t := range d.inward {
		n += len(t.data)
	}
	return n
}

// receive notices when a program opens or closes the port, and takes what it
// writes.
func (d *Device) receive() {
	if d.port == nil {
		return
	}
	opened, left := d.port.openings()
	if left && d.port.hangsUp() {
		d.ready = false
	}
	if opened {
		d.opened()
	}
	for d.waiting() <= cableHolds {
		var buf [1024]byte
		n, err := unix.Read(d.port.fd, buf[:])
		if err != nil || n <= 0 {
			return
		}
		d.arrive(append([]byte(nil), buf[:n]...))
	}
}

// mismatch reports whether the program that has the port open has set another
// baud rate than the board's.
func (d *Device) mismatch() bool {
	if d.cfg.Baud <= 0 || d.port == nil {
		return false
	}
	rate := d.port.rate()
	return rate != 0 && rate != d.cfg.Baud
}

// opened is what happens when a program opens the port: as DTR rises most boards
// restart.
func (d *Device) opened() {
	d.onward = nil
	d.board.Advance(d.now())
	if !d.ready && !d.cfg.KeepOnOpen && !d.off {
		d.inward = nil
		d.boot = d.now() + time.Duration(float64(bootTime)*d.cfg.Warp)
	}
	d.ready = true
}

// bootTime is how long, in real time, a board is deaf and mute as it restarts. A
// program sets its baud rate in that time.
const bootTime = 100 * time.Millisecond

// arrive puts bytes on the cable towards the board.
func (d *Device) arrive(data []byte) {
	now := d.now()
	if d.mismatch() {
		for i := range data {
			data[i] ^= 0x5a
		}
	}
	data = d.cable.Up(data)
	if now < d.loose || d.off {
		return
	}
	at := max(now, d.full)
	d.inward = append(d.inward, timed{at: at, data: data})
	d.full = at + time.Duration(len(data))*d.perByte()
}

// slack is how much earlier than exactly a byte may be delivered, so that the
// real clock's coarse timers do not slow the cable down.
const slack = 50 * time.Microsecond

// step brings everything up to now and returns how long nothing will happen.
func (d *Device) step() time.Duration {
	now := d.now()
	per := d.perByte()
	if d.plugAt > 0 && now >= d.plugAt {
		d.plugAt = 0
		d.plugIn()
	}
	if d.off || d.boot > 0 {
		d.inward, d.onward = nil, nil
		d.board.Advance(now)
		d.board.Output()
		switch {
		case d.off:
			return time.Second
		case now < d.boot:
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
		d.count(t.data[:n], t.at+time.Duration(n)*per)
		t.data = t.data[n:]
		t.at += time.Duration(n) * per
		if len(t.data) == 0 {
			d.inward = d.inward[1:]
		}
	}
	d.board.Advance(now)
	if out := d.board.Output(); len(out) > 0 && now >= d.loose {
		out = d.cable.Down(out)
		start := max(now, d.sent)
		d.sent = start + time.Duration(len(out))*per
		ready := d.sent
		if per > 0 {
			ready += d.cfg.Latency // the converter waits for more before it passes on
		}
		d.onward = append(d.onward, timed{at: ready, data: out})
	}
	for len(d.onward) > 0 && d.onward[0].at <= now+slack {
		d.deliver(d.onward[0].data)
		d.onward = d.onward[1:]
	}
	next := d.board.Next()
	if len(d.inward) > 0 {
		next = min(next, d.inward[0].at+time.Duration(min(len(d.inward[0].data), 8))*per)
	}
	if len(d.onward) > 0 {
		next = min(next, d.onward[0].at)
	}
	if d.plugAt > 0 {
		next = min(next, d.plugAt)
	}
	return max(next-now, 0)
}

func (d *Device) count(data []byte, at time.Duration) {
	for _, b := range data {
		if b == '\n' {
			d.lines++
		}
	}
	begins := at - time.Duration(len(data))*d.perByte()
	if d.bytes == 0 {
		d.first = begins
	} else {
		d.gap = max(d.gap, begins-d.latest)
	}
	d.bytes += len(data)
	d.latest = at
}

// deliver hands bytes to whoever has the port open. If nobody reads them the
// kernel's buffer fills and the rest is lost, as on a real cable.
func (d *Device) deliver(data []byte) {
	if d.port == nil || d.port.programs == 0 {
		return
	}
	if d.mismatch() {
		for i := range data {
			data[i] ^= 0xa7
		}
	}
	for len(data) > 0 {
		n, err := unix.Write(d.port.fd, data)
		if err != nil || n <= 0 {
			return
		}
		data = data[n:]
	}
}
