package people

import (
	"fmt"
	"strings"
	"unicode"
	"unicode/utf8"
)

// ProgramName says why a program cannot be called so, or nil.
func ProgramName(name string) error {
	if name == KeeperName || name == ConsoleName {
		return fmt.Errorf("%w: %q is what the host calls a token of its own", ErrName, name)
	}
	return visible(name)
}

// visible says why nobody can be called so, or nil.
func visible(name string) error {
	switch n := utf8.RuneCountInString(name); {
	case n == 0:
		return fmt.Errorf("%w: it is empty", ErrName)
	case n > longestName:
		return fmt.Errorf("%w: it has %d characters; at most %d are possible", ErrName, n, longestName)
	case !utf8.ValidString(name) || strings.TrimSpace(name) != name || strings.ContainsFunc(name, func(r rune) bool { return !unicode.IsGraphic(r) }):
		return fmt.Errorf("%w: it has characters in it that nobody can see", ErrName)
	}
	return nil
}
