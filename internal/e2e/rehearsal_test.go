package e2e

import (
	"encoding/json"
	"net/http"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/chromedp"

	"diathermon/internal/api"
	"diathermon/internal/api/ops"
	"diathermon/internal/client"
)

// rehearsed waits for the end of a file's rehearsal.
func (b *bench) rehearsed(name string) api.Rehearsal {
	b.t.Helper()
	for begun := time.Now(); ; {
		r, err := client.Call(b.t.Context(), b.Client, ops.GetRehearsal, ops.Name{Name: name})
		if err != nil {
			b.t.Fatal(err)
		}
		if r.State != "waiting" && r.State != "rehearsing" {
			return r
		}
		if time.Since(begun) > idlePatience {
			b.t.Fatalf("its rehearsal is at line %d still", r.Line)
		}
		time.Sleep(20 * time.Millisecond)
	}
}

func TestAFileIsRehearsedBesideAPrint(t *testing.T) {
	t.Parallel()
	printer := quick()
	printer.Warp = 20 // so that readings that come late tell little that is wrong of its heaters
	b := start(t, printer).live()
	bad := "G28\nM140 S60\nM190 S60\nG90\nM83\nG1 X50 Y50 F6000\nG1 X60 E1\nM0 Put the nut in\nG1 X260 E1\nM104 S0\nM140 S0\n"
	b.mustSend("bad part.gcode", []byte(bad), false)
	part := coupon(t, 20)
	b.mustSend("coupon.gcode", part, false)
	if _, err := client.Call(t.Context(), b.Client, ops.GetRehearsal, ops.Name{Name: "coupon.gcode"}); status(err) != http.StatusNotFound {
		t.Errorf("before any: %v", err)
	}
	if _, err := client.Call(t.Context(), b.Client, ops.RehearseFile, ops.Name{Name: "no such.gcode"}); status(err) != http.StatusNotFound {
		t.Errorf("no such file: %v", err)
	}
	before := len(b.executed())
	if _, err := client.Call(t.Context(), b.Client, ops.RehearseFile, ops.Name{Name: "coupon.gcode"}); err != nil {
		t.Fatal(err)
	}
	r := b.rehearsed("coupon.gcode")
	f := b.surveyed("coupon.gcode")
	if r.State != "finished" || r.Report == nil || len(r.Report.Problems) > 0 || r.Report.Commands != f.Commands || len(r.Report.Heat) != 2 || r.Report.Heat[0].Heater != "nozzle0" {
		t.Fatalf("its rehearsal is %+v, %+v", r, r.Report)
	}
	states := map[string]float64{}
	for _, s := range r.Report.States {
		states[s.State] = s.Seconds
	}
	if moves := states["running"] - r.Report.HomingSeconds; moves < 0.98*f.DurationSeconds || moves > 1.02*f.DurationSeconds || states["warming"] < 60 {
		t.Errorf("it is %v in its states, its moves take %.0f s", states, f.DurationSeconds)
	}
	for _, e := range b.executed()[before:] {
		if !strings.HasPrefix(e.Line, "M105") && !strings.HasPrefix(e.Line, "M118") && !strings.HasPrefix(e.Line, "M155") && !strings.HasPrefix(e.Line, "M154") {
			t.Errorf("the printer was told %q", e.Line)
		}
	}

	// What was learned as it printed is beside the moves' time.
	b.mustSend("first.gcode", coupon(t, 2), true)
	b.untilRun("finished")
	b.until("cold heaters", func(now api.Bench) bool { return now.Heaters[0].Setpoint == 0 })
	if f, err := client.Call(t.Context(), b.Client, ops.GetFile, ops.FileFrom{Name: "coupon.gcode"}); err != nil || f.WarmingSeconds == nil || *f.WarmingSeconds > 600 {
		t.Errorf("it warms for %v, %v", f.WarmingSeconds, err)
	}

	// The command line fails where something is in the way, and tells lines.
	person := b.keeper()
	out := person.ok("it asks for a person", "rehearse", "bad part.gcode")
	for _, want := range []string{"warn, line 7", "note, line 8", "Put the nut in", "beyond the end of an axis", "warming", "no guard would say anything"} {
		if !strings.Contains(out, want) {
			t.Errorf("the command line does not say %q: %s", want, out)
		}
	}
	var told api.Rehearsal
	if err := json.Unmarshal([]byte(person.ok(`"state": "finished"`, "rehearse", "--json", "coupon.gcode")), &told); err != nil || told.Report.Commands != f.Commands {
		t.Errorf("as JSON: %+v, %v", told, err)
	}
	b.mustSend("halts.gcode", []byte("G28\nM303 E0 S999\nM190 R5\nG1 X5\n"), false)
	person.fails(1, "1 problem stands in the way of a print", "rehearse", "halts.gcode")
	person.fails(5, "there is no such file", "rehearse", "nothing.gcode")

	// A long one beside a print is stopped on the console.
	b.mustSend("long.gcode", []byte("G28\n"+strings.Repeat("G4 S604000\n", 60)), false)
	b.mustSend("now.gcode", coupon(t, 60), true)
	b.untilRun("running")
	page := b.browser(390, 844, false)
	b.visit(page, b.service.URL+"/shelf/long.gcode/rehearsal")
	b.click(page, `//button[contains(., "Rehearse it")]`)
	b.do(page, chromedp.WaitVisible(`//button[contains(., "Stop the rehearsal")]`))
	b.until("a print that goes on beside it", func(now api.Bench) bool { return now.Run.Over || now.Run.Progress.Layer > 2 })
	b.click(page, `//button[contains(., "Stop the rehearsal")]`)
	b.do(page, chromedp.WaitVisible(`//*[contains(text(), "The rehearsal was stopped")]`))
	if r := b.rehearsed("long.gcode"); r.State != "stopped" || r.Ended == nil {
		t.Errorf("it is %+v", r)
	}
	if _, err := client.Call(t.Context(), b.Client, ops.RehearseFile, ops.Name{Name: "long.gcode"}); err != nil { // and once more, for ever, but for its removal
		t.Fatal(err)
	}
	if err := client.Do(t.Context(), b.Client, ops.RemoveFile, ops.Name{Name: "long.gcode"}); err != nil {
		t.Fatal(err)
	}
	if _, err := client.Call(t.Context(), b.Client, ops.RehearseFile, ops.Name{Name: "coupon.gcode"}); err != nil || b.rehearsed("coupon.gcode").State != "finished" {
		t.Errorf("behind a file that is gone: %v", err)
	}
	b.visit(page, b.service.URL+"/shelf/bad%20part.gcode/rehearsal")
	b.do(page, chromedp.WaitVisible(`//*[contains(text(), "Asks for a person")]`))
	if wide := ask(b, page, chromedp.Evaluate[bool](`document.documentElement.scrollWidth > innerWidth`)); wide {
		t.Error("the page is wider than a phone")
	}
	b.untilRun("finished")
}
