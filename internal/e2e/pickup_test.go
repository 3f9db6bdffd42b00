package e2e

import (
	"flag"
	"math"
	"math/rand/v2"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"diathermon/internal/api"
	"diathermon/internal/api/ops"
	"diathermon/internal/client"
	"diathermon/internal/simprinter"
)

// kills is how often TestAKilledHostGoesOnWhereItWas kills the host.
var kills = flag.Int("kills", 6, "how often to kill the host in the middle of a run")

// laid returns the plastic that the stand-in has laid.
func (b *bench) laid() []simprinter.Segment {
	var out []simprinter.Segment
	b.device.Do(func(board *simprinter.Board) { out = board.Segments() })
	return out
}

// uninterrupted returns the plastic of a print of body that nothing disturbs.
func uninterrupted(t *testing.T, body []byte) []simprinter.Segment {
	t.Helper()
	b := start(t, quick()).live()
	b.mustSend("whole.gcode", body, true)
	b.untilRun("finished")
	return b.laid()
}

// sameParts fails unless got is want to a hundredth of a millimetre.
func sameParts(t *testing.T, got, want []simprinter.Segment) {
	t.Helper()
	off := func(a, b [3]float64) bool {
		return math.Abs(a[0]-b[0]) > 0.01 || math.Abs(a[1]-b[1]) > 0.01 || math.Abs(a[2]-b[2]) > 0.01
	}
	for i := range min(len(got), len(want)) {
		if off(got[i].From, want[i].From) || off(got[i].To, want[i].To) || math.Abs(got[i].Filament-want[i].Filament) > 0.001 {
			t.Fatalf("stretch %d of plastic is %+v, want %+v", i, got[i], want[i])
		}
	}
	if len(got) != len(want) {
		t.Fatalf("%d stretches of plastic were laid, want %d", len(got), len(want))
	}
}

// evidence logs, of a test that has failed, what the printer carried out last and what the
// journals in data say that its lines were.
func (b *bench) evidence(data string) {
	if !b.t.Failed() {
		return
	}
	b.device.Do(func(board *simprinter.Board) {
		all := board.Executed()
		for _, e := range all[max(len(all)-12, 0):] {
			b.t.Logf("N%d %s", e.Number, e.Line)
		}
	})
	journals, _ := filepath.Glob(filepath.Join(data, "journal", "*.journal"))
	for _, path := range journals {
		body, err := os.ReadFile(path)
		lines := slices.Collect(strings.Lines(strings.TrimRight(string(body), "\x00")))
		b.t.Logf("%v %s", err, strings.Join(lines[max(len(lines)-30, 0):], ""))
	}
}

func TestAKilledHostGoesOnWhereItWas(t *testing.T) {
	t.Parallel()
	body := coupon(t, 25)
	want := uninterrupted(t, body)
	rng := rand.New(rand.NewPCG(uint64(time.Now().UnixNano()), 3))
	for killed := 0; killed < *kills; {
		dir := reachable(t)
		data, address, port := filepath.Join(dir, "data"), freeAddress(t), filepath.Join(dir, "port")
		printer := quick()
		if rng.IntN(2) == 0 {
			printer.Dialect = simprinter.MustDialect("naming=full,plainly=temperatures")
		}
		device, err := simprinter.Open(port, printer)
		if err != nil {
			t.Fatal(err)
		}
		b := &bench{t: t, device: device}
		t.Cleanup(func() { b.evidence(data) })
		serve := func() *process {
			p := launch(t, dir, "serve", "--data", data, "--listen", address, "--device", port, "--baud", "115200", "--database", b.config.Database)
			p.says("serving")
			b.Client = dial(t, address, data)
			return p
		}
		b.config.Database = freshDatabase(t)
		p := serve()
		b.live()
		b.mustSend("part.gcode", body, true)
		trims := rng.IntN(2) == 0 // its speed is changed, which changes lines and nothing that is laid
		var done api.Run          // if it was finished in the very moment in which the host was killed
		for this := 0; this < 6 && killed < *kills && done.ID == ""; this++ {
			b.untilRun("warming", "running", "finished")
			pause := time.Duration(rng.IntN(1500)) * time.Millisecond
			<-time.After(pause) // any moment will do, so it is not waited for
			now, err := client.Ask(t.Context(), b.Client, ops.GetBench)
			if err != nil {
				t.Fatal(err)
			}
			if now.Run.Over {
				break
			}
			if trims {
				if _, err := client.Call(t.Context(), b.Client, ops.TrimRun, ops.ForID(now.Run.ID, api.ChangeTrim{TrimWanted: api.TrimWanted{Speed: ptr(float64(50 + 10*rng.IntN(10)))}})); err != nil && status(err) != 409 {
					t.Fatal(err)
				}
			}
			p.cmd.Process.Kill()
			p.ended()
			killed++
			p = serve()
			if kept, err := client.Call(t.Context(), b.Client, ops.ListRuns, ops.Past{Limit: 1}); err != nil {
				t.Fatal(err)
			} else if len(kept.Runs) == 1 && kept.Runs[0].State == "finished" {
				done = kept.Runs[0]
			}
		}
		if done.ID == "" {
			done = b.untilRun("finished")
		}
		if done.Taken != done.Commands {
			t.Errorf("it finished as %+v", done)
		}
		if !trims {
			b.mustHavePrinted(body)
		}
		sameParts(t, b.laid(), want)
		b.until("no journal that is left over", func(api.Bench) bool {
			journals, err := filepath.Glob(filepath.Join(data, "journal", "*.journal"))
			return err == nil && len(journals) == 0
		})
		p.cmd.Process.Kill()
		p.ended()
		device.Close()
	}
}

func TestACablePulledAndPutBackChangesNothing(t *testing.T) {
	t.Parallel()
	body := coupon(t, 12)
	want := uninterrupted(t, body)
	printer := quick()
	printer.KeepOnOpen = true // a board that does not restart as its port is opened
	b := start(t, printer).live()
	b.mustSend("part.gcode", body, true)
	for range 2 {
		b.untilRun("running")
		if err := b.device.Control("pull 1s"); err != nil {
			t.Fatal(err)
		}
		r := b.untilRun("interrupted")
		if !strings.Contains(r.Reason, "port is gone") {
			t.Errorf("the run is interrupted because %q", r.Reason)
		}
		if r.NeedsPlan {
			t.Error("nobody knows yet that the printer has forgotten anything")
		}
	}
	b.untilRun("finished")
	b.mustHavePrinted(body)
	sameParts(t, b.laid(), want)
}

func TestARunWaitsForAPersonWhereThatIsConfigured(t *testing.T) {
	t.Parallel()
	printer := quick()
	printer.KeepOnOpen = true
	b := start(t, printer)
	b.service.Close()
	b.config.PickUp.ByHand = true
	b.up()
	b.live()
	body := coupon(t, 4)
	b.mustSend("part.gcode", body, true)
	b.untilRun("running")
	b.device.Control("pull 500ms")
	b.untilRun("interrupted")
	r := b.untilRun("held")
	if !strings.Contains(r.Reason, "kept its place") {
		t.Errorf("it is held because %q", r.Reason)
	}
	if _, err := client.Call(t.Context(), b.Client, ops.ResumeRun, ops.ID{ID: r.ID}); err != nil {
		t.Fatal(err)
	}
	b.untilRun("finished")
	b.mustHavePrinted(body)
}

// interrupted starts a file, resets the printer in the middle of it, and returns
// the run that can be picked up.
func (b *bench) interrupted(body []byte) api.Run {
	b.t.Helper()
	b.mustSend("part.gcode", body, true)
	b.until("some layers", func(now api.Bench) bool {
		return now.Run != nil && now.Run.State == "running" && now.Run.Progress.Layer >= 6
	})
	b.restart()
	return *b.until("a run to be picked up by a plan", func(now api.Bench) bool {
		return now.Run.State == "interrupted" && now.Run.NeedsPlan && now.Link.State == "live"
	}).Run
}

func TestARunIsPickedUpOnAPrinterThatForgotEverything(t *testing.T) {
	t.Parallel()
	body := coupon(t, 20)
	want := uninterrupted(t, body)
	b := start(t, quick()).live()
	r := b.interrupted(body)
	b.until("the bed kept hot", func(now api.Bench) bool { return now.Heaters[1].Setpoint == 60 && now.Heaters[0].Setpoint == 0 })
	if _, err := client.Call(b.t.Context(), b.Client, ops.StartRun, ops.Body(api.StartRun{File: "part.gcode"})); status(err) != 409 || !strings.Contains(err.Error(), "pick it up") {
		t.Errorf("another start: %v", err)
	}

	plan, err := client.Call(t.Context(), b.Client, ops.PlanPickUp, ops.PlanOf(r.ID, api.PickUp{Layer: 5}))
	if err != nil {
		t.Fatal(err)
	}
	var all []string
	for _, s := range plan.Steps {
		all = append(all, s.Commands...)
	}
	if all[0] != "M190 S60" || !slices.Contains(all, "G28 X Y") || slices.ContainsFunc(all, func(c string) bool { return strings.HasPrefix(c, "G28") && c != "G28 X Y" }) {
		t.Errorf("the plan is %v", all)
	}
	if plan.Layer != 5 || plan.Layers != 20 || plan.Z != 1 || plan.Height < 1 || plan.Height > 3 {
		t.Errorf("the plan is for layer %d of %d, Z %g, nozzle at %g", plan.Layer, plan.Layers, plan.Z, plan.Height)
	}
	for what, c := range map[string]api.PickUp{
		"a layer that is not there": {Layer: 900},
		"a line that is not there":  {Command: 1 << 30},
		"a height out of reach":     {Layer: 5, Height: ptr(1000.0)},
		"before anything was laid":  {Command: 3},
	} {
		if _, err := client.Call(t.Context(), b.Client, ops.PlanPickUp, ops.PlanOf(r.ID, c)); status(err) != 422 {
			t.Errorf("%s: %v", what, err)
		}
	}
	if _, err := client.Call(t.Context(), b.Client, ops.PlanPickUp, ops.PlanOf("no-such-run", api.PickUp{})); status(err) != 409 && status(err) != 404 {
		t.Errorf("a plan for no run: %v", err)
	}

	before := len(b.laid())
	var height float64 // as a person would measure it
	b.device.Do(func(board *simprinter.Board) { _, _, height = board.Place() })
	if math.Abs(height-plan.Height) > 0.21 {
		t.Errorf("the plan takes the nozzle to be at %g, and it is at %g", plan.Height, height)
	}
	if _, err := client.Call(t.Context(), b.Client, ops.PickUpRun, ops.ForID(r.ID, api.PickUp{Layer: 5, Height: &height})); err != nil {
		t.Fatal(err)
	}
	if _, err := client.Call(t.Context(), b.Client, ops.PickUpRun, ops.ForID(r.ID, api.PickUp{Layer: 5})); status(err) != 409 {
		t.Errorf("picking it up twice: %v", err)
	}
	b.untilRun("finished")
	got := b.laid()[before:]
	first := slices.IndexFunc(want, func(s simprinter.Segment) bool { return s.To[2] > 0.2*4.5 }) // of layer 5
	sameParts(t, got, want[first:])
}

func TestAnInterruptedRunOutlivesTheHostAndIsGivenUp(t *testing.T) {
	t.Parallel()
	b := start(t, quick()).live()
	r := b.interrupted(coupon(t, 40))
	b.service.Close()
	b.up()
	b.until("the run and the link", func(now api.Bench) bool {
		return now.Link.State == "live" && now.Run != nil && now.Run.ID == r.ID && now.Run.State == "interrupted" && now.Run.NeedsPlan
	})
	if plan, err := client.Call(t.Context(), b.Client, ops.PlanPickUp, ops.PlanOf(r.ID, api.PickUp{})); err != nil || plan.Layer < 5 {
		t.Errorf("after a restart the plan is %+v, %v", plan, err)
	}
	path := filepath.Join(t.TempDir(), "recording.zip")
	file, err := os.Create(path)
	if err != nil {
		t.Fatal(err)
	}
	if err := client.Fetch(t.Context(), b.Client, ops.GetRunRecording, ops.ID{ID: r.ID}, file); err != nil {
		t.Fatal(err)
	}
	file.Close()
	marks, last, restarts := map[byte]int{}, time.Time{}, 0
	if err := client.ReadRecording(path, func(e client.Recorded) error {
		marks[e.Mark]++
		if e.At.Before(last) {
			t.Errorf("the recording goes back from %s to %s", last, e.At)
		}
		last = e.At
		if strings.Contains(e.Text, "printer restarted") {
			restarts++
		}
		return nil
	}); err != nil {
		t.Fatal(err)
	}
	if marks['>'] < 100 || marks['<'] < 100 || marks['='] < 10 || marks['!'] < 5 || restarts == 0 {
		t.Errorf("the recording holds %v and %d restarts", marks, restarts)
	}
	if err := b.recording(&strings.Builder{}); err != nil {
		t.Error(err)
	}
	if err := client.Fetch(t.Context(), b.Client, ops.GetRunRecording, ops.ID{ID: "../../etc"}, &strings.Builder{}); status(err) != 404 {
		t.Errorf("a recording of nothing: %v", err)
	}
	if _, err := client.Call(t.Context(), b.Client, ops.StopRun, ops.ID{ID: r.ID}); err != nil {
		t.Fatal(err)
	}
	if given := b.untilRun("stopped"); given.Reason != "given up" {
		t.Errorf("it ended because %q", given.Reason)
	}
	b.until("a cold bed", func(now api.Bench) bool { return now.Heaters[1].Setpoint == 0 })
	b.mustSend("next.gcode", coupon(t, 1), true)
	b.untilRun("finished")
}

func TestPrinterFileAndHandHoldARun(t *testing.T) {
	t.Parallel()
	b := start(t, quick()).live()
	whole := coupon(t, 8)
	cut := len(whole) * 2 / 3
	cut += strings.IndexByte(string(whole[cut:]), '\n') + 1
	body := slices.Concat(whole[:cut], []byte("M0 Put the magnet in\n"), whole[cut:])
	b.mustSend("part.gcode", body, true)
	b.untilRun("running")
	b.device.Control("say //action:out_of_filament")
	r := b.untilRun("held")
	if !strings.Contains(r.Reason, "out of filament") {
		t.Errorf("it is held because %q", r.Reason)
	}
	b.until("a parked nozzle", func(now api.Bench) bool { return now.Position.Z > 9 })
	if _, err := client.Call(t.Context(), b.Client, ops.Say, ops.Body(api.SayLine{Line: "G28 Z"})); status(err) != 409 {
		t.Errorf("homing in the middle of a held run: %v", err)
	}
	b.device.Control("say //action:resume")
	r = b.untilRun("held-by-file", "held", "running")
	b.until("the file's own hold", func(now api.Bench) bool {
		return now.Run.State == "held" && strings.Contains(now.Run.Reason, "Put the magnet in")
	})
	if _, err := client.Call(t.Context(), b.Client, ops.ResumeRun, ops.ID{ID: r.ID}); err != nil {
		t.Fatal(err)
	}
	b.untilRun("finished")
	b.mustHavePrinted(whole)
	sameParts(t, b.laid(), uninterrupted(t, whole))
}

func ptr[T any](v T) *T { return &v }
