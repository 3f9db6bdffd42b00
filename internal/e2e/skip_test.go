package e2e

import (
	"fmt"
	"strings"
	"testing"

	"github.com/chromedp/chromedp"

	"diathermon/internal/api"
)

// threeSquares is a file of three objects, layer by layer.
func threeSquares(layers int) []byte {
	var b strings.Builder
	b.WriteString("M140 S60\nM104 S205\nM190 S60\nM109 S205\nG28\nG90\nM83\n")
	for layer := range layers {
		fmt.Fprintf(&b, "G1 Z%.2f F600\n", 0.2*float64(layer+1))
		for object, x := range []int{20, 90, 160} {
			fmt.Fprintf(&b, "G1 E-0.8 F1800\nM486 S%d\n", object)
			if layer == 0 {
				fmt.Fprintf(&b, "M486 A%s\n", []string{"Left", "Middle", "Right"}[object])
			}
			fmt.Fprintf(&b, "G0 X%d Y60 F9000\nG1 E0.8 F1800\n", x)
			for range 2 {
				fmt.Fprintf(&b, "G1 X%d E1.2 F1800\nG1 Y90 E1.2\nG1 X%d E1.2\nG1 Y60 E1.2\n", x+30, x)
			}
		}
		b.WriteString("M486 S-1\n")
	}
	b.WriteString("G1 E-2 F1800\nG0 X0 Y200 F9000\nM104 S0\nM140 S0\nM107\n")
	return []byte(b.String())
}

// One of several objects has come off: the run is held and it is skipped on a phone, another
// one in the terminal while the run goes on, and the third is printed to its end.
func TestObjectsAreSkipped(t *testing.T) {
	t.Parallel()
	b := start(t, quick()).live()
	p := b.keeper()
	const layers = 120
	b.mustSend("plate.gcode", threeSquares(layers), false)
	p.ok("Middle (1), X 90 to 120", "shelf", "show", "plate.gcode")
	p.fails(6, `tells no object "Top" apart`, "print", "plate.gcode", "--skip", "Top")
	page := b.browser(390, 844, false)
	p.ok("Started", "print", "plate.gcode")
	b.until("some layers", func(now api.Bench) bool { return now.Run.State == "running" && now.Run.Progress.Layer >= 3 })

	p.ok("held", "hold")
	b.click(page, `[data-adjusting]`)
	b.do(page, chromedp.WaitVisible(`[data-object="1"] button`))
	b.click(page, `[data-object="1"] button`)
	b.do(page, chromedp.WaitVisible(`//*[@role="dialog"]//button[contains(., "Skip it")]`))
	b.click(page, `//*[@role="dialog"]//button[contains(., "Skip it")]`)
	middle := b.until("the middle one is skipped", func(now api.Bench) bool { return now.Run.Trim != nil && len(now.Run.Trim.Skip) == 1 }).Run
	p.ok("plate.gcode", "resume")
	b.untilRun("running")
	p.ok("skips Middle, skips Right", "trim", "--skip", "Right")
	p.fails(6, "nothing would be left", "trim", "--skip", "Left")
	right := b.until("where that was", func(now api.Bench) bool { return now.Run.Progress != nil }).Run
	if done := b.untilRun("finished"); len(done.Trim.Skip) != 2 {
		t.Errorf("at its end it skips %v", done.Trim.Skip)
	}
	tops := [3]float64{}
	for _, s := range b.laid() {
		if s.Filament > 0 && (s.From[0] != s.To[0] || s.From[1] != s.To[1]) {
			object := min(int(max(s.From[0], s.To[0])-15)/70, 2)
			tops[object] = max(tops[object], s.To[2])
		}
	}
	top := func(layer int) float64 { return 0.2*float64(layer+2) + 0.01 }
	for object, most := range []float64{0.2 * layers, top(middle.Progress.Layer), top(right.Progress.Layer)} {
		if tops[object] > most+1e-6 || object == 0 && tops[object] < most-0.01 {
			t.Errorf("object %d was laid up to %.2f mm, want %.2f", object, tops[object], most)
		}
	}
}
