package heating_test

import (
	"errors"
	"fmt"
	"slices"
	"strings"
	"testing"
	"testing/synctest"
	"time"

	"diathermon/internal/core/bounds"
	"diathermon/internal/core/heat"
	"diathermon/internal/core/machine"
	"diathermon/internal/core/run"
	"diathermon/internal/host/heating"
	"diathermon/internal/host/part"
	"diathermon/internal/host/parttest"
	"diathermon/internal/host/position"
)

// oven is the heaters' part with what it speaks with.
type oven struct {
	*heating.Heating
	line parttest.Line
	run  parttest.Run
	kept *parttest.Records
	ear  parttest.Ear
}

// with lets f look at the heaters' part in virtual time.
func with(t *testing.T, alarms []heat.Alarm, f func(t *testing.T, o *oven)) {
	synctest.Test(t, func(t *testing.T) {
		loop, kept := parttest.NewLoop(t)
		o := &oven{line: parttest.Line{Loop: loop}, kept: kept}
		where := position.New(loop)
		o.Heating = heating.New(heating.Config{
			Printer:  machine.Printer{Tools: 1, Limits: heat.Limits{Nozzle: 285, Bed: 110}, Filament: 1.75},
			Recorder: kept, Alarms: alarms, UnusedFor: 30 * time.Minute, FlowWatch: heat.FlowTell,
		}, loop, &o.line, where)
		o.Attend(&o.run)
		loop.Join(o.Heating, &o.ear)
		f(t, o)
	})
}

// told lets the printer report nozzle and bed, each with its setpoint.
func (o *oven) told(nozzle, setNozzle, bed, setBed float64) {
	o.Hear(parttest.Report(fmt.Sprintf(" T:%.2f /%.2f B:%.2f /%.2f @:0 B@:0", nozzle, setNozzle, bed, setBed)))
}

// during lets seconds pass in which the printer tells the same.
func (o *oven) during(seconds int, nozzle, setNozzle, bed, setBed float64) {
	for range seconds {
		o.told(nozzle, setNozzle, bed, setBed)
		for range 4 {
			o.Tick()
			time.Sleep(250 * time.Millisecond)
		}
	}
}

func (o *oven) cooled() (n int) {
	for _, e := range o.ear.Heard {
		if _, is := e.(part.Cooled); is {
			n++
		}
	}
	return n
}

func TestOnlyReadingsOfItsOwnHeatersAreKept(t *testing.T) {
	with(t, nil, func(t *testing.T, o *oven) {
		o.Hear(parttest.Report(" T:21.00 /0.00 B:20.00 /0.00 C:25.00 /0.00 T1:30.00 /0.00"))
		if len(o.kept.Samples) != 2 {
			t.Errorf("%v", o.kept.Samples)
		}
		o.line.Gone = true
		if o.told(21, 0, 20, 0); len(o.kept.Samples) != 2 {
			t.Error("what was on its way when the printer was halted was taken")
		}
	})
}

func TestASetpointIsGivenWithinItsBoundsAlone(t *testing.T) {
	with(t, []heat.Alarm{{ID: "a1", Heater: heat.NozzleOf(0), Text: "look"}}, func(t *testing.T, o *oven) {
		for _, c := range []struct {
			heater   heat.Heater
			setpoint float64
			want     error
		}{{heat.Bed, 60, nil}, {heat.Bed, 110.5, bounds.ErrSetpoint}, {heat.Bed, -1, bounds.ErrSetpoint}, {heat.Chamber, 40, heating.ErrHeater}, {heat.NozzleOf(1), 200, heating.ErrHeater}, {heat.NozzleOf(0), 200, run.ErrAlarm}, {heat.NozzleOf(0), 0, nil}} {
			o.line.Said = nil
			taken, err := o.Set(t.Context(), c.heater, c.setpoint)
			if !errors.Is(err, c.want) || taken != (c.want == nil) || len(o.line.Said) > 0 != taken {
				t.Errorf("%s to %g: %v, %v, said %q", c.heater, c.setpoint, taken, err, o.line.Said)
			}
		}
		if err := o.Tune(t.Context(), heat.Bed, 60, 5); !errors.Is(err, run.ErrAlarm) {
			t.Errorf("tuning while an alarm waits: %v", err)
		}
		if _, err := o.Acknowledge(t.Context(), "a2", "me", "", ""); !errors.Is(err, heating.ErrNoAlarm) {
			t.Errorf("another alarm: %v", err)
		}
		if a, err := o.Acknowledge(t.Context(), "a1", "me", heat.Fault, "it was loose"); err != nil || a.By != "me" {
			t.Errorf("%+v, %v", a, err)
		}
		if _, err := o.Set(t.Context(), heat.NozzleOf(0), 200); err != nil {
			t.Error(err)
		}
		for _, cycles := range []int{2, 21} {
			if err := o.Tune(t.Context(), heat.Bed, 60, cycles); !errors.Is(err, heating.ErrTuning) {
				t.Errorf("%d cycles: %v", cycles, err)
			}
		}
	})
}

func TestAPrinterThatIsToCoolIsUrgedUntilItDoes(t *testing.T) {
	with(t, nil, func(t *testing.T, o *oven) {
		o.told(200, 210, 60, 60)
		o.run = parttest.Run{File: "cap.gcode", State: run.Running}
		if err := o.Cool(t.Context()); !errors.Is(err, bounds.ErrBusy) || len(o.line.Said) > 0 {
			t.Errorf("while a run needs its heat: %v", err)
		}
		o.run.State = run.Held
		if err := o.Cool(t.Context()); err != nil || !slices.Equal(o.line.Said, []string{"M104 T0 S0", "M140 S0", "M107"}) && !slices.Equal(o.line.Said, []string{"M104 S0", "M140 S0", "M107"}) || o.cooled() != 1 || !slices.Equal(o.line.Urged, []string{"M108"}) {
			t.Errorf("%v, said %q, urged %q, told %d times", err, o.line.Said, o.line.Urged, o.cooled())
		}
		o.during(20, 210, 210, 60, 60)
		if n := len(o.line.Urged); n < 15 || o.line.Urged[0] != "M108" {
			t.Errorf("urged %d times in twenty seconds", n)
		}
		if !slices.ContainsFunc(o.kept.Messages, func(m string) bool { return strings.Contains(m, "still heats") }) {
			t.Error("nobody was told")
		}
		o.during(5, 200, 0, 60, 0)
		before := len(o.line.Urged)
		if o.during(20, 200, 0, 60, 0); len(o.line.Urged) != before {
			t.Error("it is urged although it obeyed")
		}
	})
}

func TestWhatCannotBeTurnedOffNowIsTurnedOffLater(t *testing.T) {
	with(t, nil, func(t *testing.T, o *oven) {
		o.told(200, 210, 60, 60)
		o.line.Off = true
		done := false
		if o.TurnOff(func() { done = true }); len(o.line.Said) > 0 || done {
			t.Errorf("said %q", o.line.Said)
		}
		o.line.Off = false
		if o.Hear(part.Answers{}); !slices.Contains(o.line.Said, "M140 S0") {
			t.Errorf("said %q", o.line.Said)
		}
		o.line.Said = nil
		if o.Hear(part.Answers{}); len(o.line.Said) > 0 {
			t.Error("it is turned off again and again")
		}
	})
}

func TestWhatEachGuardDoes(t *testing.T) {
	with(t, nil, func(t *testing.T, o *oven) {
		o.during(5, 25, 0, 25, 0)
		o.during(3, 25, 0, 131, 0)
		if o.line.Halted != 0 || o.cooled() == 0 || o.kept.Raised[0].Guard != heat.TooHot {
			t.Errorf("far above its limit: halted %d times, %+v", o.line.Halted, o.kept.Raised)
		}
		o.during(8, 25, 0, 133, 0)
		if o.during(3, 25, 0, 137, 0); o.line.Halted == 0 {
			t.Errorf("it rises on after it was turned off: %+v", o.kept.Raised)
		}
	})
	with(t, nil, func(t *testing.T, o *oven) {
		o.told(200, 210, 60, 60)
		o.during(3, -15, 210, 60, 60)
		if o.line.Halted != 0 || o.cooled() != 1 || !slices.Contains(o.line.Said, "M140 S0") {
			t.Errorf("a sensor whose wire is open: halted %d, cooled %d, said %q", o.line.Halted, o.cooled(), o.line.Said)
		}
	})
	with(t, nil, func(t *testing.T, o *oven) {
		o.told(200, 210, 60, 60)
		o.during(0, 0, 0, 0, 0)
		for range 4 * 120 {
			time.Sleep(250 * time.Millisecond)
			o.Tick()
		}
		if len(o.kept.Raised) == 0 || o.kept.Raised[0].Guard != heat.Silence || o.cooled() != 0 {
			t.Errorf("silence: %+v, cooled %d", o.kept.Raised, o.cooled())
		}
	})
}

func TestHeatersThatNobodyUsesAreTurnedOffAndOthersAreNot(t *testing.T) {
	for state, want := range map[parttest.Run]int{
		{}: 1, {File: "cap.gcode", State: run.Running}: 0, {File: "cap.gcode", State: run.Held}: 0,
		{File: "cap.gcode", State: run.Interrupted}: 1, {File: "cap.gcode", State: run.Interrupted, Keeps: true}: 0,
	} {
		with(t, nil, func(t *testing.T, o *oven) {
			o.run = state
			for range 40 {
				o.told(60, 0, 60, 60)
				o.Tick()
				time.Sleep(time.Minute)
			}
			if got := o.cooled(); got != want {
				t.Errorf("%+v: turned off %d times, want %d", state, got, want)
			}
		})
	}
}

func TestABedThatComesFirst(t *testing.T) {
	with(t, nil, func(t *testing.T, o *oven) {
		w := heat.WarmUp{Name: "caps", Setpoints: map[heat.Heater]float64{heat.Bed: 60, heat.NozzleOf(0): 210}, Order: heat.BedFirst}
		o.told(20, 0, 20, 0)
		if err := o.WarmUp(t.Context(), w); err != nil || !slices.Equal(o.line.Said, []string{"M140 S60"}) {
			t.Fatalf("%v, said %q", err, o.line.Said)
		}
		o.during(5, 20, 0, 40, 60)
		if len(o.line.Said) != 1 {
			t.Errorf("before the bed is warm: said %q", o.line.Said)
		}
		if o.during(2, 20, 0, 60, 60); len(o.line.Said) != 2 {
			t.Errorf("behind that: said %q", o.line.Said)
		}
		o.run = parttest.Run{File: "cap.gcode", State: run.Running}
		if err := o.WarmUp(t.Context(), w); !errors.Is(err, bounds.ErrBusy) {
			t.Errorf("while a run goes on: %v", err)
		}
	})
}

func TestASoakOfARunEndsHoweverItEnds(t *testing.T) {
	with(t, nil, func(t *testing.T, o *oven) {
		over := 0
		o.told(20, 0, 20, 0)
		o.SoakBed("cap.gcode", 60, time.Minute, func() { over++ })
		o.during(30, 20, 0, 60, 60)
		if over != 0 {
			t.Error("it ended early")
		}
		if o.during(60, 20, 0, 60, 60); over != 1 {
			t.Errorf("after its minute it had ended %d times", over)
		}
		o.SoakBed("cap.gcode", 60, time.Hour, func() { over++ })
		if o.EndWarmUp("an alarm"); over != 2 {
			t.Errorf("ended by an alarm, it had ended %d times", over)
		}
		if o.SoakBed("cap.gcode", 400, time.Hour, func() { over++ }); over != 3 || !slices.ContainsFunc(o.kept.Messages, func(m string) bool { return strings.Contains(m, "without a soak") }) {
			t.Errorf("one that cannot be: %d, %q", over, o.kept.Messages)
		}
	})
}

func TestWhatIsOnlyToldKeepsNobodyFromHeating(t *testing.T) {
	told := []heat.Alarm{{ID: "a1", Heater: heat.Bed, Guard: heat.Falling, Action: heat.Tell, Text: "it fell"}}
	with(t, told, func(t *testing.T, o *oven) {
		if now := o.Now(); len(o.Alarms()) != 0 || len(now.Alarms) != 1 || now.Heaters[1].State == heat.Alarmed {
			t.Errorf("it keeps %q, and is shown as %+v", o.Alarms(), now.Alarms)
		}
	})
	told[0].Action = heat.HoldRun
	with(t, told, func(t *testing.T, o *oven) {
		if len(o.Alarms()) != 1 || o.Now().Heaters[1].State != heat.Alarmed {
			t.Errorf("an alarm that held a run keeps %q", o.Alarms())
		}
	})
}

func TestGuardsAreShownBoundedAndGainExperience(t *testing.T) {
	with(t, nil, func(t *testing.T, o *oven) {
		o.during(30, 21, 0, 21, 0)
		if lacks, err := o.Inexperienced(t.Context()); err != nil || !lacks {
			t.Errorf("before they have looked at the log: %v, %v", lacks, err)
		}
		if o.KeepLearned(); o.kept.Known[heat.Bed].Experience.Version == heat.Version {
			t.Error("a host that ends before they have is taken for one whose guards have")
		}
		past := map[heat.Heater]heat.Learned{heat.Bed: {Learner: heat.Learner{Climbs: []heat.Climb{{Start: 20, Setpoint: 60, Took: 100}}}, Experience: heat.Experience{Version: heat.Version, Standings: map[heat.GuardName]*heat.Standing{heat.Runaway: {Quiet: 15 * 3600, Closest: 0.4}}}}}
		if err := o.Gain(t.Context(), past); err != nil {
			t.Fatal(err)
		}
		if lacks, err := o.Inexperienced(t.Context()); err != nil || lacks {
			t.Errorf("after that, also the nozzle's of which there is nothing: %v, %v", lacks, err)
		}
		find := func(h heat.Heater, name heat.GuardName) heating.GuardNow {
			guards, err := o.Guards(t.Context())
			if err != nil {
				t.Fatal(err)
			}
			for _, g := range guards {
				if g.Heater == h && g.Guard == name {
					return g
				}
			}
			t.Fatalf("there is no %s of the %s", name, h)
			return heating.GuardNow{}
		}
		if g := find(heat.Bed, heat.Runaway); g.May != heat.HoldRun || g.Does != heat.HaltAll || g.Next != heat.CoolOff || g.Left < 4*time.Hour || g.Standing.Closest != 0.4 || g.Blind == "" {
			t.Errorf("with fifteen hours of its log: %+v", g)
		}
		if g, err := o.Bound(t.Context(), heat.Bed, heat.Runaway, heat.Tell); err != nil || g.May != heat.Tell || find(heat.Bed, heat.Runaway).May != heat.Tell {
			t.Errorf("bounded: %+v, %v", g, err)
		}
		for _, c := range []struct {
			h    heat.Heater
			g    heat.GuardName
			most heat.Action
			says string
		}{{heat.Bed, heat.TooHot, heat.Tell, "cannot be anything else"}, {heat.Chamber, heat.Jump, heat.Tell, "no jump of the chamber"}, {heat.Bed, "smell", heat.Tell, "no smell of the bed"}, {heat.Bed, heat.Jump, "explode", "use tell, hold, cool or halt"}} {
			if _, err := o.Bound(t.Context(), c.h, c.g, c.most); !errors.Is(err, heating.ErrGuard) || !strings.Contains(err.Error(), c.says) {
				t.Errorf("%s of the %s to %q: %v", c.g, c.h, c.most, err)
			}
		}
		if kept := o.kept.Known[heat.Bed]; kept.Experience.Standings[heat.Runaway].Fixed != heat.Tell || len(kept.Climbs) != 1 {
			t.Errorf("kept: %+v", kept.Experience)
		}
		other := o.kept.Known[heat.Bed].Experience
		other.Version--
		if kept := other.Kept(); kept.Standings[heat.Runaway].Fixed != heat.Tell || kept.Standings[heat.Runaway].Quiet != 0 || len(kept.Standings) != 1 {
			t.Errorf("of other guards a keeper's word counts, and nothing else: %+v", kept)
		}
	})
}
