package host_test

import (
	"fmt"
	"io"
	"strings"
	"testing"
	"testing/synctest"
	"time"

	"diathermon/internal/core/run"
	"diathermon/internal/core/trim"
	"diathermon/internal/host"
	"diathermon/internal/host/printing"
	"diathermon/internal/simprinter"
)

// text is a file as it stands.
type text string

func (t text) Write(w io.Writer) error {
	_, err := io.WriteString(w, string(t))
	return err
}

// twoSquares is a file of two objects, layer by layer.
func twoSquares(layers int) text {
	var b strings.Builder
	b.WriteString("M140 S60\nM104 S205\nM190 S60\nM109 S205\nG28\nG90\nM83\n")
	for layer := range layers {
		fmt.Fprintf(&b, "G1 Z%.2f F600\n", 0.2*float64(layer+1))
		for object, x := range []int{40, 150} {
			fmt.Fprintf(&b, "G1 E-0.8 F1800\nM486 S%d\nG0 X%d Y60 F9000\nG1 E0.8 F1800\n", object, x)
			for range 3 {
				fmt.Fprintf(&b, "G1 X%d E1.2 F1800\nG1 Y90 E1.2\nG1 X%d E1.2\nG1 Y60 E1.2\n", x+30, x)
			}
		}
		b.WriteString("M486 S-1\n")
	}
	b.WriteString("G1 E-2 F1800\nG0 X0 Y200 F9000\nM104 S0\nM140 S0\nM107\n")
	return text(b.String())
}

// An object that is skipped while the run goes on is not laid any more, and the other one is
// as it was; also when another host goes on with the run, and when it is picked up.
func TestAnObjectIsSkippedInTheMiddle(t *testing.T) {
	for name, disturb := range map[string]func(*rig){
		"nothing happens":      func(*rig) {},
		"another host goes on": func(r *rig) { r.another() },
		"it is held and goes on": func(r *rig) {
			r.Run.Hold(r.t.Context(), "")
			r.until(time.Minute, parkedUp)
			r.Run.Resume(r.t.Context(), "")
		},
		"the printer starts anew": func(r *rig) { r.anew() },
	} {
		t.Run(name, func(t *testing.T) {
			synctest.Test(t, func(t *testing.T) {
				r := ordered(t, twoSquares(12), printing.Order{})
				r.until(time.Hour, func(b host.Bench) bool { return b.Run != nil && b.Run.Layer == 4 })
				now, err := r.Run.Trim(t.Context(), "", func(was trim.Trim) trim.Trim { was.Skip = []string{"1"}; return was }, "Ada")
				if err != nil {
					t.Fatal(err)
				}
				until := 0.2 * float64(now.Layer+1)
				r.until(time.Hour, func(b host.Bench) bool { return b.Run.Layer == 7 })
				disturb(r)
				r.untilState(2*time.Hour, run.Finished)
				left, right := map[string]float64{}, 0.0
				r.board.do(func(b *simprinter.Board) {
					for _, s := range b.Segments() {
						layer := fmt.Sprintf("%.1f", s.To[2])
						switch {
						case s.From == s.To || s.Filament <= 0:
						case s.From[0] > 100 || s.To[0] > 100:
							right = max(right, s.To[2])
						default:
							left[layer] += s.Filament
						}
					}
				})
				if right > until+1e-6 {
					t.Errorf("the object that is skipped from %.1f mm on was laid up to %.1f mm", until, right)
				}
				for layer := 1; layer <= 12; layer++ {
					want := 3 * 4 * 1.2
					if got := left[fmt.Sprintf("%.1f", 0.2*float64(layer))]; got < want-0.01 || got > 2.01*want || got > want+0.01 && name != "the printer starts anew" {
						t.Errorf("layer %d of the other one has %.2f mm, want %.2f", layer, got, want)
					}
				}
			})
		})
	}
}

// anew lets the printer forget everything, and a person pick the run up.
func (r *rig) anew() {
	r.t.Helper()
	height := 0.0
	r.board.do(func(b *simprinter.Board) { _, _, height = b.Place() })
	r.board.reset()
	b := r.until(time.Minute, func(b host.Bench) bool {
		return b.Run.State == run.Interrupted && b.Run.Forgotten && isLive(b)
	})
	if _, err := r.Run.PickUp(r.t.Context(), b.Run.ID, printing.Choice{Height: height}); err != nil {
		r.t.Fatal(err)
	}
}
