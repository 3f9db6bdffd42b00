// Package byhand says the lines that a person types, where that does no harm.
//
// It promises that a line that could be meant as the emergency stop is one, however it
// is written. It leaves to core/bounds what is harmless.
package byhand

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"diathermon/internal/core/bounds"
	"diathermon/internal/core/gcode"
	"diathermon/internal/host/part"
	"diathermon/internal/host/printing"
	"diathermon/internal/host/talk"
)

// Hand is the part.
type Hand struct {
	part.Plain
	talk  *talk.Talk
	run   *printing.Printing
	halt  func(context.Context) error
	other Other
	typed []func(command string)
}

// Other is what moves the head by itself, and is not to be disturbed.
type Other interface {
	Doing() string // in words; empty: nothing
}

// Attend says what moves the head by itself.
func (h *Hand) Attend(o Other) { h.other = o }

// Tell says who is to know of each line before it is said.
func (h *Hand) Tell(typed ...func(command string)) { h.typed = typed }

// New returns the part. Halt is how the emergency stop is said.
func New(t *talk.Talk, run *printing.Printing, halt func(context.Context) error) *Hand {
	return &Hand{talk: t, run: run, halt: halt}
}

// Say says a line as a person typed it and waits for its answer until ctx ends;
// then Taken is false and the answer will be seen in the traffic. A line that could
// be meant as the emergency stop is one, however it is written. It may be called from
// anywhere.
func (h *Hand) Say(ctx context.Context, line string) (part.Said, error) {
	if isHalt(line) {
		return part.Said{Line: "M112", Taken: true}, h.halt(ctx)
	}
	command := string(gcode.Command([]byte(line)))
	if err := sayable(line, command); err != nil {
		return part.Said{}, err
	}
	return h.talk.Order(ctx, command, func() error {
		if err := h.run.Situation().Typed(command); err != nil {
			return err
		}
		if doing := h.other.Doing(); doing != "" && gcode.TraitsOf([]byte(command))&gcode.Aside == 0 {
			return fmt.Errorf("%w: %s, and %s could disturb that", bounds.ErrBusy, doing, command)
		}
		for _, tell := range h.typed {
			tell(command)
		}
		return nil
	})
}

// isHalt reports whether any line of what a person typed could be meant as the
// emergency stop.
func isHalt(typed string) bool {
	return slices.ContainsFunc(strings.FieldsFunc(typed, func(r rune) bool { return r < ' ' }), func(line string) bool { return gcode.IsHalt([]byte(line)) })
}

// sayable checks that a typed line is one line and not too long.
func sayable(line, command string) error {
	trimmed := strings.TrimRight(line, "\r\n")
	switch {
	case strings.ContainsAny(trimmed, "\r\n"):
		return fmt.Errorf("%w: it has a line end in it; say one line at a time", bounds.ErrLine)
	case command == "":
		return fmt.Errorf("%w: there is nothing in it to say", bounds.ErrLine)
	case len(command) > gcode.MaxLine:
		return fmt.Errorf("%w: it has %d characters and printers take at most %d", bounds.ErrLine, len(command), gcode.MaxLine)
	}
	for _, b := range []byte(command) {
		if b < ' ' || b == 0x7f {
			return fmt.Errorf("%w: it has the control character %#02x in it", bounds.ErrLine, b)
		}
	}
	return nil
}
