package run_test

import (
	"math"
	"slices"
	"testing"
	"time"

	"diathermon/internal/core/run"
)

func TestOnlyTheTablesTransitionsAreAllowed(t *testing.T) {
	all := []run.State{run.Waiting, run.Warming, run.Running, run.Held, run.Ending, run.Finished, run.Stopped, run.Broken, run.Interrupted}
	allowed := map[run.State][]run.State{
		run.Waiting: {run.Warming, run.Running, run.Stopped, run.Broken, run.Interrupted},
		run.Warming: {run.Running, run.Held, run.Ending, run.Stopped, run.Broken, run.Interrupted},
		run.Running: {run.Held, run.Ending, run.Stopped, run.Broken, run.Interrupted},
		run.Held:    {run.Warming, run.Running, run.Ending, run.Stopped, run.Broken, run.Interrupted},
		run.Ending:  {run.Finished, run.Stopped, run.Broken, run.Interrupted},

		run.Interrupted: {run.Warming, run.Running, run.Held, run.Ending, run.Stopped, run.Broken},
	}
	for _, from := range all {
		for _, to := range all {
			got, err := from.Next(to)
			if want := slices.Contains(allowed[from], to); (err == nil) != want {
				t.Errorf("%s to %s: %v, want allowed %v", from, to, err, want)
			} else if want && got != to || !want && got != from {
				t.Errorf("%s to %s led to %s", from, to, got)
			}
		}
		if final := len(allowed[from]) == 0; from.Final() != final {
			t.Errorf("%s is final: %v", from, from.Final())
		}
	}
}

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
