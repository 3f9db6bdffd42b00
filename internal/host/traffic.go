package host

import (
	"sync/atomic"
	"time"
)

// Traffic is one line said on the wire.
type Traffic struct {
	Seq  uint64 // counts from 1, without gaps
	At   time.Time
	Sent bool // by the host; otherwise by the printer
	Text string
}

// traffic keeps the newest lines. The machine's owner adds to it; whoever wants to
// read does so without asking: what is there is never written over, and what is too
// old is let go in whole blocks.
type traffic struct {
	kept      atomic.Pointer[[]*trafficBlock] // the oldest first
	seq       atomic.Uint64                   // of the newest line that may be read
	published uint64
}

type trafficBlock struct {
	first uint64 // the sequence number of its first line
	lines [trafficBlockSize]Traffic
}

// keptLines is how many lines of traffic are kept at least: some minutes of a print.
const (
	keptLines        = 4000
	trafficBlockSize = 250
)

func (t *traffic) add(sent bool, text string) {
	seq := t.seq.Load() + 1
	blocks := t.kept.Load()
	if blocks == nil || seq-(*blocks)[len(*blocks)-1].first == trafficBlockSize {
		var next []*trafficBlock
		if blocks != nil {
			next = append(next, (*blocks)[max(len(*blocks)-keptLines/trafficBlockSize, 0):]...)
		}
		next = append(next, &trafficBlock{first: seq})
		blocks = &next
		t.kept.Store(blocks)
	}
	last := (*blocks)[len(*blocks)-1]
	last.lines[seq-last.first] = Traffic{Seq: seq, At: time.Now(), Sent: sent, Text: text}
	t.seq.Store(seq)
}

// since returns the lines after seq, at most the newest limit.
func (t *traffic) since(seq uint64, limit int) []Traffic {
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
	out := make([]Traffic, 0, newest-from+1)
	for _, b := range *blocks {
		for n := max(from, b.first); n <= newest && n < b.first+trafficBlockSize; n++ {
			out = append(out, b.lines[n-b.first])
		}
	}
	return out
}

// Traffic returns what was said on the wire after a sequence number, at most the
// newest limit lines. The machine's owner does not wait for it.
func (h *Host) Traffic(since uint64, limit int) []Traffic { return h.traffic.since(since, limit) }
