package run_test

import (
	"errors"
	"maps"
	"math"
	"slices"
	"strings"
	"testing"
	"time"

	"diathermon/internal/core/gcode"
	"diathermon/internal/core/heat"
	"diathermon/internal/core/run"
)

var (
	warm = map[heat.Heater]float64{heat.Bed: 60, heat.NozzleOf(0): 205}
	off  = map[heat.Heater]float64{heat.Bed: 0, heat.NozzleOf(0): 0}
)

// heated are the setpoints that commands wait for.
func heated(commands []string) (bed, nozzle string) {
	for _, c := range commands {
		if strings.HasPrefix(c, "M190") {
			bed = c
		}
		if strings.HasPrefix(c, "M109") {
			nozzle = c
		}
	}
	return bed, nozzle
}

// back resumes a held run and returns what it says until it draws again.
func (o *one) back(t *testing.T) []string {
	t.Helper()
	o.did = nil
	if o.step(on(run.OnResume)); o.err != nil {
		t.Fatal(o.err)
	}
	o.until(run.Drawing)
	return o.says()
}

func TestARunIsHeatedToWhatItWasBeforeTheHeatersWereTurnedOff(t *testing.T) {
	for what, o := range map[string]*one{
		"while it draws":        drawing(),
		"while it settles":      stages[run.Settling](),
		"while it leaves":       stages[run.Leaving](),
		"while it is parked":    held(),
		"while it comes back":   stages[run.Returning](),
		"when it was cut short": stages[run.CutShort](),
		"while it is paused":    stages[run.Paused](),
	} {
		o.step(on(run.OnCool))
		o.m.At.Setpoints = maps.Clone(off)
		o.step(on(run.OnCool), on(run.OnCool)) // nor is it forgotten when they are turned off again
		switch o.Stage() {
		case run.Settling:
			o.step(run.Event{On: run.OnTaken, Number: 6}).until(run.Parked)
		case run.Leaving:
			o.until(run.Parked)
		}
		if bed, nozzle := heated(o.back(t)); bed != "M190 S60" || nozzle != "M109 S205" {
			t.Errorf("%s: it comes back with %q and %q", what, bed, nozzle)
		}
	}
}

func TestAnAlarmIsAcknowledgedBeforeARunGoesOn(t *testing.T) {
	for _, s := range []run.Stage{run.Settling, run.Leaving, run.Parked, run.Returning, run.CutShort, run.Paused, run.Forgotten} {
		o := stages[s]()
		o.m.Alarm = "the bed is too hot"
		e := on(run.OnResume)
		if s == run.Forgotten {
			e = run.Event{On: run.OnPickUp, Plan: &run.Plan{Steps: []run.Step{{Commands: []string{"G28 X"}}}}}
		}
		if o.step(e); !errors.Is(o.err, run.ErrAlarm) || o.Stage() != s {
			t.Errorf("%s: %v, and it is %s", s, o.err, o.Stage())
		}
	}
}

func TestFilamentIsMovedOnlyWhereItMelts(t *testing.T) {
	o := drawing()
	o.m.Hot = false
	o.step(on(run.OnHold)).until(run.Parked)
	for _, c := range slices.Concat(o.says(), o.back(t)) {
		if strings.HasPrefix(c, "G1") && strings.Contains(c, "E") {
			t.Errorf("it says %q with a cold nozzle", c)
		}
	}
}

func TestAPrinterThatKeptItsPlaceGoesOnOnlyAsItWas(t *testing.T) {
	found := func(change func(*one, *gcode.Position)) *one {
		o := drawing().step(on(run.OnCut), run.Event{On: run.OnKept, Number: 5})
		lead := run.Replayed{Point: o.m.At.Clone()}
		o.m.Reported = maps.Clone(warm)
		where := o.m.At.At
		change(o, &where)
		o.step(run.Event{On: run.OnReplayed, Lead: &lead})
		o.step(run.Event{On: run.OnDone, Token: o.token})
		return o.step(run.Event{On: run.OnDone, Token: o.token, Where: &where})
	}
	for what, c := range map[string]struct {
		change func(*one, *gcode.Position)
		stage  run.Stage
		reason string
	}{
		"it is as it was":            {func(*one, *gcode.Position) {}, run.Drawing, ""},
		"two decimals":               {func(_ *one, p *gcode.Position) { p[2] += 0.05 }, run.Drawing, ""},
		"another height":             {func(_ *one, p *gcode.Position) { p[2] += 0.2 }, run.Parked, "Z 4.20"},
		"another X":                  {func(_ *one, p *gcode.Position) { p[0] = 0 }, run.Parked, "X 0.00"},
		"a bed that was turned off":  {func(o *one, _ *gcode.Position) { o.m.Reported[heat.Bed] = 0 }, run.Parked, "turned the bed off"},
		"a setpoint of another hand": {func(o *one, _ *gcode.Position) { o.m.Reported[heat.NozzleOf(0)] = 190 }, run.Parked, "turned the nozzle0 off"},
		"it was cooled since":        {func(o *one, _ *gcode.Position) { o.step(on(run.OnCool)) }, run.Parked, "so it is"},
		"its count is asked anew":    {func(o *one, _ *gcode.Position) { o.step(run.Event{On: run.OnKept, Number: 3}) }, run.Drawing, ""},
		"cooled, and asked anew":     {func(o *one, _ *gcode.Position) { o.step(on(run.OnCool), run.Event{On: run.OnKept, Number: 3}) }, run.Parked, "so it is"},
	} {
		o := found(c.change)
		if o.Stage() != c.stage || !strings.Contains(o.Record().Reason, c.reason) {
			t.Errorf("%s: it is %s: %s", what, o.Stage(), o.Record().Reason)
		}
		if strings.Contains(what, "asked anew") && (o.Taken() != 3 || !slices.ContainsFunc(o.did, func(e run.Effect) bool { return e.Do == run.DoReplay && e.Number == 3 })) {
			t.Errorf("%s: it goes on behind %d, with %+v done", what, o.Taken(), o.did)
		}
		if c.stage == run.Parked {
			if bed, nozzle := heated(o.back(t)); bed != "M190 S60" || nozzle != "M109 S205" {
				t.Errorf("%s: it comes back with %q and %q", what, bed, nozzle)
			}
		}
	}
	rules.ByHand = true
	defer func() { rules.ByHand = false }()
	if o := found(func(*one, *gcode.Position) {}); o.Stage() != run.Parked {
		t.Errorf("where a person is to look first it is %s", o.Stage())
	}
}

func TestWhatWasAskedBeforeAnInterruptionIsNotDoneAfterIt(t *testing.T) {
	lead := run.Replayed{Point: newOne().m.At}
	for what, c := range map[string]struct {
		o    *one
		then run.Stage
	}{
		"a resume while it leaves":     {stages[run.Leaving]().step(on(run.OnResume)), run.Parked},
		"a hold on the way back":       {stages[run.Returning]().step(on(run.OnHold)), run.Parked},
		"a hold while it is picked up": {stages[run.PickingUp]().step(on(run.OnHold)), run.Forgotten},
	} {
		o := c.o.step(on(run.OnCut), run.Event{On: run.OnKept, Number: 5}, run.Event{On: run.OnReplayed, Lead: &lead})
		if c.then == run.Parked {
			o.until(run.Parked)
		}
		if o.step(on(run.OnTime)); o.Stage() != c.then {
			t.Errorf("%s: it is %s", what, o.Stage())
		}
	}
}

func TestAWayBackThatWasCutOffGoesOn(t *testing.T) {
	lead := run.Replayed{Point: newOne().m.At}
	for what, c := range map[string]struct {
		then  func(*one)
		stage run.Stage
		why   string
	}{
		"as it was":          {func(*one) {}, run.Returning, "coming back"},
		"cooled since":       {func(o *one) { o.step(on(run.OnCool)) }, run.Parked, "so it is: resume heats up first"},
		"an alarm waits":     {func(o *one) { o.m.Alarm = "too hot" }, run.Parked, "its way back to the part was cut off: resume it once more"},
		"it is held already": {func(o *one) { o.step(on(run.OnHold)) }, run.Parked, "its way back to the part was cut off: resume it once more"},
	} {
		for _, gone := range []run.On{run.OnCut, run.OnBack} {
			o := stages[run.Returning]().step(on(gone), run.Event{On: run.OnKept, Number: 5}, run.Event{On: run.OnReplayed, Lead: &lead})
			if c.then(o); what == "it is held already" {
				o = stages[run.Returning]().step(on(run.OnHold), on(gone), run.Event{On: run.OnKept, Number: 5}, run.Event{On: run.OnReplayed, Lead: &lead})
				c.why = "so it is"
			}
			for range 4 {
				if o.Stage() == run.Rejoining {
					o.step(on(run.OnDone))
				}
			}
			if o.Stage() != c.stage || !strings.Contains(o.Record().Reason, c.why) {
				t.Errorf("%s: it is %s: %s", what, o.Stage(), o.Record().Reason)
			}
		}
	}
}

func TestAStopIsAStopWhateverGoesAway(t *testing.T) {
	for _, e := range []run.Event{on(run.OnCut), on(run.OnReset), on(run.OnBack)} {
		o := stages[run.Stopping]()
		o.did = nil
		o.step(e)
		if o.Record().State != run.Stopped || !slices.ContainsFunc(o.did, func(e run.Effect) bool { return e.Do == run.DoOff }) {
			t.Errorf("%d: it is %s, and the heaters stay as they are", e.On, o.Record().State)
		}
	}
}

func TestAHeldNozzleCoolsAndTheBedOfAForgottenRunIsKeptForAWhile(t *testing.T) {
	o := held()
	o.did, o.m.Now = nil, o.m.Now+rules.IdleAfter
	o.step(on(run.OnTime), on(run.OnTime))
	if says := o.says(); !slices.Equal(says, []string{"M104 T0 S0"}) && !slices.Equal(says, []string{"M104 S0"}) {
		t.Errorf("an idle nozzle: %q", says)
	}
	o.m.At.Setpoints = map[heat.Heater]float64{heat.Bed: 65, heat.NozzleOf(0): 0} // the bed by hand
	if bed, nozzle := heated(o.back(t)); bed != "M190 S60" || nozzle != "M109 S205" {
		t.Errorf("it comes back with %q and %q", bed, nozzle)
	}

	o = stages[run.Forgotten]()
	if says := o.says(); says[len(says)-1] != "M140 S60" || !o.KeepsBed() {
		t.Errorf("the bed is not kept: %q", says)
	}
	o.step(on(run.OnTime))
	o.m.Now += rules.KeepBed
	o.step(on(run.OnTime), on(run.OnTime))
	if says := o.says(); says[len(says)-1] != "M140 S0" || says[len(says)-2] != "M140 S60" || o.KeepsBed() {
		t.Errorf("the bed stays hot: %q", says)
	}
}

func TestTheFilesOwnPauseTakesItsTurn(t *testing.T) {
	o := drawing().step(on(run.OnAsk)).until(run.Parked)
	if r := o.Record(); r.Taken != 6 || r.Reason != "so it is" || !slices.ContainsFunc(o.did, func(e run.Effect) bool { return e.Do == run.DoSkip }) {
		t.Errorf("after a line that asks it is %+v", r)
	}
}

func TestASoakThatWasBrokenOffBeginsAnew(t *testing.T) {
	o := stages[run.Soaking]().step(on(run.OnHold)).until(run.Parked)
	o.step(on(run.OnResume)).until(run.Soaking)
	if n := len(slices.DeleteFunc(o.did, func(e run.Effect) bool { return e.Do != run.DoSoak })); n != 2 {
		t.Errorf("it soaked %d times", n)
	}
	if o.step(on(run.OnSoaked)); o.Stage() != run.Heating {
		t.Errorf("then it is %s", o.Stage())
	}
}

func TestJournalsOfBeforeAreRead(t *testing.T) {
	at := newOne().m.At
	begun := []run.Entry{{Kind: run.Begins, Record: &run.Record{ID: "a"}}, {Kind: run.Counts, Number: 4}, {Kind: run.Becomes, State: run.Warming}}
	for what, c := range map[string]struct {
		more  []run.Entry
		found run.Stage
	}{
		"it was drawn":       {[]run.Entry{{Kind: run.Becomes, State: run.Running}}, run.Drawing},
		"it was parked":      {[]run.Entry{{Kind: run.Becomes, State: run.Held, Back: &at}}, run.Parked},
		"it was interrupted": {[]run.Entry{{Kind: run.Becomes, State: run.Running}, {Kind: run.Becomes, State: run.Interrupted}}, run.Drawing},
		"it was picked up":   {[]run.Entry{{Kind: run.Lost}, {Kind: run.Counts, Number: 9, Command: 3}, {Kind: run.Becomes, State: run.Warming}}, run.PickingUp},
	} {
		var l run.Life
		for _, e := range append(slices.Clone(begun), c.more...) {
			again, err := run.ParseEntry(e.Encode())
			if err != nil {
				t.Fatal(err)
			}
			l.Tell(again)
		}
		if l.Stage() != c.found {
			t.Errorf("%s: it is %s", what, l.Stage())
		}
	}
}

func TestAResumeRestoresWhatTheRunHadWhateverWasHeatedMeanwhile(t *testing.T) {
	o := held()
	o.m.At.Setpoints, o.m.At.Fan = map[heat.Heater]float64{heat.Bed: 0, heat.NozzleOf(0): 215, heat.Chamber: 40}, 1
	if own := o.Own(); own[heat.NozzleOf(0)] != 205 || own[heat.Bed] != 60 {
		t.Errorf("its own are %v", own)
	}
	says := o.back(t)
	if bed, nozzle := heated(says); bed != "M190 S60" || nozzle != "M109 S205" || !slices.Contains(says, "M141 S0") {
		t.Errorf("it comes back with %q", says)
	}
}

func TestNothingIsSaidBeforeAHoldThatWasAskedForOnTheWayBack(t *testing.T) {
	for _, s := range []run.Stage{run.Returning, run.PickingUp} {
		o := stages[s]().step(on(run.OnHold))
		o.did = nil
		o.until(run.Leaving)
		if slices.ContainsFunc(o.did, func(e run.Effect) bool { return e.Do == run.DoLane && e.Open }) {
			t.Errorf("%s: the file's lane was opened", s)
		}
	}
}

func TestARunThatWasFoundAtItsPartLeavesItWhenItIsStopped(t *testing.T) {
	o := drawing().step(on(run.OnCut), run.Event{On: run.OnKept, Number: 5}, run.Event{On: run.OnReplayed, Lead: &run.Replayed{Point: newOne().m.At}})
	elsewhere := gcode.Position{70, 70, 9, 9}
	o.step(run.Event{On: run.OnDone, Token: o.token})
	o.step(run.Event{On: run.OnDone, Token: o.token, Where: &elsewhere})
	for what, c := range map[string]struct {
		o      *one
		leaves bool
	}{"found at its part": {o, true}, "parked": {held(), false}} {
		c.o.did = nil
		c.o.step(on(run.OnStop), on(run.OnOff)).until(run.Over)
		if leaves := slices.ContainsFunc(c.o.says(), func(s string) bool { return strings.HasPrefix(s, "G0 X") }); leaves != c.leaves {
			t.Errorf("%s: a stop says %q", what, c.o.says())
		}
	}
}

func TestTheJournalKnowsHowFarARunHasComeOnceASecond(t *testing.T) {
	o := drawing()
	o.did = nil
	for n := range 30 { // three seconds
		o.step(run.Event{On: run.OnSaid, Number: 6 + n}, run.Event{On: run.OnTaken, Number: 6 + n})
		o.m.Now -= 100 * time.Millisecond
		o.step(on(run.OnTime))
	}
	kept := 0
	for _, e := range o.did {
		if e.Do == run.DoKeep && e.Entry.Kind == run.Reached {
			kept++
		}
	}
	if kept < 3 || kept > 7 {
		t.Errorf("in some seconds it was told %d times", kept)
	}
}

func TestAParkedNozzleKeepsItsDistanceFromThePart(t *testing.T) {
	at := newOne().m.At
	for _, part := range []run.Part{
		{Min: [3]float64{20, 20, 0}, Max: [3]float64{210, 210, 9}},
		{Min: [3]float64{8, 8, 0}, Max: [3]float64{222, 222, 9}}, // no corner is far enough
		{Min: [3]float64{60, 0, 0}, Max: [3]float64{230, 219, 9}},
	} {
		for _, c := range parking.Hold(at, true, part) {
			var l gcode.Line
			if err := l.Parse([]byte(c)); err != nil || !l.Is('G', 0) {
				continue
			}
			x, _ := l.Value('X')
			y, _ := l.Value('Y')
			dx, dy := max(part.Min[0]-x, x-part.Max[0], 0), max(part.Min[1]-y, y-part.Max[1], 0)
			if math.Hypot(dx, dy) < 8 {
				t.Errorf("it waits at %g, %g beside a part from %v to %v", x, y, part.Min, part.Max)
			}
		}
	}
}

func TestAPickUpRestoresWhatAPersonHadTrimmed(t *testing.T) {
	var l run.Life
	for _, e := range []run.Entry{
		{Kind: run.Begins, Record: &run.Record{ID: "a"}}, {Kind: run.Counts, Number: 3},
		{Kind: run.Other, Number: 5, Text: "M220 S80"}, {Kind: run.Other, Number: 6, Text: "M221 S112"}, {Kind: run.Other, Number: 7, Text: "M104 S150"},
	} {
		l.Tell(e)
	}
	at := newOne().m.At.Clone()
	l.Ledger().Factors(&at)
	plan, err := parking.PickUp(4, 2, at, 4, part)
	if err != nil {
		t.Fatal(err)
	}
	for _, want := range []string{"M220 S80", "M221 S112", "M109 S205"} {
		if !slices.Contains(plan.Commands(), want) {
			t.Errorf("the plan has no %s: %q", want, plan.Commands())
		}
	}
}

func TestASetpointIsTheHighestThatALineCouldMean(t *testing.T) {
	for line, want := range map[string]float64{"M109 R190": 190, "M109 S180 R210": 210, "M109 S210 R180": 210, "M104 S200": 200, "M190 R60": 60, "M109": 0} {
		var l gcode.Line
		if err := l.Parse([]byte(line)); err != nil {
			t.Fatal(err)
		}
		if _, got, _ := run.Setpoint(&l, 0); got != want {
			t.Errorf("%s gives %g, want %g", line, got, want)
		}
	}
}

func TestWhatTheFileHeatedMeanwhileIsWhatCameAfter(t *testing.T) {
	l := run.Ledger{Number: 1, Others: map[int]string{4: "M104 S0"}}
	lead, err := l.Replay(run.Commands(strings.NewReader("M104 S150\nM140 S60\nG28\nM109 S205\n")), 5, 2)
	if err != nil || !maps.Equal(lead.Given, map[heat.Heater]float64{heat.NozzleOf(0): 205}) {
		t.Errorf("behind line 2 it heats %v, %v", lead.Given, err)
	}
}

func TestARunThatIsCutOffAtItsEndDrawsAgain(t *testing.T) {
	o := stages[run.Finishing]().step(on(run.OnCut), run.Event{On: run.OnKept, Number: 9})
	lead := run.Replayed{Point: o.m.At.Clone()}
	o.m.Reported = maps.Clone(warm)
	where := o.m.At.At
	o.step(run.Event{On: run.OnReplayed, Lead: &lead})
	o.step(run.Event{On: run.OnDone, Token: o.token})
	o.step(run.Event{On: run.OnDone, Token: o.token, Where: &where})
	if o.Stage() != run.Drawing {
		t.Errorf("it is %s", o.Stage())
	}
}
