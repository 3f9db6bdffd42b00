package simprinter

import (
	"encoding/binary"
	"fmt"
	"os"
	"path/filepath"

	"github.com/creack/pty"
	"golang.org/x/sys/unix"
	"golang.org/x/term"
)

// port is the pseudo-terminal of a cable that is plugged in.
type port struct {
	master   *os.File
	fd       int // its descriptor; asking master for it would make it block
	watch    int // the kernel's queue of openings and closings
	programs int // that have it open
}

// plug makes a pseudo-terminal that path leads to.
func plug(path string) (*port, error) {
	master, slave, err := pty.Open()
	if err != nil {
		return nil, fmt.Errorf("no pseudo-terminal to be had: %w", err)
	}
	p := &port{master: master, fd: int(master.Fd()), watch: -1}
	name := slave.Name()
	_, err = term.MakeRaw(int(slave.Fd()))
	if err == nil {
		err = hangUp(int(slave.Fd()))
	}
	slave.Close() // from now on the kernel tells when a program opens it
	if err == nil {
		err = unix.SetNonblock(p.fd, true)
	}
	if err == nil {
		p.watch, err = unix.InotifyInit1(unix.IN_NONBLOCK | unix.IN_CLOEXEC)
	}
	if err == nil {
		_, err = unix.InotifyAddWatch(p.watch, name, unix.IN_OPEN|unix.IN_CLOSE)
	}
	if err == nil {
		err = link(name, path)
	}
	if err != nil {
		p.close()
		return nil, err
	}
	return p, nil
}

// hangUp sets what real ports have from the start: DTR falls as they are closed.
func hangUp(fd int) error {
	t, err := unix.IoctlGetTermios(fd, unix.TCGETS)
	if err != nil {
		return err
	}
	t.Cflag |= unix.HUPCL
	return unix.IoctlSetTermios(fd, unix.TCSETS, t)
}

func (p *port) close() {
	if p.watch >= 0 {
		unix.Close(p.watch)
	}
	p.master.Close()
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

// openings reads what the kernel has queued: it misses none, however quickly they
// follow each other. Opened tells that nobody had it open before, left that for a
// moment nobody had.
func (p *port) openings() (opened, left bool) {
	var buf [4096]byte
	n, err := unix.Read(p.watch, buf[:])
	if err != nil {
		return false, false
	}
	for at := 0; at+unix.SizeofInotifyEvent <= n; {
		mask := binary.NativeEndian.Uint32(buf[at+4:])
		named := binary.NativeEndian.Uint32(buf[at+12:])
		if mask&unix.IN_OPEN != 0 {
			opened = opened || p.programs == 0
			p.programs++
		} else {
			p.programs = max(p.programs-1, 0)
			left = left || p.programs == 0
		}
		at += unix.SizeofInotifyEvent + int(named)
	}
	return opened, left
}

// hangsUp reports whether DTR falls when the port is closed.
func (p *port) hangsUp() bool {
	t, err := unix.IoctlGetTermios(p.fd, unix.TCGETS2)
	return err == nil && t.Cflag&unix.HUPCL != 0
}

// rate is the baud rate that a program has set; 0 if none has set one.
func (p *port) rate() int {
	const untouched = 38400 // what a pseudo-terminal begins with
	t, err := unix.IoctlGetTermios(p.fd, unix.TCGETS2)
	if err != nil || t.Ospeed == untouched {
		return 0
	}
	return int(t.Ospeed)
}
