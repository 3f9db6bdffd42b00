// Package quiet gathers what a log would say again and again: a record that repeats
// an earlier one is counted, and the count is told once a minute.
//
// It promises that the first of every kind is told at once and that nothing is left
// uncounted. It leaves to log/slog how records look and where they go.
package quiet

import (
	"context"
	"fmt"
	"log/slog"
	"strings"
	"sync"
	"time"
)

// Bounds of what is told in a Window.
const (
	Window = time.Minute
	kinds  = 20   // records with one message that differ in what they say besides
	most   = 2000 // kinds that are remembered
)

// Handler passes records on to another handler, gathered.
type Handler struct {
	next   slog.Handler
	shared *shared
	prefix string // what With has added
}

type shared struct {
	mu    sync.Mutex
	seen  map[string]*kind // by all that a record says
	heads map[string]int   // by level and message: how many kinds of it
}

// kind is one record that may repeat.
type kind struct {
	head   string
	more   int // that were not told
	record slog.Record
	next   slog.Handler
}

// New returns a Handler in front of next.
func New(next slog.Handler) *Handler {
	return &Handler{next: next, shared: &shared{seen: map[string]*kind{}, heads: map[string]int{}}}
}

// Enabled reports whether the handler behind it takes such records.
func (h *Handler) Enabled(ctx context.Context, l slog.Level) bool { return h.next.Enabled(ctx, l) }

// WithAttrs returns a handler that adds attributes and gathers with this one.
func (h *Handler) WithAttrs(attrs []slog.Attr) slog.Handler {
	return &Handler{h.next.WithAttrs(attrs), h.shared, h.prefix + fmt.Sprint(attrs)}
}

// WithGroup returns a handler that opens a group and gathers with this one.
func (h *Handler) WithGroup(name string) slog.Handler {
	return &Handler{h.next.WithGroup(name), h.shared, h.prefix + name + "."}
}

// Handle passes a record on unless it repeats one of the last minute.
func (h *Handler) Handle(ctx context.Context, r slog.Record) error {
	head := r.Level.String() + " " + r.Message
	var all strings.Builder
	all.WriteString(h.prefix + head)
	r.Attrs(func(a slog.Attr) bool {
		all.WriteString(" " + a.String())
		return true
	})
	if h.shared.repeats(head, all.String(), r, h.next) {
		return nil
	}
	return h.next.Handle(ctx, r)
}

// repeats reports whether a record is only to be counted. Of one message so many
// kinds are told; the rest counts as one more.
func (s *shared) repeats(head, all string, r slog.Record, next slog.Handler) bool {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.heads[head] >= kinds || len(s.seen) >= most {
		if s.seen[all] == nil {
			all = head
		}
	}
	if k := s.seen[all]; k != nil {
		k.more++
		k.record = r.Clone()
		return true
	}
	s.seen[all] = &kind{head: head, next: next}
	s.heads[head]++
	time.AfterFunc(Window, func() { s.tell(all) })
	return false
}

// tell says how often a record was repeated, and forgets it.
func (s *shared) tell(all string) {
	s.mu.Lock()
	k := s.seen[all]
	delete(s.seen, all)
	if s.heads[k.head]--; s.heads[k.head] == 0 {
		delete(s.heads, k.head)
	}
	s.mu.Unlock()
	if k.more == 0 {
		return
	}
	r := slog.NewRecord(time.Now(), k.record.Level, k.record.Message, k.record.PC)
	k.record.Attrs(func(a slog.Attr) bool {
		r.AddAttrs(a)
		return true
	})
	r.AddAttrs(slog.Int("more_like_it", k.more), slog.Duration("within", Window))
	k.next.Handle(context.Background(), r)
}
