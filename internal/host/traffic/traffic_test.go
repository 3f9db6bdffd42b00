package traffic

import (
	"fmt"
	"math"
	"sync"
	"testing"

	"diathermon/internal/core/wire"
)

func TestTrafficIsBoundedWhateverIsAsked(t *testing.T) {
	var tr Traffic
	if got := tr.Since(0, 10); len(got) != 0 {
		t.Errorf("of nothing: %v", got)
	}
	const all = 3*keptLines + 77
	for i := range all {
		tr.add(Line{Sent: i%2 == 0, Text: fmt.Sprint(i + 1)})
	}
	for _, c := range []struct {
		since       uint64
		limit       int
		first, many uint64
	}{
		{all - 3, 10, all - 2, 3}, {0, 5, all - 4, 5}, {all - 100, 7, all - 6, 7}, {0, 1 << 40, all - keptLines + 1, keptLines},
		{all, 10, 0, 0}, {all + 1, 10, 0, 0}, {math.MaxUint64, 1, 0, 0}, {math.MaxUint64 - 1, 4000, 0, 0}, {0, 0, 0, 0}, {0, -1, 0, 0},
	} {
		got := tr.Since(c.since, c.limit)
		if uint64(len(got)) != c.many || c.many > 0 && got[0].Seq != c.first {
			t.Errorf("since %d, at most %d: %d lines, want %d from %d", c.since, c.limit, len(got), c.many, c.first)
		}
		for i, l := range got {
			if l.Seq != c.first+uint64(i) || l.Text != fmt.Sprint(l.Seq) {
				t.Fatalf("line %d is %+v", i, l)
			}
		}
	}
}

func TestTrafficIsReadWhileItGrows(t *testing.T) {
	var tr Traffic
	var wait sync.WaitGroup
	for range 4 {
		wait.Go(func() {
			for last := uint64(0); last < 20_000; {
				lines := tr.Since(last, 300)
				for i, l := range lines {
					if l.Text != "x" || i > 0 && l.Seq != lines[i-1].Seq+1 {
						t.Errorf("read %+v", l)
						return
					}
				}
				if len(lines) > 0 {
					last = lines[len(lines)-1].Seq
				}
			}
		})
	}
	for range 20_000 {
		tr.add(Line{Sent: true, Text: "x"})
	}
	wait.Wait()
}

func TestEachReplyStandsBesideTheLineThatItAnswers(t *testing.T) {
	tr := New(nil)
	sent := func(number int, lane wire.Lane, text string, own bool) {
		tr.Hear(&wire.Event{Kind: wire.Said, Number: number, Text: text, Request: wire.Request{Lane: lane}, Own: own})
	}
	heard := func(number int, text string) {
		tr.Hear(&wire.Event{Kind: wire.Heard, Number: number, Reply: wire.Sort([]byte(text))})
	}
	sent(1, wire.Manual, "N1 M115*1", false)
	sent(2, wire.File, "N2 G1 X1*2", false)
	heard(1, "FIRMWARE_NAME:Stand-in")
	heard(1, "T:20.0 /0.0 B:20.0 /0.0")
	heard(1, "ok")
	sent(3, wire.Manual, "N3 M105*3", true)
	heard(2, "ok N2 P15 B3")
	heard(3, "Error:checksum mismatch")
	heard(-1, "ok")                         // for what was refused
	sent(3, wire.Manual, "N3 M105*3", true) // once more
	heard(3, "ok T:20.0 /0.0 B:20.0 /0.0")
	heard(900, "ok")
	want := []Line{
		{Kind: Ours}, {Kind: OfFile}, {Kind: Answer, Of: 1}, {Kind: Report}, {Kind: Acknowledgement, Of: 1}, {Kind: Ours}, {Kind: Acknowledgement, Of: 2},
		{Kind: Wrong, Of: 6}, {Kind: Acknowledgement}, {Kind: Ours}, {Kind: Report, Of: 10}, {Kind: Acknowledgement},
	}
	for i, got := range tr.Since(0, 100) {
		if got.Kind != want[i].Kind || got.Of != want[i].Of {
			t.Errorf("%s: %s of %d, want %s of %d", got.Text, got.Kind, got.Of, want[i].Kind, want[i].Of)
		}
	}
}
