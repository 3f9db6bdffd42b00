package wire

import (
	"strconv"
	"strings"
	"time"
)

// Kind sorts what a printer says.
type Kind int

// The kinds of line a printer says.
const (
	Other  Kind = iota // a message, an echo, a reply's text
	OK                 // a line has been taken
	Resend             // a line is wanted again
	Skip               // a line that it has already came again, and is skipped; an ok follows
	Busy               // still working on a line
	Idle               // waiting for a line
	Start              // the board has just started
	Error              // something is wrong with a line, or with the machine
	Fatal              // the firmware has stopped until it is reset
	Action             // a host-action comment: "//action:pause"
	Report             // temperatures or a position, unasked
)

// A Reply is one line from the printer, sorted.
type Reply struct {
	Kind   Kind
	Number int    // OK, Resend and Skip: the line meant; -1 if none is named
	Slots  int    // OK: free command slots; -1 if it does not say
	Text   string // the line without its line end; for Action what follows the colon
}

// whole reads a number that is all there is; -1 for anything else.
func whole(s string) int {
	if n := leadingNumber(s); n >= 0 && strconv.Itoa(n) == s {
		return n
	}
	return -1
}

func firstNumber(s string) int {
	i := strings.IndexAny(s, "0123456789")
	if i < 0 {
		return -1
	}
	return leadingNumber(s[i:])
}

func leadingNumber(s string) int {
	end := 0
	for end < len(s) && s[end] >= '0' && s[end] <= '9' {
		end++
	}
	n, err := strconv.Atoi(s[:end])
	if err != nil {
		return -1
	}
	return n
}

// Firmware is what a printer says of itself in reply to M115.
type Firmware struct {
	Name         string          // FIRMWARE_NAME
	Machine      string          // MACHINE_TYPE
	Extruders    int             // EXTRUDER_COUNT; 1 if it does not say
	Capabilities map[string]bool // Cap:AUTOREPORT_TEMP:1 and the like
	Buffer       int             // bytes of the receive buffer, Cap:RX_BUFFER_SIZE:128; 0 if it does not say
	Slots        int             // commands held besides, Cap:BUFSIZE:4; 0 if it does not say
	Ends         [3]float64      // mm that X, Y and Z go to; 0 if it does not say
}

// keys are the words that begin a value in the first line of M115's reply.
var keys = []string{"FIRMWARE_NAME", "FIRMWARE_VERSION", "SOURCE_CODE_URL", "FIRMWARE_URL", "PROTOCOL_VERSION", "MACHINE_TYPE", "KINEMATICS", "EXTRUDER_COUNT", "UUID", "AXIS_COUNT"}

// ParseFirmware reads the lines of a reply to M115. What a firmware leaves out
// stays empty.
func ParseFirmware(lines []string) Firmware {
	f := Firmware{Extruders: 1, Capabilities: map[string]bool{}}
	for _, line := range lines {
		if c, ok := strings.CutPrefix(strings.TrimSpace(line), "Cap:"); ok {
			if name, value, ok := strings.Cut(c, ":"); ok {
				value = strings.TrimSpace(value)
				switch n := whole(value); {
				case name == "RX_BUFFER_SIZE" && n > 0 && n <= 1<<16 && n&(n-1) == 0: // no other sizes are built, and a misheard digit is one
					f.Buffer = n
				case name == "RX_BUFFER_SIZE":
				case name == "BUFSIZE":
					f.Slots = min(max(n, 0), mostSlots)
				default:
					f.Capabilities[name] = value == "1"
				}
			}
			continue
		}
		if ends, ok := ParseEnds(line); ok {
			f.Ends = ends
			continue
		}
		if v, ok := field(line, "FIRMWARE_NAME"); ok {
			f.Name = v
		}
		if v, ok := field(line, "MACHINE_TYPE"); ok {
			f.Machine = v
		}
		if v, ok := field(line, "EXTRUDER_COUNT"); ok {
			if n, err := strconv.Atoi(v); err == nil && n > 0 {
				f.Extruders = n
			}
		}
	}
	return f
}

// field cuts "KEY:value with spaces" out of a line of such pairs.
func field(line, key string) (string, bool) {
	_, rest, ok := strings.Cut(line, key+":")
	if !ok {
		return "", false
	}
	end := len(rest)
	for _, k := range keys {
		if i := strings.Index(rest, " "+k+":"); i >= 0 && i < end {
			end = i
		}
	}
	return strings.Trim(rest[:end], " ,"), true
}

// ParseEnds reads where a firmware says that its axes end, "Soft endstops: On  Min: X0.00
// Y0.00 Z0.00  Max: X230.00 Y230.00 Z240.00" in reply to M211, or "area:{full:{min:{…},
// max:{x:230,y:230,z:240}},…" in that to M115: the highest of X, Y and Z, mm, each above 0.
// False if line is neither.
func ParseEnds(line string) (most [3]float64, ok bool) {
	line = strings.ToUpper(line)
	_, rest, found := strings.Cut(line, "MAX:")
	if !found || !strings.Contains(line, "MIN:") {
		return most, false
	}
	rest, _, _ = strings.Cut(rest, "}")
	words := strings.FieldsFunc(rest, func(r rune) bool { return r == ' ' || r == ',' || r == '{' || r == '\t' })
	for axis, letter := range "XYZ" {
		for _, w := range words {
			if number, is := strings.CutPrefix(w, string(letter)); is {
				v, err := strconv.ParseFloat(strings.TrimPrefix(number, ":"), 64)
				if err != nil || !(v > 0 && v < 1e5) {
					return [3]float64{}, false
				}
				most[axis] = v
				break
			}
		}
		if most[axis] == 0 {
			return [3]float64{}, false
		}
	}
	return most, true
}

// A Message is something for a person: what the firmware said that is not part of the
// conversation's own upkeep, or what its host has to tell.
type Message struct {
	At   time.Time
	Kind MessageKind
	Text string
}

// MessageKind is how a message is meant.
type MessageKind string

// The kinds of message.
const (
	Told     MessageKind = "message"
	Wrong    MessageKind = "error"
	Stopped  MessageKind = "fatal"  // the firmware has stopped
	Wanted   MessageKind = "action" // a host-action comment
	Alarming MessageKind = "alarm"  // a guard has raised an alarm
)

// ParsePosition reads a position report, "X:10.00 Y:0.00 Z:5.00 E:0.00 Count…", with or
// without blanks, or behind an ok, in millimetres in the order X, Y, Z, E; false if line is
// none.
func ParsePosition(line string) (position [4]float64, ok bool) {
	line, _, _ = strings.Cut(line, "Count")
	var found [4]bool
	for i := 0; i+1 < len(line); i++ {
		axis := strings.IndexByte("XYZE", line[i])
		if axis < 0 || line[i+1] != ':' || found[axis] || i > 0 && line[i-1] >= 'A' {
			continue
		}
		number := strings.TrimLeft(line[i+2:], " ")
		end := strings.IndexFunc(number, func(r rune) bool { return !strings.ContainsRune("+-.0123456789", r) })
		if end < 0 {
			end = len(number)
		}
		if v, err := strconv.ParseFloat(number[:end], 64); err == nil {
			position[axis], found[axis] = v, true
		}
	}
	return position, found[0] && found[1] && found[2]
}
