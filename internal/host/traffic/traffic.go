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
	said      []said // the newest lines, of which some are not answered yet
}

// A said line may be answered.
type said struct {
	number int
	seq    uint64
}

// mostSaid is more than any printer holds.
const mostSaid = 256

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
			t.said = append(t.said, said{e.Number, t.add(Line{Sent: true, Text: e.Text, Kind: kind})})
			t.said = t.said[max(len(t.said)-mostSaid, 0):]
		case wire.Heard:
			t.heard(e)
		case wire.Restarted: // its numbers begin anew
			t.said = nil
		}
	}
	return false
}

// heard keeps what the printer says beside the line that it answers, where it was said
// last.
func (t *Traffic) heard(e *wire.Event) {
	r := e.Reply
	l := Line{Text: r.Text, Kind: kindOf(r)}
	if r.Kind == wire.Action { // without what marks it as one
		l.Text = "//action:" + r.Text
	}
	switch r.Kind {
	case wire.OK, wire.Other, wire.Error, wire.Skip:
		for i := len(t.said) - 1; i >= 0 && e.Number >= 0; i-- {
			if t.said[i].number == e.Number {
				l.Of = t.said[i].seq
				break
			}
		}
	}
	t.add(l)
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
