package routine

import (
	"strings"
	"unicode"
	"unicode/utf8"
)

type tokenKind int

const (
	wordToken tokenKind = iota
	numberToken
	textToken // between quotation marks
	signToken
)

type token struct {
	kind tokenKind
	text string
}

// lex splits a line into tokens. Everything behind # is a remark.
func lex(line string) ([]token, string) {
	var out []token
	for line != "" {
		r, n := utf8.DecodeRuneInString(line)
		switch {
		case r == '#':
			return out, ""
		case unicode.IsSpace(r):
		case r == '"':
			end := strings.IndexByte(line[1:], '"')
			if end < 0 {
				return nil, "a text has no end: a \" is missing"
			}
			n = end + 2
			out = append(out, token{textToken, line[1 : n-1]})
		case r >= '0' && r <= '9':
			n = len(line) - len(strings.TrimLeft(line, "0123456789"))
			if n+1 < len(line) && line[n] == '.' && line[n+1] >= '0' && line[n+1] <= '9' {
				n = len(line) - len(strings.TrimLeft(line[n+1:], "0123456789"))
			}
			out = append(out, token{numberToken, line[:n]})
		case unicode.IsLetter(r) || r == '°' || r == '_':
			n = strings.IndexFunc(line, func(r rune) bool { return !unicode.IsLetter(r) && !unicode.IsDigit(r) && r != '°' && r != '_' })
			if n < 0 {
				n = len(line)
			}
			out = append(out, token{wordToken, line[:n]})
		default:
			for _, long := range []string{"..", "<=", ">=", "!="} {
				if strings.HasPrefix(line, long) {
					n = len(long)
				}
			}
			if !strings.Contains("..<=>=!=+-*/(),:=.%{}", line[:n]) || r == utf8.RuneError {
				return nil, "nothing is known of " + strings.ToValidUTF8(line[:n], "?")
			}
			out = append(out, token{signToken, line[:n]})
		}
		line = line[n:]
	}
	return out, ""
}
