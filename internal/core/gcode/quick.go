package gcode

// tens are the powers of ten that a quick number may be divided by.
var tens = [16]float64{1, 1e1, 1e2, 1e3, 1e4, 1e5, 1e6, 1e7, 1e8, 1e9, 1e10, 1e11, 1e12, 1e13, 1e14, 1e15}

// quickDigits is how many digits a quick number has at the most: no sum of them is
// beyond what a float64 holds exactly, or, in front of the point, beyond Most.
const quickDigits = 9

// Quick reads a straight move of the form in which nearly every line of a file is
// written: G0 or G1, then X, Y, Z, E and F, each at most once, with one blank before
// each and a number right behind; a comment may follow. It reports whether the line
// is one, and then has read exactly what Parse would read of it.
func (l *Line) Quick(raw []byte) bool {
	n := len(raw)
	if n < 4 || n > MaxLine || raw[0] != 'G' || raw[1]&^1 != '0' || raw[2] != ' ' {
		return false
	}
	var set uint32
	i := 2
	for {
		// A blank was found, or an end.
		for i < n && raw[i] == ' ' {
			i++
		}
		if i == n || raw[i] == ';' || raw[i] == '\r' && i == n-1 {
			break
		}
		letter := raw[i]
		if letter < 'E' || letter > 'Z' || raw[i-1] != ' ' {
			return false
		}
		bit := uint32(1) << (letter - 'A')
		if bit&quickWords == 0 || set&bit != 0 {
			return false
		}
		set |= bit
		i++
		negative := i < n && raw[i] == '-'
		if negative {
			i++
		}
		start := i
		mantissa := 0
		for i < n && raw[i]-'0' <= 9 {
			mantissa = mantissa*10 + int(raw[i]-'0')
			i++
		}
		digits, scale := i-start, 0
		if digits > quickDigits {
			return false
		}
		if i < n && raw[i] == '.' {
			i++
			start = i
			for i < n && raw[i]-'0' <= 9 {
				mantissa = mantissa*10 + int(raw[i]-'0')
				i++
			}
			scale = i - start
		}
		if digits += scale; digits == 0 || digits > 2*quickDigits-3 {
			return false
		}
		value := float64(mantissa)
		if scale > 0 {
			value /= tens[scale]
		}
		if negative {
			value = -value
		}
		l.values[letter-'A'] = value
		if i < n && raw[i] != ' ' && raw[i] != ';' && raw[i] != '\r' {
			return false
		}
	}
	if set == 0 {
		return false
	}
	l.Letter, l.Number, l.Sub, l.Text = 'G', int(raw[1]-'0'), 0, nil
	l.set, l.given = set, set
	return true
}

// quickWords are the letters of a quick line.
const quickWords = 1<<('X'-'A') | 1<<('Y'-'A') | 1<<('Z'-'A') | 1<<('E'-'A') | 1<<('F'-'A')
