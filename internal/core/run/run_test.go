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
	for _, c := range []struct {
		taken, layer int
		share        float64
	}{{0, 0, 0}, {5, 0, 0.025}, {9, 0, 0.045}, {10, 1, 0.05}, {15, 1, 0.25}, {20, 2, 0.45}, {30, 3, 0.95}, {40, 3, 1}} {
		p := run.Measure(c.taken, 40, marks, total)
		if p.Layer != c.layer || p.Layers != 3 || math.Abs(p.Share-c.share) > 1e-9 {
			t.Errorf("after %d: layer %d, share %v, want %d, %v", c.taken, p.Layer, p.Share, c.layer, c.share)
		}
		if want := time.Duration((1 - c.share) * float64(total)); (p.Left - want).Abs() > time.Millisecond {
			t.Errorf("after %d: %s left, want %s", c.taken, p.Left, want)
		}
	}
	if p := run.Measure(3, 4, nil, 0); p.Share != 0.75 || p.Left != 0 {
		t.Errorf("without times the lines count: %+v", p)
	}
}
