package e2e

import (
	"bytes"
	"encoding/json"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/chromedp"

	"diathermon/internal/api"
	"diathermon/internal/api/ops"
	"diathermon/internal/client"
	"diathermon/internal/core/access"
)

func TestNothingIsPrintedOnAPartThatWasLeft(t *testing.T) {
	t.Parallel()
	b := start(t, quick()).live()
	p := b.keeper()
	b.mustSend("cap.gcode", coupon(t, 1), true)
	if _, err := client.Call(t.Context(), b.Client, ops.SayBed, ops.Body(api.SayBed{State: "clear"})); b.untilRun("finished").ID == "" || status(err) != 409 && err != nil {
		t.Errorf("while it lies there: %v", err)
	}
	seen := b.until("the bench", func(api.Bench) bool { return true }).Bed
	if seen.State != "occupied" || seen.File != "cap.gcode" {
		t.Errorf("after a run the bed is %+v", seen)
	}
	p.fails(6, "the bed is occupied: cap.gcode was printed on it", "print", "cap.gcode")
	p.fails(6, "this cannot be overruled", "print", "cap.gcode", "--overrule", "bed=I know")
	p.ok("occupied", "status")

	// Neither a restart nor a power cut makes it clear, nor does a program that may not.
	b.service.Close()
	b.up()
	b.live()
	p = b.keeper()
	p.fails(6, "the bed is occupied", "print", "cap.gcode")
	made, err := client.Call(t.Context(), b.Client, ops.MakeToken, ops.Body(api.MakeToken{Name: "slicer", Scopes: []string{access.Read, access.Send, access.Start}}))
	if err != nil {
		t.Fatal(err)
	}
	slicer := p
	slicer.env = []string{"DIATHERMON_URL=" + b.service.URL, "DIATHERMON_TOKEN=" + made.Token}
	slicer.fails(4, "operate", "clear")
	slicer.fails(4, "operate", "queue", "next", "--clear")

	// What was to start at once waits, once, and says why.
	part := filepath.Join(p.home, "knob.gcode")
	os.WriteFile(part, coupon(t, 2), 0o644)
	for range 2 {
		if out, errs, code := slicer.run("send", "--print", part); code != 6 || !strings.Contains(out, "Waits in turn: number 1") || !strings.Contains(errs, "the bed is occupied") {
			t.Errorf("exit code %d, %q, %q", code, out, errs)
		}
	}
	p.ok("the bed is occupied: cap.gcode was printed on it", "queue")
	slicer.fails(6, "the bed is occupied", "queue", "next")

	// Said by who has not seen what lies there now it does nothing.
	if _, err := client.Call(t.Context(), b.Client, ops.SayBed, ops.Body(api.SayBed{State: "clear", Since: seen.Since.Add(-time.Hour)})); status(err) != 409 || !strings.Contains(err.Error(), "not as it was when you looked") {
		t.Errorf("too late: %v", err)
	}
	p.ok("Started: knob.gcode", "queue", "next", "--clear")
	if done := b.untilRun("finished"); done.By != "keeper" {
		t.Errorf("it was started by %q", done.By)
	}
	p.ok("The bed is clear", "clear")
	b.service.Close()
	side := filepath.Join(b.config.Data, "bed.json")
	told, err := os.ReadFile(side)
	if err != nil || !bytes.Contains(told, []byte(`"Ended": true`)) {
		t.Fatalf("the bed's file holds %s, %v", told, err)
	}
	os.WriteFile(side, bytes.Replace(told, []byte(`"Ended": true`), []byte(`"Ended": false`), 1), 0o600) // as a power cut leaves it
	b.up()
	if now := b.live().until("the bench", func(api.Bench) bool { return true }).Bed; now.State != "unknown" || !strings.Contains(now.Why, "cut off") {
		t.Errorf("after a power cut the bed is %+v", now)
	}
}

func TestWhatIsLoadedIsHeldAgainstTheFile(t *testing.T) {
	t.Parallel()
	b := start(t, quick()).live()
	p := b.keeper()
	p.ok("nobody has said", "slots")
	p.ok("In slot 0: PETG #2040a0", "slots", "load", "0", "PETG", "--colour", "#2040A0", "--from", "220", "--to", "250")
	p.fails(6, "limit is 285", "slots", "load", "0", "PETG", "--to", "300")
	p.fails(6, "this printer has 1", "slots", "load", "4", "PLA")
	b.mustSend("cap.gcode", append([]byte("; filament_type = PLA\n"), coupon(t, 1)...), false)
	p.fails(6, "takes 220 to 250 °C (load", "print", "cap.gcode")
	p.fails(2, "no word why", "print", "cap.gcode", "--overrule", "material=")

	// A check that has come since a person has read them.
	seen := []string{"sleep"}
	if _, err := client.Call(t.Context(), b.Client, ops.StartRun, ops.Body(api.StartRun{File: "cap.gcode", Seen: &seen})); status(err) != 409 || !strings.Contains(err.Error(), "something has changed since you looked") {
		t.Errorf("not seen: %v", err)
	}
	p.ok("Started", "print", "cap.gcode", "--overrule", "material=it sticks all the same")
	done := b.untilRun("finished")
	if len(done.Overruled) != 1 || done.Overruled[0].Why != "it sticks all the same" || done.Overruled[0].By != "keeper" {
		t.Errorf("kept is %+v", done.Overruled)
	}
	var past api.Runs
	json.Unmarshal([]byte(p.ok("overruled", "runs", "--json")), &past)
	if len(past.Runs) == 0 || len(past.Runs[0].Overruled) != 1 {
		t.Errorf("the log has %+v", past)
	}
	b.service.Close()
	b.up()
	b.live()
	b.keeper().ok("PETG", "slots")
}

func TestAQueueIsWorkedOff(t *testing.T) {
	t.Parallel()
	b := start(t, quick()).live()
	p := b.keeper()
	for _, name := range []string{"a.gcode", "b.gcode", "c.gcode"} {
		b.mustSend(name, coupon(t, 1), false)
		p.ok("Waits in turn: "+name, "queue", "add", name)
	}
	p.ok("Is number 1 now: c.gcode", "queue", "move", "3", "1")
	p.ok("2 times", "queue", "change", "2", "--copies", "2")
	p.fails(2, "what is to be different", "queue", "change", "2")
	p.fails(2, "no time", "queue", "change", "2", "--at", "25:00")
	b.service.Close()
	b.up()
	b.live()
	p = b.keeper()
	order := func() (files []string) {
		q, err := client.Ask(t.Context(), b.Client, ops.ListQueue)
		if err != nil {
			t.Fatal(err)
		}
		for _, e := range q.Entries {
			files = append(files, e.File)
		}
		return files
	}
	if got := order(); !slices.Equal(got, []string{"c.gcode", "a.gcode", "b.gcode"}) {
		t.Fatalf("after a restart %v wait", got)
	}
	for _, want := range []string{"c.gcode", "a.gcode", "a.gcode"} {
		p.ok("Started: "+want, "queue", "next", "--clear")
		b.untilRun("finished")
	}
	if got := order(); !slices.Equal(got, []string{"b.gcode"}) {
		t.Fatalf("then %v wait", got)
	}

	// By itself at its time: not on an occupied bed, and then on one that was cleared.
	q, _ := client.Ask(t.Context(), b.Client, ops.ListQueue)
	soon := time.Now().Add(500 * time.Millisecond)
	if _, err := client.Call(t.Context(), b.Client, ops.ChangeQueueEntry, ops.ForID(q.Entries[0].ID, api.ChangeEntry{After: &soon})); err != nil {
		t.Fatal(err)
	}
	b.until("an entry that could not begin at its time", func(api.Bench) bool {
		q, err := client.Ask(t.Context(), b.Client, ops.ListQueue)
		return err == nil && len(q.Entries) == 1 && strings.Contains(q.Entries[0].Cause, "could not begin at its time: the bed is occupied")
	})
	before := b.untilRun("finished").ID
	b.clear()
	b.until("the end of its run", func(now api.Bench) bool { return now.Run.ID != before && now.Run.State == "finished" })
	if got := order(); len(got) != 0 {
		t.Errorf("it has begun, and %v wait", got)
	}

	// A file that was replaced is not what was meant.
	p.ok("Waits in turn", "queue", "add", "a.gcode")
	if _, err := b.Send(t.Context(), client.Sending{Name: "a.gcode", Body: bytes.NewReader(coupon(t, 3)), Replace: true}); err != nil {
		t.Fatal(err)
	}
	p.ok("a.gcode was replaced since it was asked for", "queue")
	p.fails(6, "not what it was", "queue", "next", "--clear")
}

func TestBedLoadAndQueueOnAPhone(t *testing.T) {
	t.Parallel()
	b := start(t, quick()).live()
	b.mustSend("cap.gcode", coupon(t, 1), true)
	b.untilRun("finished")
	page := b.browser(390, 844, false)
	b.shown(page, `[data-bed][data-state="occupied"]`)
	b.click(page, `[data-bed] [data-clear]`)
	b.shown(page, `[data-bed][data-state="clear"]`)

	// What is loaded, which the file is not for, and why that does not matter.
	b.click(page, `[data-slot="0"] button`)
	b.click(page, `[data-load] .v-field`)
	b.do(page, chromedp.KeyEvent("PETG\t"))
	b.click(page, `[data-save]`)
	b.until("a slot that is loaded", func(api.Bench) bool {
		s, err := client.Ask(t.Context(), b.Client, ops.ListSlots)
		return err == nil && s.Slots[0].Material == "PETG" && s.Slots[0].Coldest == 220 && s.Slots[0].By != ""
	})
	b.visit(page, b.service.URL+"/shelf")
	b.click(page, `[aria-label="Start cap.gcode"]`, `[data-check="material"] button`)
	b.do(page, chromedp.SendKeys(`[data-why] input`, "only a trial"))
	b.click(page, `[data-start] [data-go]`)
	b.until("the second run", func(now api.Bench) bool {
		return now.Run != nil && len(now.Run.Overruled) == 1 && now.Run.Overruled[0].Why == "only a trial"
	})
	b.untilRun("finished")

	// One touch from finished to the next; another one is in its way, and says so.
	if _, err := client.Call(t.Context(), b.Client, ops.LoadSlot, ops.ToSlot{Number: 0, Body: api.LoadSlot{}}); err != nil {
		t.Fatal(err)
	}
	b.mustSend("knob.gcode", coupon(t, 2), false)
	for _, name := range []string{"cap.gcode", "knob.gcode"} {
		if _, err := client.Call(t.Context(), b.Client, ops.AddQueueEntry, ops.Body(api.AddEntry{File: name, Copies: 1})); err != nil {
			t.Fatal(err)
		}
	}
	b.visit(page, b.service.URL+"/")
	if way := b.shown(page, `[data-entry="cap.gcode"] [data-why]`); !strings.Contains(way, "occupied") {
		t.Errorf("in its way is %q", way)
	}
	b.click(page, `[aria-label="knob.gcode before cap.gcode"]`)
	b.shown(page, `li:first-child[data-entry="knob.gcode"]`)
	b.click(page, `[data-next]`)
	b.until("the next", func(now api.Bench) bool { return now.Run.File == "knob.gcode" })
	b.untilRun("finished")
	if q, err := client.Ask(t.Context(), b.Client, ops.ListQueue); err != nil || len(q.Entries) != 1 || q.Entries[0].File != "cap.gcode" {
		t.Errorf("then %+v waits, %v", q, err)
	}
}
