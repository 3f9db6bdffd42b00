package host

import (
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"os/user"
	"path/filepath"
	"strconv"
	"strings"
	"syscall"

	"go.bug.st/serial"
)

// openSerial opens a port for this process alone. The library's descriptor would
// be inherited by every program started later, and a port that such a program
// keeps open is not closed when we close it: the board would not restart.
func openSerial(device string, baud int) (io.ReadWriteCloser, error) {
	syscall.ForkLock.RLock() // nothing is started between opening and marking
	defer syscall.ForkLock.RUnlock()
	port, err := serial.Open(device, &serial.Mode{BaudRate: baud})
	if err != nil {
		return nil, err
	}
	real, err := filepath.EvalSymlinks(device)
	if err != nil {
		real = device
	}
	open, _ := os.ReadDir("/proc/self/fd")
	for _, e := range open {
		fd, err := strconv.Atoi(e.Name())
		if target, _ := os.Readlink("/proc/self/fd/" + e.Name()); err == nil && target == real {
			syscall.CloseOnExec(fd)
		}
	}
	return port, nil
}

// byID is where Linux keeps paths that stay the same whichever way a cable is
// plugged in.
const byID = "/dev/serial/by-id"

// Ports lists the stable paths of the serial ports that are plugged in.
func Ports() []string {
	entries, err := os.ReadDir(byID)
	if err != nil {
		return nil
	}
	var out []string
	for _, e := range entries {
		out = append(out, filepath.Join(byID, e.Name()))
	}
	return out
}

// choose returns the device to open, or why there is none.
func choose(device string) (string, error) {
	if device != "" {
		return device, nil
	}
	switch ports := Ports(); len(ports) {
	case 0:
		return "", errors.New("no printer is plugged in: plug its cable in and switch it on, or name the port with --device")
	case 1:
		return ports[0], nil
	default:
		return "", fmt.Errorf("there are several ports; name one with --device: %s", strings.Join(ports, ", "))
	}
}

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

// writer carries bytes to a port that may be slow, a halt ahead of all else.
type writer struct {
	normal chan []byte
	urgent chan []byte
	quit   chan struct{}
}

func newWriter(port io.Writer, failed func(error)) *writer {
	w := &writer{normal: make(chan []byte, 64), urgent: make(chan []byte, 4), quit: make(chan struct{})}
	go func() {
		for {
			var b []byte
			select {
			case b = <-w.urgent:
			default:
				select {
				case b = <-w.urgent:
				case b = <-w.normal:
				case <-w.quit:
					return
				}
			}
			if _, err := port.Write(b); err != nil {
				failed(err)
				return
			}
		}
	}()
	return w
}
