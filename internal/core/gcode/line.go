// Package gcode reads one line of G-code at a time: its words, its comment,
// its line number and checksum, and the modal state that lines build up.
//
// It promises that what it calls a line's command is byte for byte what the
// printer should receive, and that reading a line allocates nothing. It leaves
// to others when a line is sent (wire), how long a move takes (motion) and what
// the moves amount to (toolpath).
package gcode

import (
	"bytes"
	"fmt"
	"math"
	"strconv"
)

// MaxLine is the longest command, in bytes, that common firmwares take in one
// line: their command slots hold 96 bytes, of which the line number, the
// checksum and the terminator need up to 16.
const MaxLine = 80

// A Line is one parsed line of G-code. The zero Line is blank. Parse it again
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

// takesText holds the M commands whose argument is text, not words: messages
// and file names. Parentheses and letters in it mean nothing.
var takesText = map[int]bool{0: true, 1: true, 16: true, 23: true, 28: true, 30: true, 32: true, 117: true, 118: true, 928: true}

// Command returns the part of raw that the printer should receive: without
// comments, line number, checksum and surrounding space. It is empty for a line
// that says nothing. The result shares raw's memory unless a comment in
// parentheses stood in the middle of it.
func Command(raw []byte) []byte {
	if i := bytes.IndexByte(raw, ';'); i >= 0 {
		raw = raw[:i]
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
	if letter, number, _, _ := head(raw); letter == 'M' && takesText[number] {
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

// Parse reads a command as Command returns it. It reports an error that names
// what it found for anything that is not G-code.
func (l *Line) Parse(command []byte) error {
	l.Letter, l.Number, l.Sub, l.set, l.given = 0, 0, 0, 0, 0
	l.Text = nil
	if len(command) == 0 {
		return nil
	}
	letter, number, sub, rest := head(command)
	if letter == 0 {
		return fmt.Errorf("%q is not G-code: a line begins with G, M or T and a number", clip(command))
	}
	l.Letter, l.Number, l.Sub = letter, number, sub
	l.Text = bytes.TrimSpace(rest)
	if letter == 'M' && takesText[number] {
		return nil
	}
	for len(rest) > 0 {
		b := rest[0]
		if b == ' ' || b == '\t' {
			rest = rest[1:]
			continue
		}
		if b == '"' { // quoted text is a value without a number
			end := bytes.IndexByte(rest[1:], '"')
			if end < 0 {
				return nil
			}
			rest = rest[end+2:]
			continue
		}
		b = upper(b)
		if b < 'A' || b > 'Z' {
			return fmt.Errorf("%q is not G-code: found %q where a word such as X10 was expected", clip(command), rest[0])
		}
		i := b - 'A'
		l.set |= 1 << i
		value, n := float(rest[1:])
		if n > 0 {
			l.values[i] = value
			l.given |= 1 << i
		}
		rest = rest[1+n:]
	}
	return nil
}

// Has reports whether the word with that letter is there, with or without a
// number.
func (l *Line) Has(letter byte) bool { return l.set&(1<<(letter-'A')) != 0 }

// Value returns the number after letter, and whether there is one.
func (l *Line) Value(letter byte) (float64, bool) {
	i := letter - 'A'
	return l.values[i], l.given&(1<<i) != 0
}

// Is reports whether the line is the command with that letter and number.
func (l *Line) Is(letter byte, number int) bool { return l.Letter == letter && l.Number == number }

// IsMove reports whether the line moves the axes by its words: G0 to G3.
func (l *Line) IsMove() bool { return l.Letter == 'G' && l.Number >= 0 && l.Number <= 3 }

// head splits the command's letter and number from what follows.
func head(b []byte) (letter byte, number, sub int, rest []byte) {
	if len(b) < 2 {
		return 0, 0, 0, nil
	}
	letter = upper(b[0])
	if letter != 'G' && letter != 'M' && letter != 'T' {
		return 0, 0, 0, nil
	}
	i := 1
	for i < len(b) && b[i] == ' ' {
		i++
	}
	start := i
	for i < len(b) && isDigit(b[i]) && i-start < 6 {
		number = number*10 + int(b[i]-'0')
		i++
	}
	if i == start {
		return 0, 0, 0, nil
	}
	if i+1 < len(b) && b[i] == '.' && isDigit(b[i+1]) {
		i++
		for i < len(b) && isDigit(b[i]) && sub < 1000 {
			sub = sub*10 + int(b[i]-'0')
			i++
		}
	}
	return letter, number, sub, b[i:]
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

// Checksum is the exclusive or of all bytes, the trade's check on a serial line.
func Checksum(b []byte) byte {
	var sum byte
	for _, c := range b {
		sum ^= c
	}
	return sum
}

// AppendNumbered appends command to dst as a numbered, checksummed line with its
// line end: "N12 G1 X5*97\n".
func AppendNumbered(dst []byte, number int, command []byte) []byte {
	start := len(dst)
	dst = append(dst, 'N')
	dst = strconv.AppendInt(dst, int64(number), 10)
	dst = append(dst, ' ')
	dst = append(dst, command...)
	sum := Checksum(dst[start:])
	dst = append(dst, '*')
	dst = strconv.AppendInt(dst, int64(sum), 10)
	return append(dst, '\n')
}

// NumberedSize is the most bytes that AppendNumbered appends for a command of
// that length.
func NumberedSize(number, command int) int {
	digits := 1
	for n := number; n >= 10; n /= 10 {
		digits++
	}
	return len("N *255\n") + digits + command
}

func isDigit(b byte) bool { return b >= '0' && b <= '9' }

func upper(b byte) byte {
	if b >= 'a' && b <= 'z' {
		return b - 'a' + 'A'
	}
	return b
}

func clip(b []byte) []byte {
	if len(b) > 40 {
		return append(append([]byte{}, b[:40]...), "…"...)
	}
	return b
}
