package host_test

import (
	"io"
	"testing"
	"testing/synctest"
	"time"

	"diathermon/internal/core/motion"
	"diathermon/internal/core/run"
	"diathermon/internal/core/toolpath"
	"diathermon/internal/core/trim"
	"diathermon/internal/host"
	"diathermon/internal/host/printing"
	"diathermon/internal/samples"
	"diathermon/internal/simprinter"
)

// A machine at half its speed does not take twice as long: what is left is planned anew.
func TestAChangedRunsTimeIsPlannedAnew(t *testing.T) {
	part := samples.Coupon(60)
	part.Speed = 120
	for _, c := range []struct {
		name          string
		first, second trim.Trim
	}{
		{"as sliced", trim.Trim{}, trim.Trim{}},
		{"half as fast", trim.Trim{Numbers: trim.Numbers{Speed: 50}}, trim.Trim{}},
		{"three times as fast, and then as sliced", trim.Trim{Numbers: trim.Numbers{Speed: 300}}, trim.Trim{Numbers: trim.Numbers{Speed: 100}}},
		{"gently, and then faster", trim.Trim{Numbers: trim.Numbers{Acceleration: 150}}, trim.Trim{Numbers: trim.Numbers{Acceleration: 300, Speed: 150}}},
	} {
		t.Run(c.name, func(t *testing.T) {
			files := []folder{shelfOf(t, part)}
			synctest.Test(t, func(t *testing.T) {
				file, told := &files[0], make(chan motion.Limits, 9)
				var limits motion.Limits
				h, _, _ := workIn(t, t.TempDir(), shelfNow{&file}, func() (io.ReadWriteCloser, error) {
					made := newCable(simprinter.Vesper())
					made.late = time.Millisecond
					return made, nil
				}, func(c *host.Config) {
					c.Motion = func(l motion.Limits) { told <- l }
					c.Reading = func() toolpath.Options { return toolpath.Options{Limits: limits} }
				})
				until(t, h, time.Minute, isLive)
				limits = <-told
				file.readWith(t, limits)
				if _, err := h.Run.Start(t.Context(), printing.Order{File: file.file.Name, Trim: c.first}); err != nil {
					t.Fatal(err)
				}
				begun := time.Now()
				layer := func(n int) host.Bench {
					return until(t, h, time.Hour, func(b host.Bench) bool { return b.Run.State.Final() || b.Run.Layer >= n })
				}
				b := layer(10)
				said := map[string]time.Duration{"at layer 10": time.Since(begun) + b.Run.Left}
				if !c.second.None() || c.second.Speed != 0 {
					if _, err := h.Run.Trim(t.Context(), "", func(trim.Trim) trim.Trim { return c.second }, "Ilse"); err != nil {
						t.Fatal(err)
					}
					layer(11)
					b = until(t, h, time.Second, isLive)
					said = map[string]time.Duration{"at layer 11, changed": time.Since(begun) + b.Run.Left}
				}
				b = layer(40)
				said["at layer 40"] = time.Since(begun) + b.Run.Left
				if b = layer(1000); b.Run.State != run.Finished {
					t.Fatalf("it is %s: %s", b.Run.State, b.Run.Reason)
				}
				took := time.Since(begun)
				for when, ends := range said {
					if off := 100 * (ends - took).Seconds() / took.Seconds(); off < -1.5 || off > 1.5 {
						t.Errorf("%s it was said to end after %s, and took %s: %.1f %%", when, ends.Round(time.Second), took.Round(time.Second), off)
					}
				}
			})
		})
	}
}
