// Package gcode reads one line of G-code at a time: its words, its comment,
// its line number and checksum, and the modal state that lines build up.
//
// Firmwares read the same line differently, some of them leniently. So there are
// two readers. Line.Parse takes only what every firmware reads the same, and says
// what stands in the way of anything else. Guess reads all that a line might be
// taken for: every command that the most lenient firmware could find in it. What
// Parse refuses is never held to be harmless; Guess decides.
//
// It promises that what it calls a line's command is byte for byte what the
// printer should receive, and that reading a plain line allocates nothing. It
// leaves to others when a line is sent (wire), what may be sent (bounds), how long
// a move takes (motion) and what the moves amount to (toolpath).
package gcode

import (
	"bytes"
	"errors"
	"fmt"
	"math"
)

// MaxLine is the longest command, in bytes, that common firmwares take in one
// line: their command slots hold 96 bytes, of which the line number, the
// checksum and the terminator need up to 16.
const MaxLine = 80

// Most is the largest number, in whatever unit, that a line may hold: beyond it no
// machine could mean it.
const Most = 1e9

// Errors of Parse. Each comes wrapped in a text that says what was found.
var (
	// ErrUncertain means that firmwares may read the line differently.
	ErrUncertain = errors.New("it cannot be read with certainty")
	// ErrImpossible means that a number in it is beyond Most.
	ErrImpossible = errors.New("no machine can do that")
)

// A Line is one plainly read line of G-code. The zero Line is blank. Parse it again
// for the next line: it holds no reference to what was parsed but Text.
type Line struct {
	Letter byte   // 'G', 'M' or 'T'; 0 on a line without a command
	Number int    // 28 in G28
	Sub    int    // 1 in G29.1
	Text   []byte // what follows the command, as written; valid until the parsed bytes change
	set    uint32 // bit i: the letter 'A'+i is there
	given  uint32 // bit i: the letter 'A'+i has a number
	values [26]float64
}

// mark is the byte-order mark of UTF-8, with which some programs begin a text.
const mark = "\xef\xbb\xbf"

// Command returns the part of raw that the printer should receive: without
// comments, line number, checksum and surrounding space. It is empty for a line
// that says nothing. The result shares raw's memory unless a comment in
// parentheses stood in the middle of it.
func Command(raw []byte) []byte {
	if i := bytes.IndexByte(raw, ';'); i >= 0 {
		raw = raw[:i]
	}
	if len(raw) > 0 && raw[0] == mark[0] { // at the beginning of a file
		raw = bytes.TrimPrefix(raw, []byte(mark))
	}
	raw = bytes.Trim(raw, " \t\r\n\x00")
	if len(raw) > 1 && (raw[0] == 'N' || raw[0] == 'n') && isDigit(raw[1]) {
		i := 1
		for i < len(raw) && isDigit(raw[i]) {
			i++
		}
		raw = bytes.TrimLeft(raw[i:], " \t")
		if j := bytes.LastIndexByte(raw, '*'); j >= 0 {
			raw = bytes.TrimRight(raw[:j], " \t")
		}
	}
	if bytes.IndexByte(raw, '(') < 0 {
		return raw
	}
	if code, _ := head(raw); code.Traits()&Text != 0 {
		return raw
	}
	out := make([]byte, 0, len(raw))
	depth := 0
	for _, b := range raw {
		switch {
		case b == '(':
			depth++
		case b == ')' && depth > 0:
			depth--
		case depth == 0:
			out = append(out, b)
		}
	}
	return bytes.TrimSpace(out)
}

// Parse reads a command as Command returns it, if every firmware would read it the
// same: a command, then words, each of them once, with blanks or nothing between.
// Otherwise the error is ErrUncertain, or ErrImpossible, and the line is blank.
func (l *Line) Parse(command []byte) error {
	l.Letter, l.Number, l.Sub, l.set, l.given = 0, 0, 0, 0, 0
	l.Text = nil
	if len(command) == 0 {
		return nil
	}
	code, rest := head(command)
	if code.Letter == 0 {
		return uncertain(command, "a line begins with G, M or T and a number")
	}
	if code.Traits()&Text != 0 {
		if other, could := glued(command, code, rest); could {
			return uncertain(command, "it could be "+other.String())
		}
	} else {
		if err := l.words(command, code, rest); err != nil {
			l.set, l.given = 0, 0
			return err
		}
	}
	l.Letter, l.Number, l.Sub = code.Letter, code.Number, code.Sub
	l.Text = bytes.TrimSpace(rest)
	return nil
}

// glued finds another command that a command with a text could be: M1 04 is M104
// where blanks may stand anywhere, and in M117 9 M140 S60 no text follows then.
func glued(command []byte, code Code, text []byte) (Code, bool) {
	if len(text) == 0 {
		return Code{}, false
	}
	for _, n := range numbers(command[1:]) {
		other := Code{code.Letter, int(min(n, Most)), 0}
		if other.Number == code.Number {
			continue
		}
		if other.Traits() != 0 {
			return other, true
		}
		guess := GuessAt(text)
		for _, c := range guess.Codes {
			if guess.inName(c, c.Look()) {
				return c, true
			}
		}
	}
	return Code{}, false
}

// words reads the words behind a command.
func (l *Line) words(command []byte, code Code, rest []byte) error {
	joined := code.Letter == 'G' && (code.Number <= 3 || code.Number == 92) // in which E is never an exponent: no firmware could print
	heats := !joined && code.Traits()&Heats != 0
	number, behind := true, false // the last byte was of a number, the last word had one
	for len(rest) > 0 {
		b := rest[0]
		if b == ' ' || b == '\t' {
			number = false
			rest = rest[1:]
			continue
		}
		letter := upper(b)
		switch {
		case letter < 'A' || letter > 'Z':
			return uncertain(command, fmt.Sprintf("found %q where a word such as X10 was expected", firstRune(rest)))
		case number && !joined && (letter == 'E' || letter == 'X'):
			return uncertain(command, fmt.Sprintf("%c right behind a number could be part of it; put a blank between", letter))
		case behind && heats && (letter == 'E' || letter == 'X' && code.Letter == 'M') && !bytes.HasPrefix(rest[1:], []byte("-")):
			return uncertain(command, fmt.Sprintf("%c behind a number could be part of it where blanks do not count; put it first, or leave it out", letter))
		case letter == 'G' || letter == 'M' || letter == 'N' && !code.Is('M', 110) || letter == 'T' && (joined || code.Letter == 'T'):
			return uncertain(command, fmt.Sprintf("found a second command or a line number at %q", clip(rest)))
		}
		bit := uint32(1) << (letter - 'A')
		if l.set&bit != 0 {
			return uncertain(command, fmt.Sprintf("it has %c twice", letter))
		}
		l.set |= bit
		value, n := float(rest[1:])
		word := rest[:1+n]
		rest = rest[1+n:]
		number = n > 0
		if behind = number; !number {
			continue
		}
		if math.Abs(value) > Most {
			return fmt.Errorf("%w: %q has the number %s", ErrImpossible, clip(command), clip(word))
		}
		l.values[letter-'A'] = value
		l.given |= bit
	}
	return nil
}

func uncertain(command []byte, why string) error {
	return fmt.Errorf("%w: %q: %s", ErrUncertain, clip(command), why)
}

// Code returns the line's command.
func (l *Line) Code() Code { return Code{l.Letter, l.Number, l.Sub} }

// Has reports whether the word with that letter is there, with or without a
// number.
func (l *Line) Has(letter byte) bool { return l.set&(1<<(letter-'A')) != 0 }

// Value returns the number behind letter, and whether there is one. Without one
// the number is 0.
func (l *Line) Value(letter byte) (float64, bool) {
	i := letter - 'A'
	if l.given&(1<<i) == 0 {
		return 0, false
	}
	return l.values[i], true
}

// Is reports whether the line is the command with that letter and number.
func (l *Line) Is(letter byte, number int) bool { return l.Letter == letter && l.Number == number }

// Dwell is how long a G4 waits, in seconds: S in seconds goes before P in
// milliseconds.
func (l *Line) Dwell() float64 {
	if s, ok := l.Value('S'); ok {
		return s
	}
	p, _ := l.Value('P')
	return p / 1000
}

// head splits the command from what follows; the zero Code if there is none.
func head(b []byte) (code Code, rest []byte) {
	if len(b) < 2 {
		return Code{}, nil
	}
	letter := upper(b[0])
	if letter != 'G' && letter != 'M' && letter != 'T' {
		return Code{}, nil
	}
	i := 1
	for i < len(b) && b[i] == ' ' {
		i++
	}
	start := i
	for i < len(b) && isDigit(b[i]) {
		if i-start == 6 {
			return Code{}, nil
		}
		code.Number = code.Number*10 + int(b[i]-'0')
		i++
	}
	if i == start {
		return Code{}, nil
	}
	code.Letter = letter
	if i+1 < len(b) && b[i] == '.' && isDigit(b[i+1]) {
		i++
		for i < len(b) && isDigit(b[i]) && code.Sub < 1000 {
			code.Sub = code.Sub*10 + int(b[i]-'0')
			i++
		}
	}
	return code, b[i:]
}

// float reads a decimal number without exponent at the start of b and says how
// many bytes it took; 0 if there is none.
func float(b []byte) (value float64, n int) {
	i, negative, digits := 0, false, 0
	for i < len(b) && b[i] == ' ' {
		i++
	}
	if i < len(b) && (b[i] == '-' || b[i] == '+') {
		negative = b[i] == '-'
		i++
	}
	var mantissa uint64
	scale := 0
	point, huge := false, false
	for ; i < len(b); i++ {
		c := b[i]
		if c == '.' && !point {
			point = true
			continue
		}
		if !isDigit(c) {
			break
		}
		digits++
		if mantissa < math.MaxUint64/20 {
			mantissa = mantissa*10 + uint64(c-'0')
			if point {
				scale++
			}
		} else if !point {
			huge = true
		}
	}
	if digits == 0 {
		return 0, 0
	}
	value = float64(mantissa)
	if scale > 0 {
		value /= math.Pow10(scale)
	}
	if huge {
		value = math.Inf(1)
	}
	if negative {
		value = -value
	}
	return value, i
}

func isDigit(b byte) bool { return b >= '0' && b <= '9' }

func upper(b byte) byte {
	if b >= 'a' && b <= 'z' {
		return b - 'a' + 'A'
	}
	return b
}

// firstRune is the first character of b, for a message.
func firstRune(b []byte) string {
	for i := range string(b) {
		if i > 0 {
			return string(b[:i])
		}
	}
	return string(b)
}

// clip is the beginning of b, for a message.
func clip(b []byte) string {
	if len(b) > 40 {
		return string(b[:40]) + "…"
	}
	return string(b)
}
