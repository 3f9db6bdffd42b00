package e2e

import (
	"errors"
	"fmt"
	"math"
	"regexp"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"

	"diathermon/internal/api"
	"diathermon/internal/api/ops"
	"diathermon/internal/client"
	"diathermon/internal/core/gcode"
	"diathermon/internal/simprinter"
)

// commands returns what of a file the printer should receive.
func commands(body []byte) []string {
	var out []string
	for line := range strings.Lines(string(body)) {
		if c := gcode.Command([]byte(line)); len(c) > 0 {
			out = append(out, string(c))
		}
	}
	return out
}

// own tells what the host says by itself: questions, and what takes the nozzle
// off the part and back.
var own = regexp.MustCompile(`^(G2[01]|G9[01]|M8[23]|M107|M108|M400|M410|M105|M110 N0|M114|M115|M118 q\d+\.|G4 P\d+|M15[45] S1|M503|M211|G28 X Y|G92 [EZ]\S+|(M104|M109|M140|M190|M106|M220|M221) S\S+|G1 F\S+|G0 X\S+ Y\S+ F6000|G1 Z\S+ F480|G1 E\S+ F(1500|300))$`)

// mustHavePrinted fails unless the stand-in carried out the file's commands in
// order, each once, and besides them only what the host says by itself and what a
// test said by hand.
func (b *bench) mustHavePrinted(body []byte, byHand ...string) {
	b.t.Helper()
	want := commands(body)
	n := 0
	for _, e := range b.executed() {
		switch {
		case e.Number < 0: // a line whose N was spoiled has no number and does nothing
		case n < len(want) && e.Line == want[n]:
			n++
		case slices.Contains(byHand, e.Line) || own.MatchString(e.Line):
		case n < len(want):
			b.t.Fatalf("command %d of %d was %q, want %q", n, len(want), e.Line, want[n])
		default:
			b.t.Fatalf("%q was carried out after the file's end", e.Line)
		}
	}
	if n < len(want) {
		b.t.Fatalf("%d commands were carried out, want %d", n, len(want))
	}
}

func TestAFileIsPrintedFromUploadToLog(t *testing.T) {
	t.Parallel()
	b := start(t, quick()).live()
	body := coupon(t, 12)
	begun := time.Now()
	var mu sync.Mutex
	seen := map[string]bool{} // states of the run that events have told, and kinds of event
	go b.Events(t.Context(), func(e client.Event) {
		mu.Lock()
		defer mu.Unlock()
		seen[fmt.Sprintf("%T", e.Data)] = true
		if r, ok := e.Data.(api.Run); ok {
			seen[r.State] = true
		}
	})
	told := func(what string) bool {
		mu.Lock()
		defer mu.Unlock()
		return seen[what]
	}
	stored := b.mustSend("coupon.gcode", body, true)
	if stored.Outcome != "created" || stored.File.Layers != 12 {
		t.Errorf("stored as %+v", stored)
	}
	b.untilRun("warming")
	running := b.untilRun("running")

	held, err := client.Call(t.Context(), b.Client, ops.HoldRun, ops.ID{ID: running.ID})
	if err != nil || held.State != "held" || held.Reason == "" {
		t.Fatalf("holding led to %+v, %v", held, err)
	}
	said, err := client.Call(t.Context(), b.Client, ops.Say, ops.Body(api.SayLine{Line: "M117 held for a look"})) // and is answered while the file waits
	if err != nil || !said.Taken {
		t.Fatalf("saying a line while held: %+v, %v", said, err)
	}
	b.until("a nozzle that is off the part", func(now api.Bench) bool {
		x, y := now.Position.X, now.Position.Y
		return now.Position.Z > 9 && !(x > 100 && x < 130 && y > 100 && y < 130)
	})
	if now := b.untilRun("held"); now.Taken > held.Taken+20 {
		t.Errorf("%d lines went out while held", now.Taken-held.Taken)
	}
	if _, err := client.Call(t.Context(), b.Client, ops.ResumeRun, ops.ID{ID: running.ID}); err != nil {
		t.Fatal(err)
	}
	done := b.untilRun("finished")
	if done.Taken != done.Commands || done.Progress.Share != 1 || done.Laying == nil || done.Ended == nil {
		t.Errorf("it finished as %+v", done)
	}
	b.mustHavePrinted(body, "M117 held for a look")
	laid := 0.0
	b.device.Do(func(board *simprinter.Board) {
		for _, s := range board.Segments() {
			laid += s.Filament
		}
	})
	if want := stored.File.FilamentMM + 2; math.Abs(laid-want) > 0.1 { // the file ends with 2 mm drawn back; what is primed is not laid
		t.Errorf("%.2f mm of filament were laid, want %.2f", laid, want)
	}

	runs, err := client.Call(t.Context(), b.Client, ops.ListRuns, ops.Past{Limit: 10})
	if err != nil || len(runs.Runs) != 1 || runs.Runs[0].State != "finished" || runs.Runs[0].ID != running.ID {
		t.Errorf("the log of runs is %+v, %v", runs, err)
	}
	log, err := client.Call(t.Context(), b.Client, ops.GetHeat, ops.Window{From: begun, To: time.Now(), Heater: []string{"nozzle0"}})
	if err != nil {
		t.Fatal(err)
	}
	highest := 0.0
	for i, r := range log.Readings {
		highest = max(highest, r.Actual)
		if r.Heater != "nozzle0" || i > 0 && r.At.Before(log.Readings[i-1].At) || r.Duty == nil || r.Setpoint == nil {
			t.Fatalf("reading %d is %+v", i, r)
		}
	}
	if len(log.Readings) < 50 || highest < 200 || highest > 225 {
		t.Errorf("%d readings, the highest %v °C", len(log.Readings), highest)
	}
	if bed, err := client.Call(t.Context(), b.Client, ops.GetHeat, ops.Window{From: begun, To: time.Now(), Heater: []string{"bed"}}); err != nil || len(bed.Readings) < 50 {
		t.Errorf("the bed has %d readings, %v", len(bed.Readings), err)
	}
	db, err := pgx.Connect(t.Context(), b.config.Database)
	if err != nil {
		t.Fatal(err)
	}
	defer db.Close(t.Context())
	var greeting string
	if err := db.QueryRow(t.Context(), "SELECT text FROM messages ORDER BY at LIMIT 1").Scan(&greeting); err != nil || !strings.Contains(greeting, "Vesper") {
		t.Errorf("the first message that is kept is %q, %v", greeting, err)
	}
	for _, want := range []string{"warming", "running", "held", "ending", "finished", "api.Link", "api.Heat", "api.Position", "api.Wire"} {
		b.until("the event "+want, func(api.Bench) bool { return told(want) })
	}
}

func TestNoiseOnTheCableChangesNothing(t *testing.T) {
	t.Parallel()
	printer := quick()
	printer.Faults = simprinter.Faults{Spoil: 900, Lose: 9000, Double: 9000}
	b := start(t, printer).live()
	body := coupon(t, 3)
	b.mustSend("noisy.gcode", body, true)
	b.untilRun("finished")
	b.mustHavePrinted(body)
	resends := 0
	b.device.Do(func(board *simprinter.Board) { resends = board.Requests() })
	if resends == 0 {
		t.Error("the noise did not make the printer ask for any line again: this test tests nothing")
	}
}

func TestAPrinterWithoutReportsIsAsked(t *testing.T) {
	t.Parallel()
	printer := quick()
	printer.Dialect.Asked = true
	b := start(t, printer).live()
	first := b.until("a reading", func(now api.Bench) bool { return now.Heaters[0].At != nil })
	b.until("another reading and a position", func(now api.Bench) bool {
		return now.Heaters[0].At.After(*first.Heaters[0].At) && now.Position.Known
	})
}

func TestAHaltThatWaitsItsTurnIsTold(t *testing.T) {
	t.Parallel()
	printer := quick()
	printer.Dialect.Queued = true
	b := start(t, printer).live()
	now, err := client.Ask(t.Context(), b.Client, ops.GetBench)
	if err != nil || now.Firmware == nil || now.Firmware.HaltsAtOnce {
		t.Errorf("the firmware is %+v, %v", now.Firmware, err)
	}
	b.mustSend("long.gcode", coupon(t, 300), true)
	b.untilRun("running")
	if err := client.Do(t.Context(), b.Client, ops.Halt, ops.Nothing{}); err != nil {
		t.Fatal(err)
	}
	b.until("a halted printer", func(api.Bench) (halted bool) {
		b.device.Do(func(board *simprinter.Board) { halted = board.Halted() })
		return halted
	})
}

func TestStoppingTurnsTheHeatersOff(t *testing.T) {
	t.Parallel()
	b := start(t, quick()).live()
	for _, state := range []string{"warming", "running"} {
		b.mustSend("long.gcode", coupon(t, 300), true)
		r := b.untilRun(state)
		if _, err := client.Call(t.Context(), b.Client, ops.StopRun, ops.ID{ID: r.ID}); err != nil {
			t.Fatal(err)
		}
		stopped := b.untilRun("stopped")
		if stopped.Reason != "stopped by hand" || stopped.Taken >= stopped.Commands {
			t.Errorf("stopped while %s as %+v", state, stopped)
		}
		b.until("cold setpoints", func(now api.Bench) bool {
			return now.Heaters[0].Setpoint == 0 && now.Heaters[1].Setpoint == 0
		})
	}
}

func TestAHaltEndsEverythingUntilReconnected(t *testing.T) {
	t.Parallel()
	b := start(t, quick()).live()
	b.mustSend("long.gcode", coupon(t, 300), true)
	b.untilRun("running")
	if err := client.Do(t.Context(), b.Client, ops.Halt, ops.Nothing{}); err != nil {
		t.Fatal(err)
	}
	r := b.untilRun("stopped")
	if r.Reason != "halted" {
		t.Errorf("the run ended because %q", r.Reason)
	}
	now := b.until("a dead link", func(now api.Bench) bool { return now.Link.State == "dead" })
	if !strings.Contains(now.Link.Reason, "reset") {
		t.Errorf("the reason does not say what to do: %q", now.Link.Reason)
	}
	for _, h := range now.Heaters {
		if h.Actual != nil || h.Setpoint != 0 {
			t.Errorf("after a halt the %s is still said to be %+v", h.Heater, h)
		}
	}
	if _, err := client.Call(t.Context(), b.Client, ops.SetHeat, ops.ForHeater("bed", api.SetHeat{Setpoint: 60})); status(err) != 503 {
		t.Errorf("a setpoint after a halt: %v", err)
	}
	if err := client.Do(t.Context(), b.Client, ops.Reconnect, ops.Nothing{}); err != nil {
		t.Fatal(err)
	}
	b.live()
}

func TestShuttingDownLeavesNoHeaterOn(t *testing.T) {
	t.Parallel()
	b := start(t, quick()).live()
	if set, err := client.Call(t.Context(), b.Client, ops.SetHeat, ops.ForHeater("bed", api.SetHeat{Setpoint: 60})); err != nil || !set.Taken {
		t.Fatalf("%+v, %v", set, err)
	}
	b.until("a warm bed", func(now api.Bench) bool { return now.Heaters[1].Setpoint == 60 })
	b.service.Close()
	if !slices.ContainsFunc(b.executed(), func(e simprinter.Executed) bool { return e.Line == "M140 S0" }) {
		t.Errorf("at shutdown the printer was told %v", b.executed())
	}
	b.up()
}

func TestShuttingDownStopsTheRunWithHeatersOff(t *testing.T) {
	t.Parallel()
	b := start(t, quick()).live()
	b.mustSend("long.gcode", coupon(t, 300), true)
	b.untilRun("running")
	b.service.Close()
	var off []string
	for _, e := range b.executed() {
		if e.Line == "M104 S0" || e.Line == "M140 S0" {
			off = append(off, e.Line)
		}
	}
	if len(off) != 2 {
		t.Errorf("at shutdown the printer was told %v", off)
	}
	b.up()
	runs, err := client.Call(t.Context(), b.Client, ops.ListRuns, ops.Past{Limit: 1})
	if err != nil || runs.Runs[0].State != "stopped" || !strings.Contains(runs.Runs[0].Reason, "shut down") {
		t.Errorf("the run is kept as %+v, %v", runs, err)
	}
}

func status(err error) int {
	var p *api.Problem
	if errors.As(err, &p) {
		return p.Status
	}
	return 0
}
