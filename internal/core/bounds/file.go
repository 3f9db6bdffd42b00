package bounds

import (
	"bytes"
	"errors"
	"fmt"
	"strconv"
	"strings"

	"diathermon/internal/core/gcode"
)

// Level says how much a finding weighs.
type Level string

// The levels.
const (
	Block Level = "block" // it cannot start
	Warn  Level = "warn"  // it can, and a person should know
	Note  Level = "note"  // worth knowing
)

// A Finding is something about one line of a file that a person should know before
// it is printed.
type Finding struct {
	Level Level
	Title string // what is the matter, about the line
	Do    string // what to do about it
}

const again = "take the line out, or slice it again for this printer"

// Filed looks at a file's command, whose plain reading is l or failed with err. It
// returns false where there is nothing to say.
func Filed(command []byte, l *gcode.Line, err error) (Finding, bool) {
	if err != nil {
		return unplain(command, err), true
	}
	if l.Letter == 'G' && l.Number < 10 && len(command) <= gcode.MaxLine {
		return Finding{}, false
	}
	code := l.Code()
	meaning := code.Look()
	switch {
	case meaning.Traits&gcode.Ruins != 0:
		return Finding{Block, fmt.Sprintf("%s %s", code, meaning.Does), again}, true
	case l.Is('M', 149):
		if !l.Has('F') && !l.Has('K') {
			return Finding{}, false
		}
		return Finding{Block, fmt.Sprintf("%s %s, and this host bounds setpoints in °C", code, meaning.Does), again}, true
	case meaning.Traits&gcode.Stranger != 0:
		return Finding{Warn, fmt.Sprintf("%s %s", code, meaning.Does), "start it if that is what you want"}, true
	case meaning.Traits&gcode.Text != 0:
		if hidden, given, found := spoken(l.Text); found {
			level := Warn
			if given {
				level = Block
			}
			return Finding{level, fmt.Sprintf("old firmwares find %s in the text of %s, which %s", hidden, code, hidden.Look().Does), "change the text"}, true
		}
	}
	if len(command) > gcode.MaxLine {
		return Finding{Warn, fmt.Sprintf("%s has more than the %d characters that many printers take in a line", code, gcode.MaxLine), "shorten it, unless your printer's firmware is known to take it"}, true
	}
	return Finding{}, false
}

// unplain judges a command of a file that is not plain.
func unplain(command []byte, err error) Finding {
	guess := gcode.GuessAt(command)
	harm, harmful := guess.Harmful()
	switch {
	case guess.Named && !harmful:
		name, _, _ := strings.Cut(string(command), " ")
		return Finding{Note, fmt.Sprintf("%s is a named command, which some firmwares know", name), "see that yours does"}
	case harmful:
		return Finding{Block, fmt.Sprintf("%v; it %s", bare(err), harm), "write it plainly, put a ; before it if it is a remark, or slice it again"}
	}
	return Finding{Warn, bare(err), "the firmware will judge it"}
}

// bare is an error's text without the kind of error that it is.
func bare(err error) string {
	return strings.TrimPrefix(err.Error(), errors.Unwrap(err).Error()+": ")
}

// curves is the last of the G commands that do nothing without an axis.
const curves = 9

// spoken finds a command of motion in the text of a message: some old firmwares take
// the first G of a line for its command, wherever it stands, and for G0 if no number
// follows. Given tells whether one does.
func spoken(text []byte) (code gcode.Code, given, found bool) {
	at := bytes.IndexByte(text, 'G')
	if at < 0 {
		return gcode.Code{}, false, false
	}
	rest := bytes.TrimLeft(text[at+1:], " ")
	end := 0
	for end < len(rest) && rest[end] >= '0' && rest[end] <= '9' {
		end++
	}
	number, err := strconv.Atoi(string(rest[:end]))
	given = err == nil
	code = gcode.Code{Letter: 'G', Number: number}
	moves := code.Traits()&gcode.Moves != 0 && (code.Number > curves || gcode.GuessAt(text).Axes)
	return code, given, moves
}
