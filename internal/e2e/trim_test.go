package e2e

import (
	"math"
	"slices"
	"strings"
	"testing"

	"diathermon/internal/api"
	"diathermon/internal/api/ops"
	"diathermon/internal/client"
	"diathermon/internal/simprinter"
)

// differs holds what was laid against the same file's plastic as it was sliced: where it
// lies, higher by so much, and the share of its filament, which is one of shares, in their
// order.
func differs(t *testing.T, got, want []simprinter.Segment, higher float64, shares ...float64) {
	t.Helper()
	if len(got) != len(want) {
		t.Fatalf("%d stretches of plastic were laid, want %d", len(got), len(want))
	}
	met := map[float64]int{}
	for i := range got {
		g, w := got[i], want[i]
		if d := math.Hypot(g.To[0]-w.To[0], g.To[1]-w.To[1]); d > 0.01 || math.Abs(g.To[2]-w.To[2]-higher) > 0.01 {
			t.Fatalf("stretch %d of plastic is %+v, want %+v, %g mm higher", i, g, w, higher)
		}
		for len(shares) > 1 && math.Abs(g.Filament-w.Filament*shares[0]) > 2e-4 {
			shares = shares[1:]
		}
		if math.Abs(g.Filament-w.Filament*shares[0]) > 2e-4 {
			t.Fatalf("stretch %d has %g mm of filament, want %g times %g", i, g.Filament, shares[0], w.Filament)
		}
		met[shares[0]]++
	}
	if len(shares) != 1 || met[shares[0]] == 0 {
		t.Errorf("stretches by their share of filament: %v, and %v have not come", met, shares[1:])
	}
}

func TestARunDiffersFromItsFileAsItWasWanted(t *testing.T) {
	t.Parallel()
	body := coupon(t, 60)
	want := uninterrupted(t, body)
	printer := quick()
	printer.KeepOnOpen = true // a board that does not restart as its port is opened
	b := start(t, printer).live()
	p := b.keeper()
	b.mustSend("part.gcode", body, false)
	b.clear()
	p.fails(6, "limit of 285", "print", "part.gcode", "--hotter", "nozzle0=50", "--first", "nozzle0=40")
	p.fails(6, `gives "chamber" no setpoint`, "print", "part.gcode", "--hotter", "chamber=5")
	p.fails(2, "not written as", "print", "part.gcode", "--hotter", "nozzle0")
	p.fails(6, "in the bed", "print", "part.gcode", "--height", "-0.19")
	p.fails(6, "no run is going on", "trim", "--speed", "90")
	p.ok("Started", "print", "part.gcode", "--flow", "120", "--height", "0.06", "--speed", "70", "--hotter", "nozzle0=5", "--hotter", "bed=-4", "--first", "nozzle0=3")
	p.ok("nozzle +5 K (the file has 205 °C)", "trim")
	b.until("some layers", func(now api.Bench) bool { return now.Run.Progress.Layer >= 5 })
	said := func(line string) int {
		n := 0
		for _, e := range b.executed() {
			if e.Line == line {
				n++
			}
		}
		return n
	}
	if said("M109 S213") != 1 || said("M190 S56") != 1 || said("M104 T0 S210") != 1 {
		t.Errorf("of what was to be heated %d, %d and %d times were said", said("M109 S213"), said("M190 S56"), said("M104 T0 S210"))
	}
	p.fails(6, "speed cannot be 5 %: it can be 10 to 300", "trim", "--speed", "5")
	p.ok("flow 90 %", "trim", "--flow", "90")
	if out := p.ok("speed 75 %", "trim", "--speed", "75"); !strings.Contains(out, "flow 90 %") || !strings.Contains(out, "nozzle +0.06 mm") { // what is not named stays
		t.Errorf("then it is %q", out)
	}

	changed := b.until("where that is", func(now api.Bench) bool { return now.Run.Progress != nil }).Run.Progress.Layer + 1 // from here on at the latest

	// The cable is pulled; then the printer forgets everything.
	if err := b.device.Control("pull 1s"); err != nil {
		t.Fatal(err)
	}
	b.untilRun("interrupted")
	b.untilRun("running")
	before, at := len(b.laid()), b.untilRun("running").Progress.Layer
	b.until("some more layers", func(now api.Bench) bool { return now.Run.Progress.Layer >= max(at, changed)+3 })
	b.restart()
	r := b.until("a run to be picked up by a plan", func(now api.Bench) bool {
		return now.Run.State == "interrupted" && now.Run.NeedsPlan && now.Link.State == "live"
	}).Run
	laid := b.laid()
	differs(t, laid, want[:len(laid)], 0.06, 1.2, 0.9)
	if before >= len(laid) {
		t.Errorf("nothing was laid after the cable was back: %d, then %d", before, len(laid))
	}
	layer := r.Progress.Layer - 1
	z := 0.2*float64(layer) + 0.06
	var height float64
	b.device.Do(func(board *simprinter.Board) { _, _, height = board.Place() })
	if plan, err := client.Call(t.Context(), b.Client, ops.PlanPickUp, ops.PlanOf(r.ID, api.PickUp{Layer: layer})); err != nil || math.Abs(plan.Z-z) > 1e-6 || !slices.ContainsFunc(plan.Steps[0].Commands, func(c string) bool { return strings.Contains(c, "S210") }) {
		t.Errorf("the plan is for Z %g: %+v, %v", plan.Z, plan.Steps, err)
	}
	if _, err := client.Call(t.Context(), b.Client, ops.PickUpRun, ops.ForID(r.ID, api.PickUp{Layer: layer, Height: &height})); err != nil {
		t.Fatal(err)
	}
	b.untilRun("running")
	p.ok("as it was sliced", "trim", "--as-sliced")
	done := b.untilRun("finished")
	first := slices.IndexFunc(want, func(s simprinter.Segment) bool { return s.To[2] > 0.2*(float64(layer)-0.5) })
	after, rest := b.laid()[len(laid):], want[first:]
	back := 0
	for back < len(after) && back < len(rest) && after[back].To[2]-rest[back].To[2] > 0.05 {
		back++
	}
	if back == 0 || back == len(after) {
		t.Fatalf("of %d stretches %d were higher", len(after), back)
	}
	differs(t, after[:back], rest[:back], 0.06, 0.9)
	differs(t, after[back:], rest[back:], 0, 1)
	if done.Trim == nil || done.Trim.Flow != 0 {
		t.Errorf("at its end its trim is %+v", done.Trim)
	}
}

func TestARunIsHeldAndEndsWhereItWasWanted(t *testing.T) {
	t.Parallel()
	body := coupon(t, 20)
	want := uninterrupted(t, body)
	b := start(t, quick()).live()
	p := b.keeper()
	run := b.mustSend("part.gcode", body, true).Run.ID
	if set, err := client.Call(t.Context(), b.Client, ops.SetUntil, ops.ForID(run, api.SetUntil{Height: 1.2})); err != nil || set.Until == nil || set.Until.Layer != 6 || set.Until.End {
		t.Fatalf("%+v, %v", set.Until, err)
	}
	r := b.untilRun("held")
	p.fails(6, "has begun", "hold", "--before-layer", "1")
	p.fails(6, "the file has layers 1 to 20", "hold", "--before-layer", "21")
	p.fails(6, "is not 9 mm high", "hold", "--at-height", "9")
	p.fails(6, "is the last", "stop", "--after-layer", "20")
	upTo := func(z float64) int {
		return slices.IndexFunc(want, func(s simprinter.Segment) bool { return s.To[2] > z+0.1 })
	}
	if !strings.Contains(r.Reason, "before layer 6, as keeper wanted") || r.Until != nil {
		t.Errorf("it is held because %q, until %+v", r.Reason, r.Until)
	}
	sameParts(t, b.laid(), want[:upTo(1)])
	p.ok("ends after layer 12", "stop", "--after-layer", "12")
	p.ok("part.gcode", "hold", "--take-back")
	p.ok("is held before layer 8", "hold", "--at-height", "1.6")
	p.ok("part.gcode", "resume")
	b.until("the second hold", func(now api.Bench) bool {
		return now.Run.State == "held" && strings.Contains(now.Run.Reason, "layer 8")
	})
	p.ok("ends after layer 10", "stop", "--after-layer", "10")
	p.ok("part.gcode", "resume")
	if r = b.untilRun("stopped"); !strings.Contains(r.Reason, "ended after layer 10, as keeper wanted") {
		t.Errorf("it ended because %q", r.Reason)
	}
	sameParts(t, b.laid(), want[:upTo(2)])
	b.until("heaters that are off", func(now api.Bench) bool { return now.Heaters[0].Setpoint == 0 && now.Heaters[1].Setpoint == 0 })
}

func TestARunIsAdjustedOnAPhone(t *testing.T) {
	t.Parallel()
	printer := quick()
	printer.Warp = 5
	b := start(t, printer).live()
	b.mustSend("part.gcode", coupon(t, 60), false)
	b.surveyed("part.gcode")
	page := b.browser(390, 844, false)
	b.visit(page, b.service.URL+"/shelf")
	b.click(page, `[aria-label="Start part.gcode"]`, `[data-trimming]`, `[aria-label="Nozzle +5 °C"]`, `[data-go]`)
	b.until("a run that is hotter", func(now api.Bench) bool {
		return now.Run != nil && now.Run.Trim != nil && now.Run.Trim.Heaters["nozzle0"] == 5
	})
	if said := b.shown(page, `[data-differs]`); !strings.Contains(said, "nozzle +5 K") {
		t.Errorf("it says %q", said)
	}
	b.click(page, `[data-adjusting]`, `[aria-label="Speed +10 %"]`, `[aria-label="Speed +10 %"]`, `[aria-label="Nozzle higher +0.01 mm"]`)
	b.until("all of it", func(now api.Bench) bool { return now.Run.Trim.Speed == 120 && now.Run.Trim.Height == 0.01 })
	if _, err := client.Call(t.Context(), b.Client, ops.TrimRun, ops.ForID(b.until("the run", func(api.Bench) bool { return true }).Run.ID, api.ChangeTrim{TrimWanted: api.TrimWanted{Flow: ptr(95.0)}})); err != nil { // somebody else
		t.Fatal(err)
	}
	b.click(page, `[data-undo]`)
	b.until("what was before", func(now api.Bench) bool {
		return now.Run.Trim.Height == 0 && now.Run.Trim.Flow == 95 && now.Run.Trim.Heaters["nozzle0"] == 5
	})
	b.click(page, `[data-end-after]`)
	if said := b.shown(page, `[data-until]`); !strings.Contains(said, "Ends after layer") {
		t.Errorf("it says %q", said)
	}
}
