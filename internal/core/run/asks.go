package run

import (
	"strconv"
	"strings"

	"diathermon/internal/core/gcode"
)

// Asks tells a command with which a file asks for a person, and returns what it says to
// them; empty for any other. The printer does not get it: the run is held instead. One
// that says what it waits for, a time or a pin, is the printer's own to wait for.
func Asks(command string) string {
	var l gcode.Line
	if (command[0] != 'M' && command[0] != 'm') || l.Parse([]byte(command)) != nil {
		return ""
	}
	code := l.Code()
	if code.Traits()&gcode.Yields == 0 {
		return ""
	}
	text := string(l.Text)
	for _, p := range code.Parameters() {
		if p.Unit == gcode.Number {
			continue
		}
		if l.Has(p.Letter) {
			return ""
		}
		if value, is := strings.CutPrefix(text, string(p.Letter)); is {
			if _, err := strconv.ParseFloat(value, 64); err == nil {
				return ""
			}
		}
	}
	if code.Traits()&gcode.Text != 0 && text != "" {
		return "the file asks for it: " + text
	}
	return "the file asks for it"
}

// Unplanned reports whether a command takes a time of its own that neither a plan of moves
// nor a heater tells, nor a person.
func Unplanned(code gcode.Code) bool {
	traits := code.Traits()
	return traits&gcode.Slow != 0 && traits&(gcode.Awaits|gcode.Pauses|gcode.Heats) == 0 && code.Letter != 'T' && !code.Is('G', 4) && !code.Is('M', 400)
}
