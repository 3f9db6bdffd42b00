package run_test

import (
	"math"
	"testing"
	"time"

	"diathermon/internal/core/run"
)

func TestProgressIsMeasuredInTime(t *testing.T) {
	marks := []run.Mark{{Command: 10, Seconds: 5, Z: 0.2}, {Command: 20, Seconds: 45, Z: 0.4}, {Command: 30, Seconds: 95, Z: 0.6}}
	const total = 100 * time.Second
	course := run.Course{Every: 5}
	for _, m := range marks {
		course.Pass(m.Command+1, m.Seconds)
	}
	for _, c := range []struct {
		taken, layer int
		share        float64
	}{{0, 0, 0}, {5, 0, 0.025}, {9, 0, 0.045}, {10, 1, 0.05}, {15, 1, 0.25}, {20, 2, 0.45}, {30, 3, 0.95}, {40, 3, 1}} {
		p := run.Measure(c.taken, 40, marks, course, total)
		if p.Layer != c.layer || p.Layers != 3 || math.Abs(p.Share-c.share) > 1e-9 {
			t.Errorf("after %d: layer %d, share %v, want %d, %v", c.taken, p.Layer, p.Share, c.layer, c.share)
		}
		if want := time.Duration((1 - c.share) * float64(total)); (p.Left - want).Abs() > time.Millisecond {
			t.Errorf("after %d: %s left, want %s", c.taken, p.Left, want)
		}
	}
	if p := run.Measure(3, 4, nil, run.Course{}, 0); p.Share != 0.75 || p.Left != 0 {
		t.Errorf("without times the lines count: %+v", p)
	}
}

func TestAPrinterIsBelievedAsMuchAsItHasShown(t *testing.T) {
	var h run.Habits
	var p run.Pace
	if got := p.Left(h, time.Hour); got != time.Hour {
		t.Errorf("of a printer that has shown nothing %s of an hour are left", got)
	}
	// Its moves take a fifth longer than they were computed to; in the middle nobody works.
	now, made := time.Minute, 10*time.Second
	for range 600 {
		p.Note(now, made)
		now, made = now+1200*time.Millisecond, made+time.Second
	}
	p.Pause()
	now += 30 * time.Second
	p.Note(now, made)
	now += time.Hour
	p.Note(now, made)
	if got := p.Left(h, time.Hour).Minutes(); got < 69 || got > 71 {
		t.Errorf("after ten minutes an hour is said to take %.1f minutes, want about 70", got)
	}
	for range 20 {
		h = p.Learn(h)
	}
	if math.Abs(h.Ratio-1.2) > 0.01 {
		t.Errorf("learned is %+v", h)
	}
	if got := new(run.Pace).Left(h, time.Hour).Minutes(); math.Abs(got-72) > 0.5 {
		t.Errorf("the next run begins with %.1f minutes", got)
	}
	short := run.Pace{}
	short.Note(time.Second, 0)
	short.Note(50*time.Second, 5*time.Second)
	if got := short.Learn(h); got != h {
		t.Errorf("of five seconds it learns %+v", got)
	}
	if got := (run.Habits{}).Settle(); got != 10*time.Second {
		t.Errorf("an ordinary printer waits %s", got)
	}
	for range 30 {
		h = h.Settled(25 * time.Second)
	}
	if got := h.Settled(time.Hour).Settle(); got < 24*time.Second || got > 30*time.Second {
		t.Errorf("one that waits 25 s, and once an hour, is said to wait %s", got)
	}
}
