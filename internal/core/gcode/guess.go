package gcode

import (
	"math"
	"slices"
	"strconv"
	"strings"
)

// A Guess is all that a line might be taken for. It errs on the side of finding too
// much: firmwares search a line for its command, skip what they do not know, take
// small letters for large ones, let blanks stand anywhere, and read numbers with an
// exponent or in hexadecimal.
type Guess struct {
	Codes []Code // every command that could be found in it
	Axes  bool   // a word of an axis with a number, which without a command is a move for some
	Warm  bool   // a word with a number that could be a temperature
	Named bool   // a named command, such as PURGE_LINE LENGTH=20, and nothing else

	// Heat is, of a named command, the highest number given with a key that speaks
	// of a temperature.
	Heat float64
}

// Letters of words that move something, and of those that hold temperatures.
const (
	axes  = "XYZEABCUVWIJKR"
	temps = "SRBHC"
)

// GuessAt reads all that a command, as Command returns it, might be taken for.
func GuessAt(command []byte) Guess {
	var g Guess
	for i := range command {
		letter := upper(command[i])
		switch {
		case letter == 'G' || letter == 'M' || letter == 'T':
			for _, n := range numbers(command[i+1:]) {
				if n == math.Trunc(n) && n >= 0 && n < 1e6 {
					g.add(Code{letter, int(n), 0})
				}
			}
		case len(numbers(command[i+1:])) > 0:
			g.Axes = g.Axes || strings.IndexByte(axes, letter) >= 0
			g.Warm = g.Warm || strings.IndexByte(temps, letter) >= 0
		}
	}
	g.Named, g.Heat = named(string(command))
	return g
}

func (g *Guess) add(c Code) {
	if !slices.Contains(g.Codes, c) {
		g.Codes = append(g.Codes, c)
	}
}

// mostGroups bounds how many groups of digits, with something between, are taken
// for one number.
const mostGroups = 8

// numbers returns every whole number, or truncated one, that some firmware could
// read at the start of b: signs, blanks and what it does not know may stand before
// and between its digits, and it may have an exponent or be hexadecimal.
func numbers(b []byte) []float64 {
	var out []float64
	i := 0
	for i < len(b) && !isDigit(b[i]) && !isLetter(b[i]) {
		i++
	}
	if i == len(b) || !isDigit(b[i]) {
		return nil
	}
	digits := ""
	for group := 0; group < mostGroups && i < len(b) && isDigit(b[i]); group++ {
		start := i
		for i < len(b) && isDigit(b[i]) {
			i++
		}
		digits += string(b[start:i])
		if len(digits) > 12 {
			digits = strings.TrimLeft(digits, "0")
		}
		if v, err := strconv.ParseFloat(digits, 64); err == nil {
			out = append(out, v)
		}
		if group == 0 { // what the C library would make of it
			for end := i; end <= min(len(b), start+24); end++ {
				for _, text := range []string{string(b[start:end]), string(b[start:end]) + "p0"} {
					if v, err := strconv.ParseFloat(text, 64); err == nil && !math.IsInf(v, 0) && !math.IsNaN(v) {
						out = append(out, math.Trunc(v))
					}
				}
			}
		}
		for i < len(b) && !isDigit(b[i]) && !isLetter(b[i]) {
			i++
		}
	}
	return out
}

func isLetter(b byte) bool { return upper(b) >= 'A' && upper(b) <= 'Z' }

// warm are parts of a key that speak of a temperature.
var warm = []string{"TEMP", "TARGET", "HEAT", "BED", "EXTRUDER", "HOTEND", "NOZZLE", "CHAMBER"}

// named reports whether a line is a named command: a word of letters, digits and
// underscores that is not a letter and a number, then KEY=value. Heat is the highest
// number given with a key that speaks of a temperature.
func named(line string) (is bool, heat float64) {
	words := strings.Fields(line)
	if len(words) == 0 || !isName(words[0]) {
		return false, 0
	}
	quoted := false
	for _, word := range words[1:] {
		key, value, pair := strings.Cut(word, "=")
		switch {
		case quoted: // a value with blanks in it
			quoted = strings.Count(word, `"`)%2 == 0
			continue
		case !pair || !isName(key):
			return false, 0
		case strings.Count(value, `"`)%2 == 1:
			quoted = true
		}
		if number, n := float([]byte(value)); n > 0 && slices.ContainsFunc(warm, func(part string) bool { return strings.Contains(strings.ToUpper(key), part) }) {
			heat = max(heat, number)
		}
	}
	return !quoted, heat
}

// isName reports whether a word could name a command or a key: two letters or more
// at its beginning, or one behind an underscore.
func isName(word string) bool {
	for i := range len(word) {
		if b := word[i]; !isLetter(b) && !isDigit(b) && b != '_' {
			return false
		}
	}
	return len(word) > 1 && (isLetter(word[0]) || word[0] == '_') && (isLetter(word[1]) || word[1] == '_')
}

// Traits are those of everything the line might be. What is not in the catalogue
// may be anything.
func (g Guess) Traits() Traits {
	var all Traits
	for _, c := range g.Codes {
		if t := c.Traits(); t != 0 {
			all |= t
		} else {
			all |= Touches
		}
	}
	if g.Axes {
		all |= Moves
	}
	return all
}

// Harmful returns the first command that the line might be and that is more than a
// question or a message, with what it does in words.
func (g Guess) Harmful() (string, bool) {
	for _, c := range g.Codes {
		look := c.Look()
		if g.Named && !g.inName(c, look) {
			continue
		}
		switch {
		case look.Traits == 0:
			return "could be " + c.String() + ", which is not known here", true
		case look.Traits&Touches != 0:
			return "could be " + c.String() + ", which " + look.Does, true
		}
	}
	if g.Axes && !g.Named {
		return "could be a move", true
	}
	return "", false
}

// inName reports whether a command that is found inside a named one, as M104 is in
// LOAD_M104 KEY=S210, is to be feared. Objects are named after screws (M24) and
// their versions (G1).
func (g Guess) inName(c Code, m Meaning) bool {
	const screws = 100
	return c.Letter == 'M' && c.Number >= screws && (m.Traits&(Counts|Stores|Stops|Prints) != 0 || m.Traits&Heats != 0 && g.Warm)
}

// CodeOf is the command that a line begins with; the zero Code where that is not plain.
func CodeOf(command []byte) Code {
	code, _ := head(command)
	return code
}

// TraitsOf are the traits of a command, however it is written: of all that it might
// be, where it is not plain.
func TraitsOf(command []byte) Traits {
	var l Line
	if l.Parse(command) == nil {
		return l.Code().Traits()
	}
	return GuessAt(command).Traits()
}

// IsHalt reports whether a line could be meant as the emergency stop, however it is
// written.
func IsHalt(raw []byte) bool {
	command := Command(raw)
	if code, _ := head(command); code.Letter != 0 && code.Traits()&Text != 0 {
		return false // M117 in which somebody speaks of it
	}
	return slices.Contains(GuessAt(command).Codes, Code{'M', 112, 0})
}
