// Package remarks passes on what the printer says in words.
package remarks

import (
	"strings"

	"diathermon/internal/core/wire"
	"diathermon/internal/host/part"
)

// Remarks is the part.
type Remarks struct {
	part.Plain
	loop *part.Loop
}

// New returns the part.
func New(loop *part.Loop) *Remarks { return &Remarks{loop: loop} }

// Hear passes on what is meant for a person.
func (r *Remarks) Hear(event any) bool {
	e, ok := event.(*wire.Event)
	if !ok || e.Kind != wire.Heard || e.Own {
		return false
	}
	text := e.Reply.Text
	switch e.Reply.Kind {
	case wire.Error:
		if !strings.Contains(text, "Last Line:") { // which is the conversation's own upkeep
			r.loop.Message(wire.Wrong, text)
		}
	case wire.Fatal:
		r.loop.Message(wire.Stopped, text)
	case wire.Action:
		r.loop.Message(wire.Wanted, text)
	case wire.Other:
		if said, is := strings.CutPrefix(text, "echo:"); is && said != "" {
			r.loop.Message(wire.Told, said)
		}
	}
	return false
}
