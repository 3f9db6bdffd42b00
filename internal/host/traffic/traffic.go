// Package traffic keeps what passes the wire: the newest lines, for everyone to read,
// and the flight recorder, for what went wrong.
package traffic

import (
	"sync/atomic"
	"time"

	"diathermon/internal/core/heat"
	"diathermon/internal/core/wire"
	"diathermon/internal/host/part"
)

// A Line is one line said on the wire.
type Line struct {
	Seq  uint64 // counts from 1, without gaps
	At   time.Time
	Sent bool // by the host; otherwise by the printer
	Text string
	Kind Kind
	Of   uint64 // of what the printer says: the line that it answers; 0: none
}

// A Kind sorts lines for who looks at them.
type Kind string

// The kinds.
const (
	OfFile          Kind = "file" // said by the host
	Ours            Kind = "ours"
	Answer          Kind = "answer" // said by the printer
	Acknowledgement Kind = "acknowledgement"
	Report          Kind = "report"
	Wrong           Kind = "error"
)

// Lines are what everyone is told of the wire.
type Lines []Line

// Traffic is the part. The loop adds to it; whoever wants to read does so without
// asking: what is there is never written over, and what is too old is let go in whole
// blocks.
type Traffic struct {
	part.Plain
	loop      *part.Loop
	kept      atomic.Pointer[[]*block] // the oldest first
	seq       atomic.Uint64            // of the newest line that may be read
	published uint64
	open      []open // lines that are not acknowledged yet, the oldest first
}

// An open line waits for its acknowledgement.
type open struct {
	number int // -1: it has none
	seq    uint64
}

// mostOpen is more than any printer holds.
const mostOpen = 256

// New returns the part.
func New(loop *part.Loop) *Traffic { return &Traffic{loop: loop} }

// Hear keeps what is said.
func (t *Traffic) Hear(event any) bool {
	if e, ok := event.(*wire.Event); ok {
		switch e.Kind {
		case wire.Said:
			kind := Ours
			if e.Request.Lane == wire.File && !e.Own {
				kind = OfFile
			}
			t.open = append(t.open, open{e.Number, t.add(Line{Sent: true, Text: e.Text, Kind: kind})})
			t.open = t.open[max(len(t.open)-mostOpen, 0):]
		case wire.Heard:
			t.heard(e.Reply)
		case wire.Acked:
			for len(t.open) > 0 && t.open[0].number <= e.Number {
				t.open = t.open[1:]
			}
		case wire.Greeted, wire.Restarted:
			t.open = nil
		}
	}
	return false
}

// heard keeps what the printer says beside the line that it answers: of an ok that names
// its line that one, otherwise the oldest that is open.
func (t *Traffic) heard(r wire.Reply) {
	l := Line{Text: r.Text, Kind: kindOf(r)}
	if r.Kind == wire.Action { // without what marks it as one
		l.Text = "//action:" + r.Text
	}
	if r.Kind == wire.OK && r.Number >= 0 {
		for len(t.open) > 1 && t.open[0].number != r.Number && t.open[0].number < r.Number {
			t.open = t.open[1:]
		}
	}
	switch r.Kind {
	case wire.OK, wire.Other, wire.Error, wire.Skip:
		if len(t.open) > 0 {
			l.Of = t.open[0].seq
		}
	}
	t.add(l)
	if r.Kind == wire.OK && len(t.open) > 0 {
		t.open = t.open[1:]
	}
}

func kindOf(r wire.Reply) Kind {
	switch r.Kind {
	case wire.OK:
		if len(r.Text) > len("ok N1234567 P15 B15") && heat.ParseReport(r.Text) != nil {
			return Report
		}
		return Acknowledgement
	case wire.Error, wire.Fatal, wire.Resend:
		return Wrong
	case wire.Report, wire.Busy, wire.Idle:
		return Report
	}
	return Answer
}

// Tick tells everyone the lines that are new.
func (t *Traffic) Tick() {
	if lines := t.Since(t.published, part.Queued); len(lines) > 0 {
		t.published = lines[len(lines)-1].Seq
		t.loop.Publish(lines)
	}
}

type block struct {
	first uint64 // the sequence number of its first line
	lines [blockSize]Line
}

// keptLines is how many lines of traffic are kept at least: some minutes of a print.
const (
	keptLines = 4000
	blockSize = 250
)

// add keeps a line and returns its sequence number.
func (t *Traffic) add(l Line) uint64 {
	seq := t.seq.Load() + 1
	blocks := t.kept.Load()
	if blocks == nil || seq-(*blocks)[len(*blocks)-1].first == blockSize {
		var next []*block
		if blocks != nil {
			next = append(next, (*blocks)[max(len(*blocks)-keptLines/blockSize, 0):]...)
		}
		next = append(next, &block{first: seq})
		blocks = &next
		t.kept.Store(blocks)
	}
	last := (*blocks)[len(*blocks)-1]
	l.Seq, l.At = seq, time.Now()
	last.lines[seq-last.first] = l
	t.seq.Store(seq)
	return seq
}

// Since returns the lines after a sequence number, at most the newest limit. It may be
// called from anywhere; the loop does not wait for it.
func (t *Traffic) Since(seq uint64, limit int) Lines {
	newest, blocks := t.seq.Load(), t.kept.Load()
	if blocks == nil || limit <= 0 || seq >= newest {
		return nil
	}
	from := max(seq+1, (*blocks)[0].first)
	if from > newest {
		return nil
	}
	if wanted := uint64(min(limit, keptLines)); newest-from >= wanted {
		from = newest - wanted + 1
	}
	out := make(Lines, 0, newest-from+1)
	for _, b := range *blocks {
		for n := max(from, b.first); n <= newest && n < b.first+blockSize; n++ {
			out = append(out, b.lines[n-b.first])
		}
	}
	return out
}
