package wire

import (
	"bytes"
	"strings"
)

// fatal holds what a firmware says when it will do nothing more until it is reset, in
// lower case. It is looked for in what is said as an error, or behind two marks.
var fatal = []string{
	"printer halted", "kill() called", "stopped", "thermal runaway", "heating failed", "mintemp", "maxtemp",
	"shutdown", "shut down", "emergency stop", "not ready", "lost communication", "halt state", "reset the", "m999",
}

// unknown holds what a firmware says to a command that it does not know, in lower case.
var unknown = []string{"unknown command", "unknown g-code", "unknown m-code", "unknown t-code", "unsupported command", "is not supported", "bad g-code", "bad m-code", "unrecognized", "invalid command"}

// IsUnknown tells an answer that says that the command is not known.
func IsUnknown(text string) bool { return says(strings.ToLower(text), unknown) }

func says(lower string, marks []string) bool {
	for _, mark := range marks {
		if strings.Contains(lower, mark) {
			return true
		}
	}
	return false
}

// Sort tells what kind of line the printer has said; Forms lists what it understands.
func Sort(line []byte) Reply {
	line = bytes.TrimRight(line, " \t\r\n")
	r := Reply{Number: -1, Slots: -1, Text: string(line)}
	text := strings.TrimLeft(r.Text, " \t\x00\r")
	if len(text) >= 2 && text[0]|0x20 == 'o' && text[1]|0x20 == 'k' && endsOK(text[2:]) {
		r.Kind = OK
		r.extension(text[2:])
		return r
	}
	if isReport(text) {
		r.Kind = Report
		return r
	}
	lower := strings.ToLower(text)
	plain := strings.TrimLeft(strings.TrimPrefix(lower, "echo:"), " ")
	switch {
	case isRequest(lower):
		r.Kind = Resend
		r.Number = firstNumber(lower)
	case lower == "start":
		r.Kind = Start
	case lower == "wait":
		r.Kind = Idle
	case strings.HasPrefix(lower, "skip "):
		r.Kind = Skip
		r.Number = firstNumber(lower)
	case strings.HasPrefix(plain, "busy:"):
		r.Kind = Busy
	case lower == "!!", strings.HasPrefix(lower, "fatal:"):
		r.Kind = Fatal
	case strings.HasPrefix(lower, "!!"), strings.HasPrefix(lower, "error"):
		if r.Kind = Error; says(lower, fatal) {
			r.Kind = Fatal
		}
	case strings.HasPrefix(lower, "//"):
		if what, ok := strings.CutPrefix(strings.TrimLeft(text[2:], " "), "action:"); ok {
			r.Kind, r.Text = Action, what
		} else if strings.HasSuffix(lower, "state: shutdown") {
			r.Kind = Fatal
		}
	}
	return r
}

// endsOK tells an acknowledgement by what stands behind its two letters: nothing, or what
// some firmwares add, with or without a space.
func endsOK(rest string) bool {
	if rest == "" || rest[0] == ' ' || rest[0] == '\t' || rest[0] == ':' {
		return true
	}
	return len(rest) > 1 && rest[0]|0x20 == 'n' && isDigit(rest[1]) || isReport(rest)
}

// isRequest tells a request to say a line again.
func isRequest(lower string) bool {
	if strings.HasPrefix(lower, "resend") {
		return true
	}
	rest, short := strings.CutPrefix(lower, "rs")
	return short && (rest == "" || rest[0] == ' ' || rest[0] == ':' || isDigit(rest[0]) || len(rest) > 1 && rest[0] == 'n' && isDigit(rest[1]))
}

// extension reads what an extended ok adds: " N12 P15 B3" or " 12", the number of the
// line and the free slots of planner and command queue.
func (r *Reply) extension(rest string) {
	rest = strings.TrimPrefix(rest, ":")
	for first := true; ; first = false {
		rest = strings.TrimLeft(rest, " \t")
		if rest == "" {
			return
		}
		word := rest
		if end := strings.IndexAny(rest, " \t"); end >= 0 {
			word = rest[:end]
		}
		rest = rest[len(word):]
		switch letter := word[0] | 0x20; {
		case letter == 'n' && len(word) > 1:
			r.Number = max(r.Number, whole(word[1:]))
		case letter == 'b' && len(word) > 1:
			r.Slots = max(r.Slots, whole(word[1:]))
		case first && isDigit(word[0]):
			r.Number = whole(word)
		}
	}
}

// isReport tells a report of temperatures or of a position by its first word: "T:21.4",
// "T0:21.4", "B: 60.0", "T:nan", "X:10.00 Y:", "C: X:10.00", in any of which another
// heater, such as a chamber, may stand first.
func isReport(s string) bool {
	s = strings.TrimLeft(s, " \t")
	at := 1
	if len(s) > 1 && isDigit(s[1]) {
		at = 2
	}
	if len(s) <= at || s[at] != ':' || s[0] < 'A' || s[0] > 'Z' {
		return false
	}
	rest := strings.TrimLeft(s[at+1:], " ")
	switch s[0] {
	case 'T', 'B', 'X':
		return beginsNumber(rest)
	case 'C':
		return beginsNumber(rest) || isReport(rest) && rest[0] == 'X'
	}
	return beginsNumber(rest) && (hasTemperatures(rest) || strings.Contains(rest, " X:"))
}

// beginsNumber tells a number, or what firmwares write where there is none.
func beginsNumber(s string) bool {
	s = strings.TrimLeft(s, "+-")
	return s != "" && (isDigit(s[0]) || s[0] == '.') || strings.HasPrefix(s, "nan") || strings.HasPrefix(s, "inf") || strings.HasPrefix(s, "NAN") || strings.HasPrefix(s, "INF")
}

// hasTemperatures tells an answer to M105: a word of it is a heater with what it has.
func hasTemperatures(text string) bool {
	for i := 0; i < len(text); i++ {
		if letter := text[i]; letter != 'T' && letter != 'B' || i > 0 && text[i-1] != ' ' && text[i-1] != '\t' && !(i == 2 && text[1]|0x20 == 'k') {
			continue
		}
		at := i + 1
		if at < len(text) && isDigit(text[at]) {
			at++
		}
		if at < len(text) && text[at] == ':' && beginsNumber(strings.TrimLeft(text[at+1:], " ")) {
			return true
		}
	}
	return false
}

func isDigit(c byte) bool { return c >= '0' && c <= '9' }
