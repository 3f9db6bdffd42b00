package port

import (
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"

	"go.bug.st/serial/enumerator"
)

// A Port is a serial port of this computer.
type Port struct {
	Path    string // stable: the same whichever way the cable is plugged in
	Device  string // as the kernel calls it now
	Maker   string // as USB tells; may be empty
	Product string
	Serial  string
	UsedBy  string // another program that has it open, in words; empty if none has
}

// Where Linux keeps stable paths, and where it tells of USB devices.
const (
	byID = "/dev/serial/by-id"
	tty  = "/sys/class/tty"
)

// List lists the ports that something may be plugged into, those on USB first.
// Plain ports of a PC that lead nowhere are left out.
func List() []Port {
	stable := map[string]string{}
	if entries, err := os.ReadDir(byID); err == nil {
		for _, e := range entries {
			path := filepath.Join(byID, e.Name())
			if real, err := filepath.EvalSymlinks(path); err == nil {
				stable[real] = path
			}
		}
	}
	found, err := enumerator.GetDetailedPortsList()
	if err != nil {
		found = nil
	}
	var out []Port
	seen := map[string]bool{}
	for _, f := range found {
		if !f.IsUSB && stable[f.Name] == "" {
			continue
		}
		p := Port{Path: f.Name, Device: f.Name, Product: f.Product, Serial: f.SerialNumber, Maker: usbWord(f.Name, "manufacturer")}
		if path := stable[f.Name]; path != "" {
			p.Path = path
		}
		seen[f.Name] = true
		out = append(out, p)
	}
	for real, path := range stable { // what the library does not know
		if !seen[real] {
			out = append(out, Port{Path: path, Device: real, Maker: usbWord(real, "manufacturer"), Product: usbWord(real, "product"), Serial: usbWord(real, "serial")})
		}
	}
	for i := range out {
		out[i].UsedBy = holder(out[i].Device)
	}
	slices.SortFunc(out, func(a, b Port) int { return strings.Compare(a.Path, b.Path) })
	return out
}

// usbWord reads what USB tells of the device that a port belongs to: of the
// nearest of its parents that has a file of that name.
func usbWord(device, word string) string {
	dir, err := filepath.EvalSymlinks(filepath.Join(tty, filepath.Base(device), "device"))
	if err != nil {
		return ""
	}
	for range 4 {
		if b, err := os.ReadFile(filepath.Join(dir, word)); err == nil {
			return strings.TrimSpace(string(b))
		}
		dir = filepath.Dir(dir)
	}
	return ""
}

// holder names another program that has a device open, or nothing. Programs of
// other persons are seen by root alone.
func holder(device string) string {
	real, err := filepath.EvalSymlinks(device)
	if err != nil {
		return ""
	}
	processes, err := filepath.Glob("/proc/[0-9]*")
	if err != nil {
		return ""
	}
	for _, dir := range processes {
		pid, err := strconv.Atoi(filepath.Base(dir))
		if err != nil || pid == os.Getpid() {
			continue
		}
		open, err := os.ReadDir(filepath.Join(dir, "fd"))
		if err != nil {
			continue
		}
		has, makes := false, false
		for _, e := range open {
			target, _ := os.Readlink(filepath.Join(dir, "fd", e.Name()))
			has = has || target == real
			makes = makes || isMaster(dir, e.Name(), target, real)
		}
		if has && !makes {
			name, _ := os.ReadFile(filepath.Join(dir, "comm"))
			return fmt.Sprintf("%s (process %d)", strings.TrimSpace(string(name)), pid)
		}
	}
	return ""
}

// isMaster reports whether a process's open file is the other end of a
// pseudo-terminal: that process makes the port, as bridges to a network or a radio do,
// and it is no rival if it keeps our end open, too.
func isMaster(process, fd, target, device string) bool {
	number, is := strings.CutPrefix(device, "/dev/pts/")
	if !is || !strings.HasSuffix(target, "/ptmx") {
		return false
	}
	info, err := os.ReadFile(filepath.Join(process, "fdinfo", fd))
	if err != nil {
		return false
	}
	for line := range strings.Lines(string(info)) {
		if index, ok := strings.CutPrefix(line, "tty-index:"); ok {
			return strings.TrimSpace(index) == number
		}
	}
	return false
}

// choose returns the device to open, or why there is none.
func choose(device string) (string, error) {
	if device != "" {
		return device, nil
	}
	switch ports := List(); len(ports) {
	case 0:
		return "", errors.New("no printer is plugged in: plug its cable in and switch it on, or name the port with --device")
	case 1:
		return ports[0].Path, nil
	default:
		paths := make([]string, len(ports))
		for i, p := range ports {
			paths[i] = p.Path
		}
		return "", fmt.Errorf("there are several ports; name one with --device: %s", strings.Join(paths, ", "))
	}
}
