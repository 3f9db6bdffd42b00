package host_test

import (
	"context"
	"flag"
	"fmt"
	"io"
	"maps"
	"math"
	"math/rand/v2"
	"slices"
	"testing"
	"testing/synctest"
	"time"

	"diathermon/internal/core/bed"
	"diathermon/internal/core/run"
	"diathermon/internal/core/toolpath"
	"diathermon/internal/host"
	"diathermon/internal/host/printing"
	"diathermon/internal/samples"
	"diathermon/internal/simprinter"
)

var printers = flag.Int("printers", 2, "printers, each with six runs, on which the time left is held against what then happened")

// TestTheTimeLeftIsWhatItThenTakes prints on printers with rough heaters of which nothing
// is known, and holds what is said to be left after a tenth, half and nine tenths of each
// run against what it then took: of the first run, and of the sixth.
func TestTheTimeLeftIsWhatItThenTakes(t *testing.T) {
	tenths := []int{1, 5, 9}
	off := map[string][]float64{}
	var jumps []float64
	for seed := range uint64(*printers) {
		random := rand.New(rand.NewPCG(seed, 5))
		parts := make([]folder, 6)
		for i := range parts {
			part := samples.Coupon(10 + random.IntN(60))
			part.Nozzle, part.Bed, part.Speed = float64(195+5*random.IntN(9)), float64(50+5*random.IntN(8)), float64(40+10*random.IntN(9))
			parts[i] = shelfOf(t, part)
		}
		synctest.Test(t, func(t *testing.T) {
			files := &parts[0]
			board := newStandIn(simprinter.Rough(seed + 1))
			h, _, _ := workIn(t, t.TempDir(), shelfNow{&files}, func() (io.ReadWriteCloser, error) { return &cable{standIn: board, begun: time.Now()}, nil })
			until(t, h, time.Minute, isLive)
			for n := range parts {
				files = &parts[n]
				if _, err := h.Bed.Say(t.Context(), bed.Clear, "somebody", time.Time{}); err != nil {
					t.Fatal(err)
				}
				if _, err := h.Run.Start(t.Context(), printing.Order{File: "coupon.gcode"}); err != nil {
					t.Fatal(err)
				}
				begun := time.Now()
				var at, ends []time.Duration
				until(t, h, 3*time.Hour, func(b host.Bench) bool {
					at, ends = append(at, time.Since(begun)), append(ends, time.Since(begun)+b.Run.Left)
					return b.Run.State == run.Finished
				})
				took := at[len(at)-1]
				for _, tenth := range tenths {
					i, _ := slices.BinarySearch(at, took*time.Duration(tenth)/10)
					if n == 0 || n == 5 {
						key := fmt.Sprintf("run %d at %d0 %%", n+1, tenth)
						off[key] = append(off[key], 100*(ends[i]-took).Seconds()/took.Seconds())
						t.Logf("printer %d, %s: %.1f %% of %s", seed+1, key, off[key][len(off[key])-1], took.Round(time.Second))
					}
				}
				if n == 5 {
					low, high := ends[0], ends[0]
					for i := range ends[:len(ends)-1] {
						low, high = min(low, ends[i]), max(high, ends[i])
					}
					jumps = append(jumps, (high - low).Seconds())
				}
				until(t, h, 3*time.Hour, func(b host.Bench) bool { return b.Heat.Heaters[1].Actual < 30 })
			}
		})
	}
	for _, key := range slices.Sorted(maps.Keys(off)) {
		slices.SortFunc(off[key], func(a, b float64) int { return int(math.Copysign(1, math.Abs(a)-math.Abs(b))) })
		n := len(off[key])
		t.Logf("%s: half of them within %.1f %%, all within %.1f %%", key, math.Abs(off[key][n/2]), math.Abs(off[key][n-1]))
	}
	t.Logf("its end moved by up to %.0f s during a sixth run", slices.Max(jumps))
}

// shelfNow is a shelf of the file that is printed now.
type shelfNow struct{ now **folder }

func (s shelfNow) File(ctx context.Context, name string) (toolpath.File, error) {
	return (*s.now).File(ctx, name)
}

func (s shelfNow) Open(ctx context.Context, f toolpath.File) (io.ReadCloser, error) {
	return (*s.now).Open(ctx, f)
}
