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

	"go.bug.st/serial"
	"golang.org/x/sys/unix"
)

// serialPort is an open port.
type serialPort struct {
	serial.Port
	file int      // its descriptor; -1 if it was not found
	poll *os.File // the same port, waited for by the runtime's poller; nil: by the library
}

// Read reads what has come, at least a byte.
func (p *serialPort) Read(b []byte) (int, error) {
	if p.poll == nil {
		return p.Port.Read(b)
	}
	return p.poll.Read(b)
}

// Write writes all of b.
func (p *serialPort) Write(b []byte) (int, error) {
	if p.poll == nil {
		return p.Port.Write(b)
	}
	return p.poll.Write(b)
}

// TryWrite writes what the port takes without waiting; none if the port cannot tell.
func (p *serialPort) TryWrite(b []byte) (n int, err error) {
	if p.poll == nil {
		return 0, nil
	}
	raw, err := p.poll.SyscallConn()
	if err != nil {
		return 0, err
	}
	var failed error
	err = raw.Write(func(fd uintptr) bool {
		n, failed = unix.Write(int(fd), b)
		return true
	})
	if failed == unix.EAGAIN || failed == unix.EINTR {
		failed = nil
	}
	return max(n, 0), errors.Join(err, failed)
}

// Close closes the port, whoever waits for it.
func (p *serialPort) Close() error {
	if p.poll != nil {
		p.poll.Close()
	}
	return p.Port.Close()
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
	p := &serialPort{Port: port, file: -1}
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
	p.share(device)
	return p, nil
}

// share lets the runtime's poller wait for the port: the library's own way keeps a
// thread in the kernel for every read, which costs a third of all lines per second.
func (p *serialPort) share(device string) {
	if p.file < 0 {
		return
	}
	fd, err := unix.FcntlInt(uintptr(p.file), unix.F_DUPFD_CLOEXEC, 0)
	if err != nil {
		return
	}
	if unix.SetNonblock(fd, true) != nil { // of both: the library waits before it reads
		unix.Close(fd)
		return
	}
	p.poll = os.NewFile(uintptr(fd), device)
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
