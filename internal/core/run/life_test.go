package run_test

import (
	"fmt"
	"slices"
	"strings"
	"testing"
	"time"

	"diathermon/internal/core/gcode"
	"diathermon/internal/core/heat"
	"diathermon/internal/core/run"
	"diathermon/internal/core/trim"
)

// a run of ten commands, whose third lays the first plastic.
var (
	rules = run.Rules{Parking: parking, IdleAfter: time.Minute, KeepBed: time.Minute}
	knob  = run.File{Name: "knob.gcode", Commands: 10, First: 3, Setpoints: map[heat.Heater]float64{heat.Bed: 60, heat.NozzleOf(0): 205}, Part: part}
)

// one is a run, and the machine that it is on, with all that it wanted done.
type one struct {
	*run.Life
	m     run.Machine
	token uint64
	did   []run.Effect
	err   error
}

func newOne() *one {
	o := &one{Life: run.New(rules, knob, run.Record{ID: "a", File: knob.Name, Commands: 10}), m: run.Machine{Live: true, Hot: true, AtOnce: true, Sure: true, Next: 1, Wall: time.Unix(1e9, 0).UTC()}}
	o.m.At.Homed, o.m.At.At, o.m.At.Setpoints = [3]bool{true, true, true}, gcode.Position{70, 70, 4, 9}, map[heat.Heater]float64{heat.Bed: 60, heat.NozzleOf(0): 205}
	return o
}

func (o *one) step(events ...run.Event) *one {
	for _, e := range events {
		o.m.Now += 100 * time.Millisecond
		if e.On == run.OnDone && e.Token == 0 {
			e.Token = o.token
		}
		var effects []run.Effect
		if effects, o.err = o.Step(e, o.m); len(effects) > 0 {
			o.did = append(o.did, effects...)
		}
		for _, f := range effects {
			o.token = max(o.token, f.Token)
		}
	}
	return o
}

// says are the commands that the run wanted said, in order.
func (o *one) says() []string {
	var out []string
	for _, e := range o.did {
		if e.Do == run.DoSay {
			out = append(out, e.Command)
		}
	}
	return out
}

func on(o run.On) run.Event { return run.Event{On: o, Reason: "so it is"} }

func lines(n int) []run.Event {
	var out []run.Event
	for i := range n {
		out = append(out, run.Event{On: run.OnSaid, Number: i + 1}, run.Event{On: run.OnTaken, Number: i + 1})
	}
	return out
}

// until lets the printer take the run's own commands until a stage is reached.
func (o *one) until(s run.Stage) *one {
	for range 40 {
		if o.Stage() == s {
			return o
		}
		o.step(on(run.OnDone))
	}
	panic(fmt.Sprintf("%s is not reached from %s", s, o.Stage()))
}

// stages lead a run into each of its stages.
var stages = map[run.Stage]func() *one{
	run.Fresh:     func() *one { return newOne().step(on(run.OnBegin)) },
	run.Preparing: func() *one { return prepared().step(on(run.OnBegin)) },
	run.Soaking:   func() *one { return newOne().step(run.Event{On: run.OnBegin, Soak: new(time.Duration)}) },
	run.Heating:   func() *one { return newOne().step(on(run.OnBegin)).step(lines(1)...) },
	run.Drawing:   drawing,
	run.Settling:  func() *one { return drawing().step(run.Event{On: run.OnSaid, Number: 6}, on(run.OnHold)) },
	run.Leaving:   func() *one { return drawing().step(on(run.OnHold)) },
	run.Parked:    held,
	run.Returning: func() *one { return held().step(on(run.OnResume)) },
	run.CutShort:  func() *one { return held().step(on(run.OnResume), on(run.OnCool)) },
	run.Paused:    func() *one { return drawing().step(on(run.OnPause)) },
	run.Finishing: func() *one { return newOne().step(on(run.OnBegin)).step(lines(10)...).step(on(run.OnSpent)) },
	run.Stopping:  func() *one { return drawing().step(on(run.OnStop)) },
	run.Away:      func() *one { return drawing().step(on(run.OnCut)) },
	run.Rejoining: func() *one {
		return drawing().step(on(run.OnCut), run.Event{On: run.OnKept, Number: 5}, run.Event{On: run.OnReplayed, Lead: &run.Replayed{Point: newOne().m.At}})
	},
	run.Forgotten: func() *one { return drawing().step(on(run.OnReset), on(run.OnBlank)) },
	run.PickingUp: func() *one {
		return drawing().step(on(run.OnReset), on(run.OnBlank), run.Event{On: run.OnPickUp, Plan: &run.Plan{Command: 4, Layer: 1, Steps: []run.Step{{Commands: []string{"M190 S60", "G28 X Y"}}}}})
	},
	run.Over: func() *one { return drawing().step(on(run.OnHalt)) },
}

// prepared is a run before which two routines are performed.
func prepared() *one {
	o := newOne()
	o.Life = run.New(rules, knob, run.Record{ID: "a", File: knob.Name, Commands: 10, Before: []run.Performs{{Routine: "Level"}, {Routine: "Prime"}}})
	return o
}

func drawing() *one { return newOne().step(on(run.OnBegin)).step(lines(5)...) }
func held() *one    { return drawing().step(on(run.OnHold)).until(run.Parked) }

// matrix says what comes of every event in every stage. A word is the stage that
// follows; "·" is that nothing happens, "=" that the stage stays and something is
// done or noted in it, "no" that the person who asks is refused.
const matrix = `
           begin     hold      resume    stop      halt      pick-up   cool      said      other     taken     ask       spent     unread    done      stale     off       soaked    pause     cut       reset     kept      blank     replayed  time      clock     back      trim      until     there     performed not
fresh      =         no        no        over      over      no        ·         heating   =         ·         leaving   ·         over      ·         ·         ·         ·         ·         over      over      ·         ·         ·         ·         =         away      =         =         ·         ·         ·
preparing  ·         no        no        over      over      no        ·         ·         =         ·         ·         ·         over      ·         ·         ·         ·         ·         over      over      ·         ·         ·         ·         =         over      =         no        ·         =         over
soaking    ·         leaving   no        stopping  over      no        leaving   ·         =         ·         ·         ·         ·         ·         ·         ·         heating   paused    away      away      ·         ·         ·         ·         =         away      =         =         ·         ·         ·
heating    ·         leaving   no        stopping  over      no        leaving   ·         =         ·         leaving   ·         stopping  ·         ·         ·         ·         paused    away      away      ·         ·         ·         =         =         away      =         =         ·         ·         ·
drawing    ·         leaving   no        stopping  over      no        leaving   ·         =         ·         leaving   ·         stopping  ·         ·         ·         ·         paused    away      away      ·         ·         ·         =         =         away      =         =         ·         ·         ·
settling   ·         no        drawing   stopping  over      no        =         ·         =         leaving   ·         ·         ·         ·         ·         ·         ·         ·         away      away      ·         ·         ·         ·         =         away      =         =         ·         ·         ·
leaving    ·         no        =         stopping  over      no        =         ·         =         ·         ·         ·         ·         =         ·         ·         ·         ·         away      away      ·         ·         ·         ·         =         away      =         =         ·         ·         ·
parked     ·         no        returning stopping  over      no        =         ·         =         ·         ·         ·         ·         ·         ·         ·         ·         ·         away      away      ·         ·         ·         =         =         away      =         =         ·         ·         ·
returning  ·         =         =         stopping  over      no        cut-short ·         =         ·         ·         ·         ·         =         ·         ·         ·         ·         away      away      ·         ·         ·         ·         =         away      =         =         ·         ·         ·
cut-short  ·         no        returning stopping  over      no        ·         ·         =         ·         ·         ·         ·         ·         ·         ·         ·         ·         away      away      ·         ·         ·         ·         =         away      =         =         ·         ·         ·
paused     ·         no        drawing   stopping  over      no        =         ·         =         ·         ·         ·         ·         ·         ·         ·         ·         ·         away      away      ·         ·         ·         ·         =         away      =         =         ·         ·         ·
finishing  ·         no        no        stopping  over      no        ·         ·         =         ·         ·         ·         ·         over      ·         ·         ·         ·         away      away      ·         ·         ·         ·         =         away      no        no        ·         ·         ·
stopping   ·         no        no        ·         over      no        ·         ·         =         ·         ·         ·         ·         ·         ·         =         ·         ·         over      over      ·         ·         ·         ·         =         over      no        no        ·         ·         ·
away       ·         no        no        over      over      no        ·         ·         ·         ·         ·         ·         ·         ·         ·         ·         ·         ·         =         =         rejoining forgotten ·         ·         =         =         no        no        ·         ·         ·
rejoining  ·         no        no        stopping  over      no        ·         ·         =         ·         ·         ·         ·         =         ·         ·         ·         ·         away      away      =         ·         =         ·         =         away      no        no        ·         ·         ·
forgotten  ·         no        no        stopping  over      picking-up ·         ·         ·         ·         ·         ·         ·         ·         ·         ·         ·         ·         away      away      ·         ·         ·         =         =         away     no        no        ·         ·         ·
picking-up ·         =         no        stopping  over      no        cut-short ·         =         ·         ·         ·         ·         =         ·         ·         ·         ·         away      away      ·         ·         ·         ·         =         away      no        no        ·         ·         ·
over       ·         no        no        no        ·         no        ·         ·         ·         ·         ·         ·         ·         ·         ·         ·         ·         ·         ·         ·         ·         ·         ·         ·         ·         ·         no        no        ·         ·         ·
`

func TestEveryEventInEveryStage(t *testing.T) {
	rows := strings.Split(strings.TrimSpace(matrix), "\n")
	var got []string
	header := fmt.Sprintf("%-10s", "")
	for _, e := range events {
		header += fmt.Sprintf(" %-9s", e.name)
	}
	got = append(got, strings.TrimRight(header, " "))
	for s := range run.Over + 1 {
		row := fmt.Sprintf("%-10s", strings.ReplaceAll(s.String(), " ", "-"))
		for _, e := range events {
			o := stages[s]()
			if o.Stage() != s {
				t.Fatalf("%s is not reached, but %s", s, o.Stage())
			}
			o.did = nil
			what := e.Event
			if what.On == run.OnTime {
				o.m.Now += time.Hour
			}
			o.step(what)
			cell := strings.ReplaceAll(o.Stage().String(), " ", "-")
			switch {
			case o.err != nil && o.Stage() == s:
				cell = "no"
			case o.Stage() == s && len(o.did) == 0:
				cell = "·"
			case o.Stage() == s:
				cell = "="
			}
			row += fmt.Sprintf(" %-9s", cell)
			if act, asks := acts[e.On]; asks && (cell != "no" && cell != "·") != slices.Contains(stages[s]().May(), act) {
				t.Errorf("%s: a person may %v, and %s leads to %q", s, stages[s]().May(), e.name, cell)
			}
		}
		got = append(got, strings.TrimRight(row, " "))
	}
	for i := range got {
		if i >= len(rows) || strings.Join(strings.Fields(got[i]), " ") != strings.Join(strings.Fields(rows[i]), " ") {
			t.Fatalf("row %d is\n%s\nAll of it:\n%s", i, got[i], strings.Join(got, "\n"))
		}
	}
}

// acts are the events that a person causes.
var acts = map[run.On]run.Act{run.OnHold: run.MayHold, run.OnResume: run.MayResume, run.OnStop: run.MayStop, run.OnPickUp: run.MayPickUp}

var events = []struct {
	name string
	run.Event
}{
	{"begin", on(run.OnBegin)}, {"hold", on(run.OnHold)}, {"resume", on(run.OnResume)}, {"stop", on(run.OnStop)}, {"halt", on(run.OnHalt)},
	{"pick-up", run.Event{On: run.OnPickUp, Plan: &run.Plan{Command: 4, Layer: 1, Steps: []run.Step{{Commands: []string{"G28 X Y"}}}}}},
	{"cool", on(run.OnCool)}, {"said", run.Event{On: run.OnSaid, Number: 7}}, {"other", run.Event{On: run.OnOther, Number: 7, Text: "M105"}},
	{"taken", run.Event{On: run.OnTaken, Number: 7}}, {"ask", on(run.OnAsk)}, {"spent", on(run.OnSpent)}, {"unread", on(run.OnUnreadable)},
	{"done", run.Event{On: run.OnDone}}, {"stale", run.Event{On: run.OnDone, Token: 1 << 40}}, {"off", on(run.OnOff)}, {"soaked", on(run.OnSoaked)}, {"pause", on(run.OnPause)},
	{"cut", on(run.OnCut)}, {"reset", on(run.OnReset)}, {"kept", run.Event{On: run.OnKept, Number: 5}}, {"blank", on(run.OnBlank)},
	{"replayed", run.Event{On: run.OnReplayed, Lead: &run.Replayed{Point: newOne().m.At}}}, {"time", on(run.OnTime)}, {"clock", run.Event{On: run.OnClock, By: time.Hour}}, {"back", on(run.OnBack)}, {"trim", run.Event{On: run.OnTrim, Trim: &trim.Change{From: 1, Trim: trim.Trim{Numbers: trim.Numbers{Speed: 90}}}}},
	{"until", run.Event{On: run.OnUntil, Until: &run.Until{Command: 3, Layer: 2, By: "somebody"}}}, {"there", on(run.OnThere)}, {"performed", run.Event{On: run.OnPerformed}}, {"not", on(run.OnPerformed)},
}
