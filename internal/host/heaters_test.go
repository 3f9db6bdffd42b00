package host_test

import (
	"errors"
	"io"
	"slices"
	"strings"
	"sync/atomic"
	"testing"
	"testing/synctest"
	"time"

	"diathermon/internal/core/heat"
	"diathermon/internal/core/run"
	"diathermon/internal/core/wire"
	"diathermon/internal/host"
	"diathermon/internal/samples"
	"diathermon/internal/simprinter"
)

func TestARunThatAnAlarmHeldIsWarmAgainBeforeItGoesOn(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		r := newRig(t, 12)
		r.until(time.Hour, drawing)
		r.board.Break(true, simprinter.HeaterFault{Kind: simprinter.Unplugged})
		b := r.until(time.Minute, func(b host.Bench) bool {
			return len(b.Alarms) > 0 && b.Run.State == run.Held && b.Heaters[0].Setpoint == 0 && b.Heaters[1].Setpoint == 0
		})
		if a := b.Alarms[0]; a.Guard != heat.Sensor || a.Action != heat.CoolOff || b.Heaters[1].State != heat.Alarmed {
			t.Errorf("the alarm is %+v, the bed %s", a, b.Heaters[1].State)
		}
		if _, err := r.Resume(t.Context(), ""); !errors.Is(err, host.ErrAlarm) {
			t.Errorf("resuming before it is acknowledged: %v", err)
		}
		if checks, err := r.Preflight(t.Context(), r.files.file); err != nil || !strings.Contains(checks[0].Title, "alarm") && !strings.Contains(checks[1].Title, "alarm") {
			t.Errorf("the preflight says %+v, %v", checks, err)
		}
		r.board.Break(true, simprinter.HeaterFault{})
		time.Sleep(5 * time.Minute)
		for {
			b := r.until(time.Second, func(host.Bench) bool { return true })
			if len(b.Alarms) == 0 {
				break
			}
			if _, err := r.Acknowledge(t.Context(), b.Alarms[0].ID, "a keeper"); err != nil {
				t.Fatal(err)
			}
		}
		if _, err := r.Resume(t.Context(), ""); err != nil {
			t.Fatal(err)
		}
		b = r.untilState(20*time.Minute, run.Running)
		if b.Heaters[0].Actual < 200 || b.Heaters[1].Actual < 56 {
			t.Errorf("it goes on with the nozzle at %.0f and the bed at %.0f °C", b.Heaters[0].Actual, b.Heaters[1].Actual)
		}
		r.untilState(time.Hour, run.Finished)
	})
}

func TestHeatersThatNobodyUsesAreTurnedOff(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		h, kept := work(t, folder{}, func() (io.ReadWriteCloser, error) { return newCable(simprinter.Vesper()), nil })
		until(t, h, 10*time.Second, isLive)
		if _, err := h.SetHeat(t.Context(), heat.Bed, 60); err != nil {
			t.Fatal(err)
		}
		time.Sleep(20 * time.Minute)
		if b := until(t, h, time.Second, func(host.Bench) bool { return true }); b.Heaters[1].Setpoint != 60 {
			t.Errorf("after twenty minutes the bed is at %g °C", b.Heaters[1].Setpoint)
		}
		b := until(t, h, 11*time.Minute, func(b host.Bench) bool { return b.Heaters[1].Setpoint == 0 })
		if len(b.Alarms) != 1 || b.Alarms[0].Guard != heat.Unused {
			t.Errorf("the alarms are %+v", b.Alarms)
		}
		kept.mu.Lock()
		defer kept.mu.Unlock()
		warned := false
		for _, m := range kept.messages {
			warned = warned || strings.Contains(m.Text, "nobody uses them")
		}
		if !warned || len(kept.episodes) == 0 {
			t.Errorf("a warning came: %v; %d episodes", warned, len(kept.episodes))
		}
	})
}

func TestWhatBreaksOnAHeaterInTheMiddleOfARun(t *testing.T) {
	board := func(do func(*simprinter.Board)) func(*rig) { return func(r *rig) { do(r.board) } }
	broken := func(bed bool, f simprinter.HeaterFault) func(*rig) {
		return board(func(b *simprinter.Board) { b.Break(bed, f) })
	}
	for name, c := range map[string]struct {
		part    samples.Part
		when    func(host.Bench) bool
		happens func(*rig)
		guards  []heat.GuardName
		within  time.Duration
		becomes run.State
		cool    bool
	}{
		"no current while it warms":   {samples.Coupon(12), func(b host.Bench) bool { return b.Heaters[1].Setpoint > 0 }, broken(true, simprinter.HeaterFault{Kind: simprinter.Dead}), []heat.GuardName{heat.NoRise}, 3 * time.Minute, run.Held, true},
		"no current while it holds":   {samples.Coupon(400), drawing, broken(false, simprinter.HeaterFault{Kind: simprinter.Dead}), []heat.GuardName{heat.Falling, heat.NoRise}, 3 * time.Minute, run.Held, false},
		"a sensor that slips":         {samples.Coupon(400), drawing, broken(false, simprinter.HeaterFault{Kind: simprinter.Loose, Amount: 0.5}), []heat.GuardName{heat.Jump, heat.Falling, heat.NoRise}, 2 * time.Minute, run.Held, false},
		"a shorted sensor":            {samples.Coupon(12), drawing, broken(false, simprinter.HeaterFault{Kind: simprinter.Shorted}), []heat.GuardName{heat.Sensor}, 10 * time.Second, run.Held, true},
		"a switch that is stuck":      {samples.Coupon(400), drawing, broken(false, simprinter.HeaterFault{Kind: simprinter.Stuck}), []heat.GuardName{heat.Runaway, heat.TooHot}, 2 * time.Minute, run.Stopped, true},
		"a board that says no more":   {samples.Coupon(400), drawing, board(func(b *simprinter.Board) { b.Stall(time.Minute) }), []heat.GuardName{heat.Silence}, 30 * time.Second, run.Running, false},
		"a nozzle that does not flow": {samples.Parts()[2], func(b host.Bench) bool { return drawing(b) && b.Flow.Enough }, board(func(b *simprinter.Board) { b.Block(true) }), []heat.GuardName{heat.NoFlow}, 3 * time.Minute, run.Held, false},
	} {
		t.Run(name, func(t *testing.T) {
			synctest.Test(t, func(t *testing.T) {
				r := newRigFor(t, c.part, func(h *host.Config) { h.FlowWatch = heat.FlowHold })
				r.until(time.Hour, c.when)
				c.happens(r)
				now := r.until(c.within, func(b host.Bench) bool { return len(b.Alarms) > 0 })
				if a := now.Alarms[0]; !slices.Contains(c.guards, a.Guard) || a.Action != heat.ActionOf(a.Guard) && a.Guard != heat.NoFlow || a.Text == "" {
					t.Errorf("the alarm is %+v, want one of %v", a, c.guards)
				}
				now = r.until(20*time.Second, func(b host.Bench) bool { return b.Run.State == c.becomes })
				if c.cool && now.Link.Live() {
					r.until(20*time.Second, func(b host.Bench) bool { return b.Heaters[0].Setpoint == 0 && b.Heaters[1].Setpoint == 0 })
				}
			})
		})
	}
}

func TestAClockThatIsSetInTheMiddleOfARun(t *testing.T) {
	for name, moved := range map[string]time.Duration{"forward by years": 3 * 365 * 24 * time.Hour, "back by an hour": -time.Hour, "back by days": -4 * 24 * time.Hour} {
		t.Run(name, func(t *testing.T) {
			synctest.Test(t, func(t *testing.T) {
				var ahead atomic.Int64
				r := newRigFor(t, samples.Coupon(40), func(h *host.Config) {
					h.Wall = func() time.Time { return time.Now().Round(0).Add(time.Duration(ahead.Load())) }
				})
				begun := time.Now()
				r.until(time.Hour, drawing)
				ahead.Store(int64(moved))
				done := r.untilState(time.Hour, run.Finished)
				took := time.Since(begun)
				if off := done.Run.Lasted - took; off.Abs() > 3*time.Second {
					t.Errorf("it lasted %s and is said to have lasted %s", took, done.Run.Lasted)
				}
				if got := done.Run.Ended.Sub(done.Run.Started); (got - took).Abs() > 3*time.Second {
					t.Errorf("it is kept as from %s to %s, which is %s", done.Run.Started, done.Run.Ended, got)
				}
				r.kept.mu.Lock()
				defer r.kept.mu.Unlock()
				last, beds := time.Time{}, 0
				for _, s := range r.kept.readings {
					if s.Heater != heat.Bed {
						continue
					}
					beds++
					if moved > -24*time.Hour && !last.IsZero() && !s.At.After(last) {
						t.Fatalf("a reading of %s follows one of %s", s.At, last)
					}
					last = s.At
				}
				if want := int(took.Seconds()); beds < want*9/10 {
					t.Errorf("%d readings, want about %d", beds, want)
				}
				if told := slices.ContainsFunc(r.kept.messages, func(m wire.Message) bool { return strings.Contains(m.Text, "clock was moved") }); told != (moved > 0 || moved < -24*time.Hour) {
					t.Errorf("that the clock was moved was told: %v", told)
				}
			})
		})
	}
}
