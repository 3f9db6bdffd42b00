package run_test

import (
	"reflect"
	"strings"
	"testing"
	"time"

	"diathermon/internal/core/gcode"
	"diathermon/internal/core/heat"
	"diathermon/internal/core/run"
	"diathermon/internal/core/trim"
)

const file = "; a file\nM140 S60\nG28\n\nM109 S205 ; hot\nG1 X10 Y10 F3000\nG1 X20 E1\nG1 X30 E2\nG1 X40 E3\n"

func TestAFileIsReplayedUpToACommand(t *testing.T) {
	p, err := run.Replay(run.Commands(strings.NewReader(file)), 5)
	if err != nil || p.At[0] != 20 || p.At[3] != 1 || p.Setpoints[heat.Bed] != 60 || p.Nozzle() != 205 || p.Feed != 50 || !p.Knows() {
		t.Errorf("it leads to %+v, %v", p, err)
	}
	if _, err := run.Replay(run.Commands(strings.NewReader(file)), 99); err == nil || !strings.Contains(err.Error(), "has 7 commands") {
		t.Errorf("beyond its end: %v", err)
	}
}

func TestLinesAreReplayedWithWhatWasSaidBetweenTheLines(t *testing.T) {
	var life run.Life
	for _, e := range []run.Entry{
		{Kind: run.Begins, Record: &run.Record{ID: "a"}},
		{Kind: run.Counts, Number: 10},
		{Kind: run.Other, Number: 13, Text: "M105"},
		{Kind: run.Other, Number: 15, Text: "M104 S190"}, // by hand
	} {
		life.Tell(e)
	}
	s := life.Ledger()
	for number, want := range map[int]struct {
		command int
		x       float64
		nozzle  float64
	}{9: {0, 0, 0}, 12: {3, 0, 205}, 13: {3, 0, 205}, 14: {4, 10, 205}, 15: {4, 10, 190}, 17: {6, 30, 190}} {
		if n := s.Commands(number); n != want.command {
			t.Errorf("line %d is command %d, want %d", number, n, want.command)
		}
		p, err := s.Replay(run.Commands(strings.NewReader(file)), number, 14)
		if err != nil || p.At[0] != want.x || p.Nozzle() != want.nozzle {
			t.Errorf("line %d leads to X %g and %g °C, %v; want %+v", number, p.At[0], p.Nozzle(), err, want)
		}
	}
	if _, err := s.Replay(run.Commands(strings.NewReader(file)), 99, 0); err == nil {
		t.Error("a line beyond the file's end leads somewhere")
	}
}

func FuzzParseEntry(f *testing.F) {
	e := run.Entry{Kind: run.Other, At: time.Unix(1, 0).UTC(), Number: 7, Text: "M105"}
	f.Add(e.Encode())
	f.Add([]byte("{}"))
	f.Fuzz(func(t *testing.T, line []byte) {
		got, err := run.ParseEntry(line)
		if err != nil {
			return
		}
		again, err := run.ParseEntry(got.Encode())
		if err != nil || !reflect.DeepEqual(again.Kind, got.Kind) || again.Number != got.Number {
			t.Errorf("%q is %+v, and written again %+v, %v", line, got, again, err)
		}
	})
}

func TestAJournalKeepsHowLinesDiffer(t *testing.T) {
	life := run.New(run.Rules{}, run.File{Commands: 9}, run.Record{ID: "r"})
	again := &run.Life{}
	keep := func(effects []run.Effect, err error) {
		if err != nil {
			t.Fatal(err)
		}
		for _, e := range effects {
			if e.Do != run.DoKeep {
				continue
			}
			told, err := run.ParseEntry(e.Entry.Encode())
			if err != nil {
				t.Fatal(err)
			}
			again.Tell(told)
		}
	}
	again.Tell(run.Entry{Kind: run.Begins, Record: &run.Record{ID: "r"}})
	lead := gcode.State{At: gcode.Position{1, 2, 3, 4}, Modes: gcode.Modes{Feed: 40, Tool: 1}}
	want := trim.Schedule{
		{From: 3, Trim: trim.Trim{Heaters: map[heat.Heater]float64{heat.Bed: 5}, Numbers: trim.Numbers{Flow: 90}}, Lead: lead},
		{From: 7, Trim: trim.Trim{First: map[heat.Heater]float64{heat.Nozzle: 2.5}, Numbers: trim.Numbers{Speed: 80, Height: -0.02}}},
	}
	for _, c := range want {
		keep(life.Step(run.Event{On: run.OnTrim, Trim: &c, Reason: "somebody"}, run.Machine{}))
	}
	if !reflect.DeepEqual(life.Trims(), want) || !reflect.DeepEqual(again.Trims(), want) {
		t.Errorf("it differs by %+v, and told again by %+v, want %+v", life.Trims(), again.Trims(), want)
	}
}

func TestARunIsHeldOrEndsWhereItWasToBe(t *testing.T) {
	for _, c := range []struct {
		end    bool
		stage  run.Stage
		reason string
	}{{false, run.Leaving, "held before layer 4, as Ilse wanted"}, {true, run.Stopping, "ended after layer 3, as Ilse wanted"}} {
		o := stages[run.Drawing]()
		o.step(run.Event{On: run.OnUntil, Until: &run.Until{Command: 9, Layer: 4, End: c.end, By: "Ilse"}})
		if u := o.Until(); u == nil || u.Layer != 4 {
			t.Fatalf("until %+v", u)
		}
		if o.step(run.Event{On: run.OnThere}); o.Stage() != c.stage || o.Record().Reason != c.reason || o.Until() != nil {
			t.Errorf("it is %s because %q, until %+v; want %s, %q", o.Stage(), o.Record().Reason, o.Until(), c.stage, c.reason)
		}
	}
}
