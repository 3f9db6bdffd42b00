package host_test

import (
	"errors"
	"io"
	"io/fs"
	"math"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"sync/atomic"
	"testing"
	"testing/synctest"
	"time"

	"diathermon/internal/core/gcode"
	"diathermon/internal/core/run"
	"diathermon/internal/host"
	"diathermon/internal/host/part"
	"diathermon/internal/host/printing"
	"diathermon/internal/samples"
	"diathermon/internal/simprinter"
)

// A rig is a printer that stays while its cable and its hosts come and go.
type rig struct {
	*host.Host
	t        *testing.T
	files    folder
	board    *standIn
	begun    time.Time
	pace     pace         // of every cable
	dead     *atomic.Bool // the host of a rig whose hosts crash writes no more
	journals string
	kept     *memory
	change   []func(*host.Config)
	cable    atomic.Pointer[cable] // nil while it is out
	leave    func()
}

// newRig returns a host and its printer, connected, and a run of a file of so
// many layers.
func newRig(t *testing.T, layers int) *rig {
	t.Helper()
	return newRigFor(t, samples.Coupon(layers))
}

// newRigFor is newRig for any part, with changes to the host's configuration.
func newRigFor(t *testing.T, part samples.Part, change ...func(*host.Config)) *rig {
	t.Helper()
	return newRigOn(t, simprinter.Vesper(), part, change...)
}

// newRigOn is newRigFor with a printer of the test's.
func newRigOn(t *testing.T, config simprinter.Config, part samples.Part, change ...func(*host.Config)) *rig {
	t.Helper()
	return newRigOver(t, pace{}, config, part, change...)
}

// newRigOver is newRigOn with cables of the test's.
func newRigOver(t *testing.T, pace pace, config simprinter.Config, part samples.Part, change ...func(*host.Config)) *rig {
	t.Helper()
	config.Record, config.Dialect.Trusting = true, true // so that it is the host that notices what is wrong
	r := &rig{t: t, change: change, files: shelfOf(t, part), board: newStandIn(config),
		begun: time.Now(), pace: pace, journals: t.TempDir()}
	r.arrive()
	r.until(10*time.Second, isLive)
	if _, err := r.Run.Start(t.Context(), printing.Order{File: "coupon.gcode"}); err != nil {
		t.Fatal(err)
	}
	return r
}

// arrive lets a host come, with the cable in.
func (r *rig) arrive() {
	r.t.Helper()
	r.plugIn()
	r.Host, r.kept, r.leave = workIn(r.t, r.journals, r.files, func() (io.ReadWriteCloser, error) {
		c := r.cable.Load()
		if c == nil {
			return nil, fs.ErrNotExist
		}
		c.mu.Lock()
		defer c.mu.Unlock()
		c.closed = false
		return c, nil
	}, r.change...)
}

func (r *rig) plugIn() {
	r.cable.Store(&cable{standIn: r.board, begun: r.begun, pace: r.pace})
}

func (r *rig) pull() {
	r.cable.Swap(nil).Close()
}

// another lets the host go away at once, without a word to the printer, and
// another one come in its place.
func (r *rig) another() {
	r.t.Helper()
	r.pull()
	r.untilState(time.Minute, run.Interrupted)
	r.leave()
	r.arrive()
}

func (r *rig) until(within time.Duration, met func(host.Bench) bool) host.Bench {
	r.t.Helper()
	return until(r.t, r.Host, within, met)
}

func (r *rig) untilState(within time.Duration, s run.State) host.Bench {
	r.t.Helper()
	return r.until(within, func(b host.Bench) bool { return b.Run != nil && b.Run.State == s })
}

func drawing(b host.Bench) bool { return b.Run != nil && b.Run.State == run.Running && b.Run.Layer > 1 }

// ofTheHost are the commands that a host says by itself between a file's, or a
// test does.
var ofTheHost = regexp.MustCompile(`^M(105|114|115|110 N\S+|117 .*|118 q.*|154 S1|155 S1|400)$`)

// commands are the file's.
func (f folder) commands(t testing.TB) (out []string) {
	t.Helper()
	body, err := os.ReadFile(f.path)
	if err != nil {
		t.Fatal(err)
	}
	for line := range strings.Lines(string(body)) {
		if c := gcode.Command([]byte(line)); len(c) > 0 {
			out = append(out, string(c))
		}
	}
	return out
}

// mustHaveTaken fails unless the printer carried out the file's commands, each
// once and in order.
func (r *rig) mustHaveTaken() {
	r.t.Helper()
	want := r.files.commands(r.t)
	n := 0
	for _, e := range r.board.executed() {
		switch {
		case n < len(want) && e.Line == want[n]:
			n++
		case e.Number >= 0 && !ofTheHost.MatchString(e.Line):
			r.t.Fatalf("%d commands of %d, and then %q", n, len(want), e.Line)
		}
	}
	if n < len(want) {
		r.t.Fatalf("%d commands of %d were carried out", n, len(want))
	}
}

func TestTheBedOfARunThatNobodyPicksUpCools(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		h, c := aPrint(t, simprinter.Vesper(), 20)
		c.reset()
		until(t, h, time.Minute, func(b host.Bench) bool {
			return b.Run.State == run.Interrupted && b.Run.Forgotten && b.Heat.Heaters[1].Setpoint == 60
		})
		until(t, h, 45*time.Minute, func(b host.Bench) bool {
			return b.Heat.Heaters[1].Setpoint == 0 && strings.Contains(b.Run.Reason, "nobody picked it up")
		})
	})
}

func TestARunThatIsCutOffAtItsVeryEndFinishes(t *testing.T) {
	for what, cutOff := range map[string]func(*rig){
		"the cable is pulled and put back": func(r *rig) { r.pull(); r.untilState(time.Minute, run.Interrupted); r.plugIn() },
		"the host goes and comes back":     (*rig).another,
	} {
		t.Run(what, func(t *testing.T) {
			synctest.Test(t, func(t *testing.T) {
				r := newRig(t, 2)
				r.untilState(time.Hour, run.Ending)
				cutOff(r)
				r.untilState(10*time.Minute, run.Finished)
				r.mustHaveTaken()
			})
		})
	}
}

func TestTheEndOfARunOutlivesTheHostBeforeItIsRecorded(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		r := newRig(t, 2)
		r.kept.mu.Lock()
		r.kept.away = true
		r.kept.mu.Unlock()
		r.untilState(time.Hour, run.Finished)
		r.leave()
		if left, _ := filepath.Glob(filepath.Join(r.journals, "*")); len(left) != 1 {
			t.Fatalf("before its end is recorded, left are %v", left)
		}
		r.arrive()
		b := r.until(time.Minute, isLive)
		r.kept.mu.Lock()
		defer r.kept.mu.Unlock()
		if told := r.kept.runs; b.Run != nil || len(told) != 1 ||
			told[0].State != run.Finished || told[0].Taken != told[0].Commands || told[0].Ended.IsZero() {
			t.Errorf("the next host goes on with %+v, and records %+v", b.Run, told)
		}
		if left, _ := filepath.Glob(filepath.Join(r.journals, "*")); len(left) != 0 {
			t.Errorf("once its end is recorded, left are %v", left)
		}
	})
}

func TestARunGoesOnInAnotherHostAfterASilence(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		r := newRig(t, 12)
		r.until(time.Hour, drawing)
		r.cable.Load().deafen(true)
		said := make(chan part.Said, 1)
		go func() {
			s, err := r.Hand.Say(t.Context(), "M117 a line that is too long to fit what the printer can hold while it waits")
			if err != nil {
				t.Error(err)
			}
			said <- s
		}()
		r.until(time.Minute, func(b host.Bench) bool { return b.Link.State == "silent" })
		r.cable.Load().deafen(false)
		if s := <-said; !s.Taken {
			t.Error("the line was not taken")
		}
		r.until(time.Minute, drawing)
		r.another()
		r.until(time.Minute, drawing)
		r.untilState(time.Hour, run.Finished)
		r.mustHaveTaken()
	})
}

func TestAHoldInTheMiddleOfAPickUpWaitsForItsEnd(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		r := newRig(t, 12)
		laying := r.until(time.Hour, drawing)
		r.board.reset()
		r.until(time.Minute, func(b host.Bench) bool { return b.Run.State == run.Interrupted && b.Run.Forgotten && isLive(b) })
		if now, err := r.Run.Hold(t.Context(), ""); !errors.Is(err, run.ErrState) || now.State != run.Interrupted {
			t.Fatalf("held while it is interrupted, it is %s, %v", now.State, err)
		}
		if _, err := r.Run.PickUp(t.Context(), laying.Run.ID, printing.Choice{Height: math.NaN()}); err != nil {
			t.Fatal(err)
		}
		time.Sleep(10 * time.Second)
		if now, err := r.Run.Hold(t.Context(), ""); err != nil || now.State != run.Warming {
			t.Fatalf("held while it heats up, it is %s, %v", now.State, err)
		}
		r.untilState(10*time.Minute, run.Held)
		taken := r.board.executed()
		if last := taken[len(taken)-1].Line; last != "M82" { // the plan's
			t.Errorf("it is held after %q, before the plan has come to its end", last)
		}
		time.Sleep(time.Minute)
		if _, err := r.Run.Resume(t.Context(), ""); err != nil {
			t.Fatal(err)
		}
		r.untilState(time.Hour, run.Finished)
	})
}

func TestAHeldRunWhosePortGoesIsStillHeldWhereItWas(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		r := newRig(t, 12)
		r.until(time.Hour, drawing)
		r.Run.Hold(t.Context(), "")
		parked := r.until(time.Minute, func(b host.Bench) bool { return b.Position.Where[2] > 10 })
		r.pull()
		r.untilState(time.Minute, run.Interrupted)
		r.plugIn()
		if b := r.untilState(10*time.Minute, run.Held); b.Run.Reason != "held by hand" {
			t.Errorf("it is held because %q", b.Run.Reason)
		}
		time.Sleep(time.Minute)
		if b := r.until(time.Minute, isLive); b.Position.Where[2] > parked.Position.Where[2]+0.01 {
			t.Errorf("it was lifted again, from %v to %v", parked.Position.Where, b.Position.Where)
		}
		if _, err := r.Run.Resume(t.Context(), ""); err != nil {
			t.Fatal(err)
		}
		r.untilState(10*time.Minute, run.Running)
		r.until(10*time.Second, func(b host.Bench) bool { return b.Position.Where[2] < 3 }) // the moves back have been planned, and are made
		r.untilState(2*time.Hour, run.Finished)
	})
}

func TestADefaultPickUpAllowsForWhatThePlannerHeld(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		r := newRig(t, 12)
		r.until(time.Hour, func(b host.Bench) bool {
			return drawing(b) && b.Run.Taken > r.files.file.Marks[b.Run.Layer-1].Command+30 // far enough into a layer
		})
		r.board.reset()
		b := r.until(time.Minute, func(b host.Bench) bool { return b.Run.State == run.Interrupted && b.Run.Forgotten && isLive(b) })
		plan, err := r.Run.Plan(t.Context(), b.Run.ID, printing.Choice{Height: math.NaN()})
		if err != nil {
			t.Fatal(err)
		}
		if begins := r.files.file.Marks[plan.Layer-1].Command; plan.Command > b.Run.Taken-16 || plan.Command < begins {
			t.Errorf("of %d commands that were taken it begins behind %d, in a layer that begins at %d", b.Run.Taken, plan.Command, begins)
		}
		for what, c := range map[string]printing.Choice{"a layer that there is not": {Layer: 99}, "a line that there is not": {Command: 1 << 20}} {
			if _, err := r.Run.Plan(t.Context(), b.Run.ID, c); !errors.Is(err, printing.ErrPlan) {
				t.Errorf("%s: %v", what, err)
			}
		}
	})
}

func TestHeatersOfARunThatWasGivenUpAreOffWhenThePrinterIsBack(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		r := newRig(t, 12)
		r.until(time.Hour, drawing)
		r.pull()
		r.untilState(time.Minute, run.Interrupted)
		if _, err := r.Run.Stop(t.Context(), ""); err != nil {
			t.Fatal(err)
		}
		r.untilState(time.Second, run.Stopped)
		r.plugIn()
		r.until(time.Minute, isLive)
		r.until(time.Minute, cold)
	})
}

func TestHeatersOfARunThatWasStoppedInASilenceAreOffWhenItIsOver(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		r := newRig(t, 12)
		r.until(time.Hour, drawing)
		r.cable.Load().deafen(true)
		r.until(time.Minute, func(b host.Bench) bool { return b.Link.State == "silent" })
		if _, err := r.Run.Stop(t.Context(), ""); err != nil {
			t.Fatal(err)
		}
		r.untilState(time.Second, run.Stopped)
		r.cable.Load().deafen(false)
		r.until(time.Minute, isLive)
		r.until(time.Minute, cold)
	})
}

func cold(b host.Bench) bool {
	return b.Heat.Heaters[0].Setpoint == 0 && b.Heat.Heaters[1].Setpoint == 0
}
