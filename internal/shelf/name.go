package shelf

import (
	"fmt"
	"strings"
	"unicode"
	"unicode/utf8"

	"golang.org/x/text/unicode/norm"
)

// asked returns the name of a file that is asked for, in composed Unicode, and whether
// a file could be called so: one that has been on the shelf for long may have a name
// that is not given any more.
func asked(name string) (string, bool) {
	return norm.NFC.String(name), utf8.ValidString(name) && name != "" && name != "." && name != ".." && !strings.ContainsAny(name, "/\x00")
}

const maxName = 180 // characters; with the 255 bytes of common file systems in mind

// blank holds characters that are letters or symbols by their class and look like
// nothing: fillers, and the empty pattern of Braille.
const blank = "\u115f\u1160\u2800\u3164\uffa0\u034f"

// Name returns name as it is kept, in composed Unicode, or why it cannot be a
// file's name.
func Name(name string) (string, error) {
	refuse := func(format string, args ...any) (string, error) {
		return "", fmt.Errorf("%w: "+format, append([]any{ErrName}, args...)...)
	}
	if !utf8.ValidString(name) {
		return refuse("it is not valid UTF-8")
	}
	name = norm.NFC.String(name)
	switch n := utf8.RuneCountInString(name); {
	case name == "":
		return refuse("it is empty")
	case n > maxName || len(name) > 240:
		return refuse("it has %d characters (%d bytes); at most %d (240 bytes) are possible", n, len(name), maxName)
	case strings.ContainsAny(name, `/\`):
		return refuse("%q has a slash in it; send the bare name", name)
	case strings.HasPrefix(name, "."):
		return refuse("%q begins with a dot", name)
	case strings.TrimSpace(name) != name:
		return refuse("%q begins or ends with a space", name)
	}
	for _, r := range name {
		switch {
		case unicode.IsControl(r):
			return refuse("%q has the control character %U in it", name, r)
		case unicode.In(r, unicode.Cf, unicode.Zl, unicode.Zp) || strings.ContainsRune(blank, r):
			return refuse("%q has %U in it, which nobody can see", name, r)
		}
	}
	return name, nil
}
