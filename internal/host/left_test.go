package host_test

import (
	"context"
	"flag"
	"fmt"
	"io"
	"maps"
	"math"
	"math/rand/v2"
	"os"
	"slices"
	"testing"
	"testing/synctest"
	"time"

	"diathermon/internal/core/bed"
	"diathermon/internal/core/motion"
	"diathermon/internal/core/run"
	"diathermon/internal/core/toolpath"
	"diathermon/internal/host"
	"diathermon/internal/host/printing"
	"diathermon/internal/samples"
	"diathermon/internal/simprinter"
)

var (
	printers = flag.Int("printers", 2, "printers, each with six runs, on which the time left is held against what then happened")
	whole    = flag.Bool("parts", false, "let the first and the sixth run be those of whole parts, not of coupons")
)

// TestTheTimeLeftIsWhatItThenTakes prints on printers with rough heaters of which nothing
// is known, and holds what is said to be left after a tenth, half and nine tenths of each
// run against what it then took: of the first run, the third and the sixth.
func TestTheTimeLeftIsWhatItThenTakes(t *testing.T) {
	tenths := []int{1, 5, 9}
	off := map[string][]float64{}
	var jumps []float64
	for seed := range uint64(*printers) {
		random := rand.New(rand.NewPCG(seed, 5))
		files := make([]folder, 6)
		for i := range files {
			part := samples.Coupon(10 + random.IntN(60))
			if *whole && (i == 0 || i == 5) {
				part = samples.Parts()[random.IntN(len(samples.Parts()))]
				part.Layers = part.Layers/4 + random.IntN(part.Layers)
			}
			part.Nozzle, part.Bed, part.Speed = float64(195+5*random.IntN(9)), float64(50+5*random.IntN(8)), float64(40+10*random.IntN(9))
			files[i] = shelfOf(t, samples.Limiting{Part: part})
		}

		synctest.Test(t, func(t *testing.T) {
			file, told := &files[0], make(chan motion.Limits, 9)
			printer := simprinter.Rough(seed + 1)
			printer.PlannerSlots = []int{16, 64, 24, 48}[seed%4] // of which the host knows nothing
			printer.Dialect.Stubborn = seed%3 == 1
			board := newStandIn(printer)
			open := func() (io.ReadWriteCloser, error) { // moves of half a millimetre want more lines than come late
				return &cable{standIn: board, begun: time.Now(), pace: pace{late: time.Millisecond}}, nil
			}
			h, _, _ := workIn(t, t.TempDir(), shelfNow{&file}, open, func(c *host.Config) { c.Motion = func(l motion.Limits) { told <- l } })
			until(t, h, time.Minute, isLive)
			limits := <-told
			for i := range files { // read as the service reads them
				files[i].readWith(t, limits)
			}
			for n := range files {
				file = &files[n]
				if _, err := h.Bed.Say(t.Context(), bed.Clear, "somebody", time.Time{}); err != nil {
					t.Fatal(err)
				}
				if _, err := h.Run.Start(t.Context(), printing.Order{File: "coupon.gcode"}); err != nil {
					t.Fatal(err)
				}
				begun := time.Now()
				var at, ends []time.Duration
				until(t, h, 24*time.Hour, func(b host.Bench) bool {
					at, ends = append(at, time.Since(begun)), append(ends, time.Since(begun)+b.Run.Left)
					return b.Run.State == run.Finished
				})
				took := at[len(at)-1]
				for _, tenth := range tenths {
					i, _ := slices.BinarySearch(at, took*time.Duration(tenth)/10)
					if n == 0 || n == 2 || n == 5 {
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
	bounds := map[string]float64{
		"run 1 at 10 %": 10, "run 1 at 50 %": 6, "run 1 at 90 %": 0.6,
		"run 3 at 10 %": 5, "run 3 at 50 %": 4, "run 3 at 90 %": 0.6,
		"run 6 at 10 %": 5, "run 6 at 50 %": 2, "run 6 at 90 %": 0.6,
	}
	if *whole {
		bounds = map[string]float64{
			"run 1 at 10 %": 5, "run 1 at 50 %": 2, "run 1 at 90 %": 2,
			"run 3 at 10 %": 6, "run 3 at 50 %": 2, "run 3 at 90 %": 1,
			"run 6 at 10 %": 3, "run 6 at 50 %": 1, "run 6 at 90 %": 1,
		}
	}
	for _, key := range slices.Sorted(maps.Keys(off)) {
		for i := range off[key] {
			off[key][i] = math.Abs(off[key][i])
		}
		slices.Sort(off[key])
		half, all := off[key][len(off[key])/2], off[key][len(off[key])-1]
		if t.Logf("%s: half of them within %.1f %%, all within %.1f %%", key, half, all); all > bounds[key] {
			t.Errorf("%s: %.1f %% off, want %g %% at the most", key, all, bounds[key])
		}
	}
	if most := slices.Max(jumps); most > 120 {
		t.Errorf("its end moved by up to %.0f s during a sixth run", most)
	} else {
		t.Logf("its end moved by up to %.0f s during a sixth run", most)
	}
}

// shelfNow is a shelf of the file that is printed now.
type shelfNow struct{ now **folder }

func (s shelfNow) File(ctx context.Context, name string) (toolpath.File, error) {
	return (*s.now).File(ctx, name)
}

func (s shelfNow) Open(ctx context.Context, f toolpath.File) (io.ReadCloser, error) {
	return (*s.now).Open(ctx, f)
}

func (s shelfNow) Read(name string) (*os.File, error) { return (*s.now).Read(name) }

// readWith reads the file for a printer that has told its limits.
func (f *folder) readWith(t *testing.T, l motion.Limits) {
	t.Helper()
	body, err := os.Open(f.path)
	if err != nil {
		t.Fatal(err)
	}
	defer body.Close()
	if f.file.Summary, err = toolpath.Scan(body, toolpath.Options{Limits: l, Of: toolpath.PrintersLimits}); err != nil {
		t.Fatal(err)
	}
}
