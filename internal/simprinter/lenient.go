package simprinter

import (
	"math"
	"strconv"
	"strings"
)

// A lenient firmware looks for a command anywhere in a line and skips what it does
// not know. Which of several commands it carries out, and which of several numbers
// of a word it takes, differs from firmware to firmware: the seed decides.

// texts are commands that are followed by text.
var texts = map[string]bool{"M0": true, "M1": true, "M23": true, "M28": true, "M30": true, "M117": true, "M118": true, "M486": true}

// lenient reads whatever can be found in a line.
func (b *Board) lenient(original string) (string, map[byte]float64) {
	text := strings.ToUpper(original)
	var codes []string
	var after []int
	for i := range len(text) {
		if !strings.ContainsRune("GMT", rune(text[i])) {
			continue
		}
		if digits, end := looseDigits(text, i+1, b.cfg.Seed%2 == 0); digits != "" {
			codes, after = append(codes, text[i:i+1]+digits), append(after, end)
		}
	}
	if len(codes) == 0 {
		if strings.ContainsAny(text, "XYZE") {
			return "G1", b.looseWords(text)
		}
		return text[:min(len(text), 1)], nil
	}
	if texts[codes[0]] && strings.HasPrefix(strings.TrimLeft(text, " "), "M") {
		if at := strings.IndexByte(original, 'G'); at >= 0 && b.cfg.Seed%2 == 1 { // some look for a G in it
			digits, end := "0", at+1
			if next := strings.TrimLeft(text[at+1:], " "); next != "" && isDigit(next[0]) {
				digits, end = looseDigits(text, at+1, false)
			}
			return "G" + digits, b.looseWords(text[end:])
		}
		return codes[0], nil
	}
	pick := int(b.cfg.Seed/2) % len(codes)
	rest := text[after[pick]:]
	if b.cfg.Seed%5 == 0 { // words may stand before their command
		rest = text
	}
	return codes[pick], b.looseWords(rest)
}

// looseDigits reads the digits behind a letter, whatever stands before them and, if
// wide, between them, without leading zeros.
func looseDigits(text string, i int, wide bool) (digits string, end int) {
	for i < len(text) && !isDigitOrLetter(text[i]) {
		i++
	}
	end = i
	for i < len(text) && (isDigit(text[i]) || wide && !isDigitOrLetter(text[i])) {
		if isDigit(text[i]) {
			digits, end = digits+text[i:i+1], i+1
		} else if text[i] == '.' {
			break
		}
		i++
	}
	if digits != "" {
		if digits = strings.TrimLeft(digits, "0"); digits == "" {
			digits = "0"
		}
	}
	return digits, end
}

// looseWords reads every letter that has a number behind it, in any of the ways in
// which the C library reads one.
func (b *Board) looseWords(text string) map[byte]float64 {
	words := map[byte]float64{}
	for i := range len(text) {
		letter := text[i]
		if letter < 'A' || letter > 'Z' {
			continue
		}
		start := i + 1
		for start < len(text) && !isDigitOrLetter(text[start]) && !strings.ContainsRune("+-.", rune(text[start])) {
			start++
		}
		value, found := 0.0, false
		for end := start + 1; end <= min(len(text), start+20); end++ { // the longest that is a number
			for _, s := range []string{text[start:end], strings.ReplaceAll(text[start:end], " ", ""), text[start:end] + "P0"} {
				if v, err := strconv.ParseFloat(s, 64); err == nil && !math.IsNaN(v) && !math.IsInf(v, 0) && !strings.Contains(s, "_") {
					value, found = v, true
				}
			}
		}
		before, twice := words[letter]
		switch {
		case !found && !twice:
			words[letter] = math.NaN()
		case !found:
		case twice && !math.IsNaN(before) && (b.cfg.Seed%3 == 0 || b.cfg.Seed%3 == 1 && before > value): // the first, the highest or the last
		default:
			words[letter] = value
		}
	}
	return words
}

func isDigit(c byte) bool { return c >= '0' && c <= '9' }

func isDigitOrLetter(c byte) bool { return isDigit(c) || c >= 'A' && c <= 'Z' }
