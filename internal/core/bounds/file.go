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

	Overrule bool `json:",omitempty"` // a block of which a person may say that it does not matter
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
	if beyond := l.Within(); beyond != nil {
		return Finding{Level: Block, Title: beyond.Error(), Do: again}, true
	}
	meaning := code.Look()
	switch {
	case meaning.Traits&gcode.Ruins != 0:
		return Finding{Level: Block, Title: fmt.Sprintf("%s %s", code, meaning.Does), Do: again}, true
	case l.Is('M', 149):
		if !l.Has('F') && !l.Has('K') {
			return Finding{}, false
		}
		return Finding{Level: Block, Title: fmt.Sprintf("%s %s, and this host bounds setpoints in °C", code, meaning.Does), Do: again}, true
	case l.Is('M', 42) && l.Has('I'):
		return Finding{Level: Block, Title: "M42 with I switches a pin even where the firmware protects it, such as a heater's", Do: again}, true
	case fastest(l) > oddSpeed:
		return Finding{Level: Warn, Title: fmt.Sprintf("M203 lets an axis go %g mm/s, as most firmwares read it", fastest(l)), Do: "see that yours counts in mm/min"}, true
	case meaning.Traits&gcode.Stranger != 0:
		return Finding{Level: Warn, Title: fmt.Sprintf("%s %s", code, meaning.Does), Do: "start it if that is what you want"}, true
	case meaning.Traits&gcode.Text != 0:
		if hidden, given, found := spoken(l.Text); found {
			level := Warn
			if given {
				level = Block
			}
			return Finding{Level: level, Title: fmt.Sprintf("old firmwares find %s in the text of %s, which %s", hidden, code, hidden.Look().Does), Do: "change the text"}, true
		}
	}
	if len(command) > gcode.MaxLine {
		return Finding{Level: Warn, Title: fmt.Sprintf("%s has more than the %d characters that many printers take in a line", code, gcode.MaxLine), Do: "shorten it, unless your printer's firmware is known to take it"}, true
	}
	return Finding{}, false
}

// oddSpeed is how fast no axis goes, mm/s: some firmwares count M203 in mm/min.
const oddSpeed = 2000

// fastest is the highest speed that M203 lets an axis have; 0 of any other line.
func fastest(l *gcode.Line) (v float64) {
	if l.Is('M', 203) {
		for _, letter := range []byte("XYZE") {
			at, _ := l.Value(letter)
			v = max(v, at)
		}
	}
	return v
}

// unplain judges a command of a file that is not plain.
func unplain(command []byte, err error) Finding {
	guess := gcode.GuessAt(command)
	harm, harmful := guess.Harmful()
	switch {
	case guess.Named && !harmful:
		name, _, _ := strings.Cut(string(command), " ")
		return Finding{Level: Note, Title: fmt.Sprintf("%s is a named command, which some firmwares know", name), Do: "see that yours does"}
	case harmful:
		return Finding{Level: Block, Title: fmt.Sprintf("%v; it %s", bare(err), harm), Do: "write it plainly, put a ; before it if it is a remark, or slice it again"}
	}
	return Finding{Level: Warn, Title: bare(err), Do: "the firmware will judge it"}
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
