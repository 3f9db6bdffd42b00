package e2e

import (
	"fmt"
	"math"
	"os/exec"
	"runtime"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/chromedp/chromedp"
	"github.com/chromedp/chromedp/kb"

	"diathermon/internal/api"
	"diathermon/internal/api/ops"
	"diathermon/internal/client"
	"diathermon/internal/simprinter"
)

// place is where the stand-in's head is.
func (b *bench) place() (at [3]float64) {
	b.device.Do(func(p *simprinter.Board) { at[0], at[1], at[2] = p.Place() })
	return at
}

func at(x, y, z float64) api.Press { return api.Press{To: &api.Axes{X: &x, Y: &y, Z: &z}} }

// TestPressesOfTwoPersonsAddUp: a hundred of them at once, on a printer that is slow.
func TestPressesOfTwoPersonsAddUp(t *testing.T) {
	t.Parallel()
	p := simprinter.Vesper()
	p.Warp = 8
	b := start(t, p).live()
	if _, err := client.Call(t.Context(), b.Client, ops.Press, ops.Body(at(10, 10, 10))); status(err) != 409 || !strings.Contains(err.Error(), "home") {
		t.Fatalf("before it is homed: %v", err)
	}
	if now, err := client.Call(t.Context(), b.Client, ops.Home, ops.Body(api.Home{Axes: ""})); err != nil || now.Homed != "XYZ" || now.Going {
		t.Fatalf("%+v, %v", now, err)
	}
	if _, err := client.Call(t.Context(), b.Client, ops.Press, ops.Body(at(200, 200, 30))); err != nil {
		t.Fatal(err)
	}
	b.until("its being far away", func(now api.Bench) bool { return !now.Motion.Going })
	homing := make(chan error, 1)
	go func() {
		_, err := client.Call(t.Context(), b.Client, ops.Home, ops.Body(api.Home{Axes: ""}))
		homing <- err
	}()
	b.until("homing again", func(now api.Bench) bool { return now.Motion.Going })
	if _, err := client.Call(t.Context(), b.Client, ops.Press, ops.Body(at(100, 100, 20))); status(err) != 409 || !strings.Contains(err.Error(), "it is homing") {
		t.Errorf("while it is homing: %v", err)
	}
	if err := <-homing; err != nil {
		t.Errorf("homed again: %v", err)
	}
	if now, err := client.Call(t.Context(), b.Client, ops.Press, ops.Body(at(100, 100, 20))); err != nil || now.X != 100 || !now.Going {
		t.Fatalf("it answers at once with where it goes: %+v, %v", now, err)
	}
	want := [3]float64{100, 100, 20}
	var mu sync.Mutex
	var persons sync.WaitGroup
	for person := range 2 {
		persons.Go(func() {
			for i := range 50 {
				by := []float64{1, -0.1, 0.5, 10, -10}[(i+person)%5]
				press := api.Press{By: &api.Axes{}}
				axis := (i * (person + 1)) % 3
				*[]**float64{&press.By.X, &press.By.Y, &press.By.Z}[axis] = &by
				if _, err := client.Call(t.Context(), b.Client, ops.Press, ops.Body(press)); err != nil {
					t.Errorf("press %d of person %d: %v", i, person, err)
				}
				mu.Lock()
				want[axis] += by
				mu.Unlock()
			}
		})
	}
	persons.Wait()
	var now api.Bench
	b.until("the head to be there", func(n api.Bench) bool { now = n; return !n.Motion.Going })
	for axis, got := range b.place() {
		if math.Abs(got-want[axis]) > 0.002 {
			t.Errorf("the head is at %v, and %v was pressed", b.place(), want)
			break
		}
	}
	b.until("the report of that", func(n api.Bench) bool { return n.Position.Known && math.Abs(n.Position.X-want[0]) < 0.011 })
	if fmt.Sprintf("%.3f", now.Motion.X) != fmt.Sprintf("%.3f", want[0]) {
		t.Errorf("it is said to be at %.3f, not %.3f", now.Motion.X, want[0])
	}
	far, cold := 500.0, 5.0
	if _, err := client.Call(t.Context(), b.Client, ops.Press, ops.Body(api.Press{By: &api.Axes{X: &far}})); status(err) != 422 || !strings.Contains(err.Error(), "0 to 230") {
		t.Errorf("past the end: %v", err)
	}
	if _, err := client.Call(t.Context(), b.Client, ops.Press, ops.Body(api.Press{By: &api.Axes{E: &cold}})); status(err) != 409 || !strings.Contains(err.Error(), "170 °C") {
		t.Errorf("cold filament: %v", err)
	}
	if ends, err := client.Ask(t.Context(), b.Client, ops.GetEndstops); err != nil || len(ends.Endstops) != 3 || ends.Endstops[0].Triggered {
		t.Errorf("the endstops: %+v, %v", ends, err)
	}
	if now, err := client.Ask(t.Context(), b.Client, ops.Park); err != nil || now.Z < want[2]+5 {
		t.Errorf("parked: %+v, %v", now, err)
	}
	if now, err := client.Ask(t.Context(), b.Client, ops.TurnMotorsOff); err != nil || now.Homed != "" {
		t.Errorf("with its motors off: %+v, %v", now, err)
	}
	up := 4.0
	if _, err := client.Call(t.Context(), b.Client, ops.Press, ops.Body(api.Press{By: &api.Axes{Z: &up}})); err != nil {
		t.Errorf("up a little: %v", err)
	}
}

func TestTheConsoleMovesTheHead(t *testing.T) {
	t.Parallel()
	b := start(t, quick()).live()
	page := b.browser(390, 844, false)
	b.visit(page, b.service.URL+"/motion")
	if said := b.shown(page, `[data-place]`); strings.Count(said, "not known") != 3 {
		t.Errorf("before it is homed it says %q", said)
	}
	there := func(what string, want [3]float64) {
		t.Helper()
		b.until(what, func(now api.Bench) bool {
			at := b.place()
			return !now.Motion.Going && math.Abs(at[0]-want[0])+math.Abs(at[1]-want[1])+math.Abs(at[2]-want[2]) < 0.01
		})
	}
	b.click(page, `[data-home]`)
	b.until("its homing", func(now api.Bench) bool { return now.Motion.Homed == "XYZ" && !now.Motion.Going })
	for range 3 {
		b.click(page, `[data-press="right"]`)
	}
	b.click(page, `[data-press="higher"]`, `[data-press="up"]`, `[data-press="up"]`)
	there("six presses", [3]float64{30, 20, 10})
	b.do(page, chromedp.KeyEvent(kb.ArrowRight))
	b.click(page, `[data-arm]`)
	b.do(page, chromedp.KeyEvent(kb.ArrowLeft), chromedp.KeyEvent(kb.PageUp))
	there("two keys, and none before they were armed", [3]float64{20, 20, 20})
	b.do(page, chromedp.KeyEvent(kb.Escape), chromedp.KeyEvent(kb.ArrowLeft))
	b.do(page, chromedp.Evaluate[chromedp.Void](`(bed => { // a touch in its middle
		const box = bed.getBoundingClientRect(), at = { bubbles: true, pointerId: 1, clientX: box.left + box.width / 2, clientY: box.top + box.height / 2 }
		bed.setPointerCapture = () => {}
		for (const kind of ['pointerdown', 'pointermove', 'pointerup']) bed.dispatchEvent(new PointerEvent(kind, at))
	})(document.querySelector('[data-bed]'))`))
	there("the middle of the bed", [3]float64{115, 115, 20})
	if said := b.shown(page, `[data-cold]`); !strings.Contains(said, "170 °C") {
		t.Errorf("of a cold nozzle it says %q", said)
	}
	b.mustSend("coupon.gcode", coupon(t, 12), true)
	if said := b.shown(page, `[data-out-of-reach]`); !strings.Contains(said, "coupon.gcode") {
		t.Errorf("while a run goes on it says %q", said)
	}
}

// BenchmarkPress measures from the sending of a press to its line on the wire, on an idle
// link, of a service that is a process of its own, while the processor is idle, and while it
// has more to do than it can.
func BenchmarkPress(b *testing.B) {
	s, _, _, _ := apart(b)
	if _, err := client.Call(b.Context(), s.Client, ops.Home, ops.Body(api.Home{Axes: ""})); err != nil {
		b.Fatal(err)
	}
	const presses = 200
	measure := func(name string) {
		var took []float64
		for i := range presses {
			x := float64(10 + i%2)
			s.until("its rest", func(now api.Bench) bool { return !now.Motion.Going })
			<-time.After(50 * time.Millisecond) // until the link is idle, too: where that has led is asked for
			before, err := client.Call(b.Context(), s.Client, ops.GetWire, ops.Traffic{Since: 0, Limit: 1})
			if err != nil {
				b.Fatal(err)
			}
			sent := time.Now()
			if _, err := client.Call(b.Context(), s.Client, ops.Press, ops.Body(api.Press{To: &api.Axes{X: &x}})); err != nil {
				b.Fatal(err)
			}
			s.until("its line", func(api.Bench) bool {
				after, err := client.Call(b.Context(), s.Client, ops.GetWire, ops.Traffic{Since: before.Lines[0].Seq, Limit: 100})
				if err != nil {
					b.Fatal(err)
				}
				at := slices.IndexFunc(after.Lines, func(l api.Traffic) bool { return l.Sent && strings.Contains(l.Text, fmt.Sprintf("G1 X%g ", x)) })
				if at >= 0 {
					took = append(took, float64(after.Lines[at].At.Sub(sent).Microseconds())/1000)
				}
				return at >= 0
			})
		}
		slices.Sort(took)
		b.ReportMetric(took[len(took)/2], name+"-ms")
		b.ReportMetric(took[len(took)*99/100], name+"-99-ms")
	}
	for b.Loop() {
		var busy []*exec.Cmd
		for range runtime.NumCPU() {
			spins := exec.Command("sh", "-c", "while :; do :; done")
			if err := spins.Start(); err != nil {
				b.Fatal(err)
			}
			busy = append(busy, spins)
		}
		measure("busy")
		for _, spins := range busy {
			spins.Process.Kill()
			spins.Wait()
		}
		measure("idle")
	}
}

// TestAHeldRunFindsBackFromWhereItWasMoved, and a running one is not moved.
func TestAHeldRunFindsBackFromWhereItWasMoved(t *testing.T) {
	t.Parallel()
	b := start(t, quick()).live()
	body := coupon(t, 12)
	b.mustSend("coupon.gcode", body, true)
	b.until("printing", func(now api.Bench) bool { return now.Run != nil && now.Run.State == "running" && now.Run.Taken > 200 })
	down := -5.0
	if _, err := client.Call(t.Context(), b.Client, ops.Press, ops.Body(api.Press{By: &api.Axes{Z: &down}})); status(err) != 409 || !strings.Contains(err.Error(), "coupon.gcode") {
		t.Errorf("while it runs: %v", err)
	}
	now, _ := client.Ask(t.Context(), b.Client, ops.GetBench)
	run := now.Run.ID
	if _, err := client.Call(t.Context(), b.Client, ops.HoldRun, ops.ID{ID: run}); err != nil {
		t.Fatal(err)
	}
	b.until("held", func(now api.Bench) bool { return now.Run.State == "held" && now.Motion.Free })
	slow := at(115, 60, 3)
	slow.Speed = new(float64)
	*slow.Speed = 0.2 // mm/s, of a printer whose clock runs fast
	if now, err := client.Call(t.Context(), b.Client, ops.Press, ops.Body(slow)); err != nil || !now.Going {
		t.Fatalf("while it is held: %+v, %v", now, err)
	}
	if _, err := client.Call(t.Context(), b.Client, ops.ResumeRun, ops.ID{ID: run}); status(err) != 409 || !strings.Contains(err.Error(), "moved by hand") {
		t.Errorf("resumed while it is moved: %v", err)
	}
	b.until("moved", func(now api.Bench) bool { return !now.Motion.Going && math.Abs(b.place()[1]-60) < 0.01 })
	if _, err := client.Ask(t.Context(), b.Client, ops.TurnMotorsOff); status(err) != 409 {
		t.Errorf("its motors are turned off: %v", err)
	}
	if _, err := client.Call(t.Context(), b.Client, ops.ResumeRun, ops.ID{ID: run}); err != nil {
		t.Fatal(err)
	}
	b.until("finished", func(now api.Bench) bool { return now.Run.State == "finished" })
}
