package gcode

import (
	"strconv"
	"strings"
)

// ObjectOf reads what a command says of the one of several objects whose lines follow: its
// key, which is empty where they are of none, and false where it says nothing of that. So
// firmwares have it: M486 S1 and M486 S-1, EXCLUDE_OBJECT_START NAME=knob and
// EXCLUDE_OBJECT_END.
func ObjectOf(command string) (key string, says bool) {
	if len(command) < 4 || command[0]|0x20 != 'm' && command[0]|0x20 != 'e' {
		return "", false
	}
	upper := strings.ToUpper(command)
	if rest, is := strings.CutPrefix(upper, "M486"); is {
		rest = strings.TrimLeft(rest, " \t")
		number, is := strings.CutPrefix(rest, "S")
		if !is {
			return "", false
		}
		end := 0
		for end < len(number) && (number[end] == '-' && end == 0 || number[end] >= '0' && number[end] <= '9') {
			end++
		}
		n, err := strconv.Atoi(number[:end])
		switch {
		case err != nil:
			return "", false
		case n < 0:
			return "", true
		}
		return strconv.Itoa(n), true
	}
	words := strings.Fields(command)
	switch strings.ToUpper(words[0]) {
	case "EXCLUDE_OBJECT_START":
		for _, w := range words[1:] {
			if name, value, _ := strings.Cut(w, "="); strings.EqualFold(name, "NAME") && value != "" {
				return value, true
			}
		}
	case "EXCLUDE_OBJECT_END":
		return "", true
	}
	return "", false
}

// ObjectName reads the name that a command gives to the object whose lines follow, M486
// AKnob or M486 A"Knob"; empty: it gives none.
func ObjectName(command string) string {
	if len(command) < 6 || !strings.EqualFold(command[:4], "M486") {
		return ""
	}
	rest := strings.TrimLeft(command[4:], " \t")
	if at := strings.IndexByte(strings.ToUpper(rest), 'A'); at == 0 || at > 0 && (rest[at-1] == ' ' || rest[at-1] == '\t') && strings.HasPrefix(strings.ToUpper(rest), "S") {
		return strings.Trim(strings.TrimSpace(rest[at+1:]), `"`)
	}
	return ""
}
