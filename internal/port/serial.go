package port

import (
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"os/user"
	"path/filepath"
	"strconv"
	"syscall"
	"time"
	"unsafe"

	"go.bug.st/serial"
	"golang.org/x/sys/unix"
)

// serialPort is an open port, read and written by the library.
type serialPort struct {
	serial.Port
	file int // its descriptor; -1 if it was not found
}

// polledPort is an open port that the runtime's poller waits for: the library's own way
// keeps a thread in the kernel for every read, which costs a third of all lines per second.
type polledPort struct {
	serialPort
	poll *os.File // the same port, of which nothing waits in the kernel
	raw  syscall.RawConn
}

// Read reads what has come, at least a byte, or fails with os.ErrDeadlineExceeded.
func (p *polledPort) Read(b []byte) (n int, err error) {
	waited := p.raw.Read(func(fd uintptr) bool {
		n, err = transfer(syscall.SYS_READ, fd, b)
		return err != syscall.EAGAIN
	})
	if waited != nil {
		return 0, waited
	}
	return n, ended(n, err)
}

// TryRead reads what has come; none if nothing has.
func (p *polledPort) TryRead(b []byte) (n int, err error) {
	gone := p.raw.Control(func(fd uintptr) { n, err = transfer(syscall.SYS_READ, fd, b) })
	if err == syscall.EAGAIN {
		return 0, gone
	}
	return n, errors.Join(gone, ended(n, err))
}

// ended is the error of a read: one of no bytes is the end.
func ended(n int, err error) error {
	if n == 0 && err == nil {
		return io.EOF
	}
	return err
}

// SetReadDeadline sets until when Read waits.
func (p *polledPort) SetReadDeadline(until time.Time) error { return p.poll.SetReadDeadline(until) }

// Write writes all of b.
func (p *polledPort) Write(b []byte) (int, error) { return p.poll.Write(b) }

// TryWrite writes what the port takes without waiting.
func (p *polledPort) TryWrite(b []byte) (n int, err error) {
	gone := p.raw.Control(func(fd uintptr) { n, err = transfer(syscall.SYS_WRITE, fd, b) })
	if err == syscall.EAGAIN {
		err = nil
	}
	return n, errors.Join(gone, err)
}

// Close closes the port, whoever waits for it.
func (p *polledPort) Close() error {
	p.poll.Close()
	return p.Port.Close()
}

// transfer reads or writes what can be at once; EAGAIN: nothing can. The runtime is not
// told: of a descriptor that keeps nobody waiting this is over in microseconds, and telling it
// wakes a thread that watches over system calls, which costs as much as all that is done for a
// line.
func transfer(call, fd uintptr, b []byte) (int, error) {
	for {
		n, _, failed := syscall.RawSyscall(call, fd, uintptr(unsafe.Pointer(unsafe.SliceData(b))), uintptr(len(b)))
		switch failed {
		case 0:
			return int(n), nil
		case syscall.EINTR: // what has come already is announced no more
		default:
			return 0, failed
		}
	}
}

// Resetter is a port that can make the board at its end restart.
type Resetter interface {
	// ResetOnClose lets the line that most boards take as their reset fall when
	// the port is closed, so that it rises when it is opened again.
	ResetOnClose()
}

// OpenSerial opens a port for this process alone. The library's descriptor would
// be inherited by every program started later, and a port that such a program
// keeps open is not closed when we close it. The line that resets most boards
// (DTR) stays as it is when the port is closed, so that a host that comes back
// does not reset the board.
func OpenSerial(device string, baud int) (io.ReadWriteCloser, error) {
	syscall.ForkLock.RLock() // nothing is started between opening and marking
	defer syscall.ForkLock.RUnlock()
	port, err := serial.Open(device, &serial.Mode{BaudRate: baud})
	if err != nil {
		return nil, err
	}
	p := serialPort{Port: port, file: -1}
	real, err := filepath.EvalSymlinks(device)
	if err != nil {
		real = device
	}
	open, _ := os.ReadDir("/proc/self/fd")
	for _, e := range open {
		fd, err := strconv.Atoi(e.Name())
		if target, _ := os.Readlink("/proc/self/fd/" + e.Name()); err == nil && target == real {
			syscall.CloseOnExec(fd)
			p.file = fd
		}
	}
	p.hangUp(false)
	if polled := p.share(device); polled != nil {
		return polled, nil
	}
	return &p, nil
}

// share lets the runtime's poller wait for the port; nil: it cannot.
func (p serialPort) share(device string) *polledPort {
	if p.file < 0 {
		return nil
	}
	fd, err := unix.FcntlInt(uintptr(p.file), unix.F_DUPFD_CLOEXEC, 0)
	if err != nil {
		return nil
	}
	if unix.SetNonblock(fd, true) != nil { // of both: the library waits before it reads
		unix.Close(fd)
		return nil
	}
	poll := os.NewFile(uintptr(fd), device)
	raw, err := poll.SyscallConn()
	if err != nil || poll.SetReadDeadline(time.Time{}) != nil { // the poller does not know it
		poll.Close()
		return nil
	}
	return &polledPort{serialPort: p, poll: poll, raw: raw}
}

// hangUp sets whether DTR falls when the port is closed.
func (p *serialPort) hangUp(falls bool) {
	if p.file < 0 {
		return
	}
	t, err := unix.IoctlGetTermios(p.file, unix.TCGETS2)
	if err != nil {
		return
	}
	t.Cflag &^= unix.HUPCL
	if falls {
		t.Cflag |= unix.HUPCL
	}
	unix.IoctlSetTermios(p.file, unix.TCSETS2, t)
}

func (p *serialPort) ResetOnClose() { p.hangUp(true) }

// explain says in words why a port could not be opened.
func explain(device string, err error) string {
	var portErr *serial.PortError
	code := serial.PortErrorCode(-1)
	if errors.As(err, &portErr) {
		code = portErr.Code()
	}
	switch {
	case errors.Is(err, fs.ErrNotExist) || code == serial.PortNotFound:
		return fmt.Sprintf("there is no port %s: is the cable plugged in and the printer switched on?", device)
	case errors.Is(err, fs.ErrPermission) || code == serial.PermissionDenied:
		return fmt.Sprintf("this user may not open %s: %s", device, permission(device))
	case errors.Is(err, syscall.EBUSY) || code == serial.PortBusy:
		return fmt.Sprintf("another program has %s open: close it", device)
	case code == serial.InvalidSerialPort:
		return fmt.Sprintf("%s is not a serial port", device)
	case code == serial.InvalidSpeed:
		return fmt.Sprintf("%s cannot be set to this baud rate", device)
	}
	return fmt.Sprintf("%s cannot be opened: %v", device, err)
}

// permission names the group that may open device.
func permission(device string) string {
	info, err := os.Stat(device)
	if err != nil {
		return "ask for access to it"
	}
	if st, ok := info.Sys().(*syscall.Stat_t); ok && st.Gid != 0 {
		if g, err := user.LookupGroupId(strconv.Itoa(int(st.Gid))); err == nil {
			return fmt.Sprintf("add it to the group with 'sudo usermod -aG %s USER' and sign in again", g.Name)
		}
	}
	return "ask for access to it"
}
