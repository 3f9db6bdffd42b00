package notice_test

import (
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"strings"
	"testing"
	"time"

	"diathermon/internal/core/bed"
	"diathermon/internal/core/notice"
	"diathermon/internal/core/run"
)

var morning = time.Date(2026, 3, 1, 9, 0, 0, 0, time.UTC)

// watcher looks, and sometimes goes on as another process would: with what was kept.
type watcher struct {
	t     *testing.T
	w     notice.Watch
	f     notice.Facts
	again bool
}

func (w *watcher) look() string {
	w.t.Helper()
	if w.again {
		kept, err := json.Marshal(w.w)
		if err != nil {
			w.t.Fatal(err)
		}
		w.w = notice.Watch{}
		if err := json.Unmarshal(kept, &w.w); err != nil {
			w.t.Fatal(err)
		}
	}
	var said []string
	for _, n := range w.w.Look(w.f) {
		s := string(n.Kind)
		if n.Quiet {
			s += " quietly"
		}
		said = append(said, s)
	}
	return strings.Join(said, ", ")
}

func (w *watcher) run(id string, s run.State, reason string) {
	w.f.Run = run.Record{ID: id, File: id + ".gcode", State: s, Reason: reason, Started: morning, Ended: morning.Add(33 * time.Minute), Estimate: 29 * time.Minute}
}

func TestEachThingIsToldOnce(t *testing.T) {
	for _, again := range []bool{false, true} {
		w := &watcher{t: t, again: again, f: notice.Facts{At: morning, Bed: bed.Clear, Known: true, Reading: 21, PartOff: 40}}
		for i, step := range []struct {
			change func()
			want   string
		}{
			{func() { w.run("old", run.Finished, "") }, ""}, // past
			{func() { w.run("cap", run.Warming, "") }, ""},
			{func() { w.f.Bed, w.f.Reading, w.f.Setpoint = bed.Occupied, 60, 60; w.run("cap", run.Running, "") }, ""},
			{func() { w.run("cap", run.Held, "the printer is out of filament") }, "held"},
			{func() { w.run("cap", run.Running, "") }, ""},
			{func() { w.run("cap", run.Held, run.HeldByHand) }, "held quietly"},
			{func() { w.run("cap", run.Running, "") }, ""},
			{func() { w.f.Alarms = []notice.Raised{{"a", "too hot"}} }, "alarm"},
			{func() { w.f.Alarms = append(w.f.Alarms, notice.Raised{ID: "b", Text: "falls"}) }, "alarm"},
			{func() { w.f.Alarms = nil }, ""},
			{func() { w.f.Asks = notice.Question{ID: "1", Routine: "load", Text: "Is it through?"} }, "asked"},
			{func() { w.f.Asks = notice.Question{} }, ""},
			{func() { w.f.First = notice.Entry{ID: "e", File: "knob.gcode"} }, ""},
			{func() { w.run("cap", run.Finished, ""); w.f.Setpoint = 0 }, "done"},
			{func() { w.f.Reading = 41 }, ""},
			{func() { w.f.Known = false; w.f.Reading = 0 }, ""}, // not read is not cool
			{func() { w.f.Known = true; w.f.Reading = 40 }, "cool, waits"},
			{func() { w.f.Reading = 45 }, ""},
			{func() { w.f.Bed = bed.Clear }, ""},
			{func() { w.f.Bed = bed.Unknown }, "waits"},
			{func() { w.f.First = notice.Entry{}; w.f.Bed = bed.Clear }, ""},
			{func() { w.run("knob", run.Running, "") }, ""},
			{func() { w.run("knob", run.Interrupted, "the port is gone") }, ""},
			{func() { w.f.At = w.f.At.Add(19 * time.Second) }, ""},
			{func() { w.run("knob", run.Running, "") }, ""}, // by itself
			{func() { w.run("knob", run.Interrupted, "the port is gone") }, ""},
			{func() { w.f.At = w.f.At.Add(20 * time.Second) }, "interrupted"},
			{func() { w.run("knob", run.Stopped, run.GivenUp) }, "stopped quietly"},
			{func() { w.f.WarmUp = notice.WarmUp{Name: "PLA", Begun: morning} }, ""},
			{func() { w.f.WarmUp.Ready = true }, "warm"},
			{func() { w.f.WarmUp = notice.WarmUp{Name: "PLA", Begun: morning.Add(time.Hour), Ready: true} }, "warm"},
			{func() { w.run("clip", run.Broken, "the printer has forgotten where it was") }, "broken"}, // begun and ended between two looks
		} {
			step.change()
			if got := w.look(); got != step.want {
				t.Errorf("again %v, step %d: %q, want %q", again, i, got, step.want)
			}
			if got := w.look(); got != "" {
				t.Errorf("again %v, step %d: told again: %q", again, i, got)
			}
		}
	}
}

func TestWhatIsOverIsForgotten(t *testing.T) {
	w := &watcher{t: t, f: notice.Facts{At: morning, Alarms: []notice.Raised{{"a", "too hot"}}}}
	w.look()
	w.f.Alarms = nil
	if w.look(); len(w.w.Alarms) != 0 {
		t.Errorf("%v are kept", w.w.Alarms)
	}
}

// What waits for a person at the first look of all is told.
func TestTheFirstLookTellsWhatWaits(t *testing.T) {
	w := &watcher{t: t, f: notice.Facts{At: morning, Alarms: []notice.Raised{{"a", "too hot"}}, Bed: bed.Unknown, First: notice.Entry{ID: "e", File: "knob.gcode"}}}
	w.run("cap", run.Interrupted, "the cable was pulled")
	if got := w.look(); got != "alarm" {
		t.Error(got)
	}
	w.f.At = w.f.At.Add(-time.Hour) // a clock that is set back tells rather than keeps
	if got := w.look(); got != "interrupted" {
		t.Error(got)
	}
	w.run("cap", run.Stopped, run.GivenUp)
	if got := w.look(); got != "stopped quietly, waits" {
		t.Error(got)
	}
}

func TestItSaysHowLongARunTook(t *testing.T) {
	w := &watcher{t: t}
	w.run("cap", run.Running, "")
	w.look()
	w.run("cap", run.Finished, "")
	if told := w.w.Look(w.f); len(told) != 1 || told[0].Title != "cap.gcode is done" || told[0].Text != "It took 33 min; its moves alone were computed as 29 min." {
		t.Errorf("%+v", told)
	}
}

// Whatever happens in whatever order, no run's end, no alarm and no question is told twice,
// and none is left out.
func TestNothingIsToldTwiceOrLeftOut(t *testing.T) {
	states := []run.State{run.Waiting, run.Warming, run.Running, run.Held, run.Ending, run.Interrupted, run.Finished, run.Stopped, run.Broken}
	for seed := range uint64(2000) {
		r := rand.New(rand.NewPCG(seed, 16))
		w := &watcher{t: t, again: true, f: notice.Facts{At: morning, PartOff: 40, Known: true}}
		w.look()
		ended, told, raised, alarms := 0, 0, 0, 0
		id, over := 0, true
		for range 40 {
			if over = over || r.IntN(10) == 0; over {
				id++
				over = false
			}
			state := states[r.IntN(len(states))]
			w.run(fmt.Sprint(id), state, "")
			if over = state.Final(); over {
				ended++
			}
			w.f.Bed = []bed.State{bed.Clear, bed.Occupied, bed.Unknown}[r.IntN(3)]
			w.f.Reading, w.f.Setpoint = r.Float64()*80, float64(r.IntN(2)*60)
			if r.IntN(6) == 0 {
				w.f.Alarms = nil
			}
			if r.IntN(4) == 0 {
				raised++
				w.f.Alarms = append(w.f.Alarms, notice.Raised{ID: fmt.Sprint(raised)})
			}
			for range 2 {
				for _, n := range w.w.Look(w.f) {
					switch n.Kind {
					case notice.Done, notice.Stopped, notice.Broken:
						told++
					case notice.Alarm:
						alarms++
					}
				}
			}
		}
		if told != ended || alarms != raised {
			t.Fatalf("seed %d: %d ends were told of %d, %d alarms of %d", seed, told, ended, alarms, raised)
		}
	}
}
