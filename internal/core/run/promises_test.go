package run_test

import (
	"errors"
	"maps"
	"slices"
	"strings"
	"testing"

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
			e = run.Event{On: run.OnPickUp, Plan: run.Plan{Steps: []run.Step{{Commands: []string{"G28 X"}}}}}
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
		o.step(run.Event{On: run.OnReplayed, Lead: lead})
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
	} {
		o := found(c.change)
		if o.Stage() != c.stage || !strings.Contains(o.Record().Reason, c.reason) {
			t.Errorf("%s: it is %s: %s", what, o.Stage(), o.Record().Reason)
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
		o := c.o.step(on(run.OnCut), run.Event{On: run.OnKept, Number: 5}, run.Event{On: run.OnReplayed, Lead: lead})
		if c.then == run.Parked {
			o.until(run.Parked)
		}
		if o.step(on(run.OnTime)); o.Stage() != c.then {
			t.Errorf("%s: it is %s", what, o.Stage())
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
	if bed, nozzle := heated(o.back(t)); bed != "M190 S65" || nozzle != "M109 S205" {
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
			again, err := run.ParseEntry(string(e.Line()))
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
