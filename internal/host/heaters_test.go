package host_test

import (
	"context"
	"errors"
	"fmt"
	"io"
	"math"
	"slices"
	"strings"
	"sync/atomic"
	"testing"
	"testing/synctest"
	"time"

	"diathermon/internal/core/heat"
	"diathermon/internal/core/preflight"
	"diathermon/internal/core/run"
	"diathermon/internal/core/wire"
	"diathermon/internal/host"
	"diathermon/internal/host/printing"
	"diathermon/internal/samples"
	"diathermon/internal/simprinter"
)

func TestARunThatAnAlarmHeldIsWarmAgainBeforeItGoesOn(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		r := newRig(t, 12)
		r.until(time.Hour, drawing)
		r.board.breaks(true, simprinter.HeaterFault{Kind: simprinter.Unplugged})
		b := r.until(time.Minute, func(b host.Bench) bool {
			return len(b.Heat.Alarms) > 0 && b.Run.State == run.Held && b.Heat.Heaters[0].Setpoint == 0 && b.Heat.Heaters[1].Setpoint == 0
		})
		if a := b.Heat.Alarms[0]; a.Guard != heat.Sensor || a.Action != heat.CoolOff || b.Heat.Heaters[1].State != heat.Alarmed {
			t.Errorf("the alarm is %+v, the bed %s", a, b.Heat.Heaters[1].State)
		}
		if _, err := r.Run.Resume(t.Context(), ""); !errors.Is(err, run.ErrAlarm) {
			t.Errorf("resuming before it is acknowledged: %v", err)
		}
		if report, err := r.Run.Preflight(t.Context(), r.files.file, nil); err != nil || !slices.ContainsFunc(report.Checks, func(c preflight.Check) bool { return c.Kind == preflight.Alarm }) {
			t.Errorf("the preflight says %+v, %v", report, err)
		}
		r.board.breaks(true, simprinter.HeaterFault{})
		time.Sleep(5 * time.Minute)
		for {
			b := r.until(time.Second, func(host.Bench) bool { return true })
			if len(b.Heat.Alarms) == 0 {
				break
			}
			if _, err := r.Heat.Acknowledge(t.Context(), b.Heat.Alarms[0].ID, "a keeper", "", ""); err != nil {
				t.Fatal(err)
			}
		}
		if _, err := r.Run.Resume(t.Context(), ""); err != nil {
			t.Fatal(err)
		}
		b = r.untilState(20*time.Minute, run.Running)
		if b.Heat.Heaters[0].Actual < 200 || b.Heat.Heaters[1].Actual < 56 {
			t.Errorf("it goes on with the nozzle at %.0f and the bed at %.0f °C", b.Heat.Heaters[0].Actual, b.Heat.Heaters[1].Actual)
		}
		r.untilState(time.Hour, run.Finished)
	})
}

func TestHeatersThatNobodyUsesAreTurnedOff(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		h, kept := work(t, folder{}, func() (io.ReadWriteCloser, error) { return newCable(simprinter.Vesper()), nil })
		until(t, h, 10*time.Second, isLive)
		if _, err := h.Heat.Set(t.Context(), heat.Bed, 60); err != nil {
			t.Fatal(err)
		}
		time.Sleep(20 * time.Minute)
		if b := until(t, h, time.Second, func(host.Bench) bool { return true }); b.Heat.Heaters[1].Setpoint != 60 {
			t.Errorf("after twenty minutes the bed is at %g °C", b.Heat.Heaters[1].Setpoint)
		}
		b := until(t, h, 11*time.Minute, func(b host.Bench) bool { return b.Heat.Heaters[1].Setpoint == 0 })
		if len(b.Heat.Alarms) != 1 || b.Heat.Alarms[0].Guard != heat.Unused {
			t.Errorf("the alarms are %+v", b.Heat.Alarms)
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
	board := func(do func(*simprinter.Board)) func(*rig) { return func(r *rig) { r.board.do(do) } }
	broken := func(bed bool, f simprinter.HeaterFault) func(*rig) {
		return board(func(b *simprinter.Board) { b.Break(bed, f) })
	}
	for name, c := range map[string]struct {
		part    samples.Part
		when    func(host.Bench) bool
		happens func(*rig)
		guards  []heat.GuardName
		within  time.Duration
		becomes run.State // of a printer whose guards have earned what they may do
		cool    bool
		trial   run.State // and of one that nobody knows, at first
	}{
		"no current while it warms":   {samples.Coupon(12), func(b host.Bench) bool { return b.Heat.Heaters[1].Setpoint > 0 }, broken(true, simprinter.HeaterFault{Kind: simprinter.Dead}), []heat.GuardName{heat.NoRise}, 4 * time.Minute, run.Held, true, run.Held},
		"no current while it holds":   {samples.Coupon(400), drawing, broken(false, simprinter.HeaterFault{Kind: simprinter.Dead}), []heat.GuardName{heat.Falling, heat.NoRise}, 3 * time.Minute, run.Held, false, run.Running},
		"a sensor that slips":         {samples.Coupon(400), drawing, broken(false, simprinter.HeaterFault{Kind: simprinter.Loose, Amount: 0.5}), []heat.GuardName{heat.Jump, heat.Falling, heat.NoRise}, 2 * time.Minute, run.Held, false, run.Held},
		"a shorted sensor":            {samples.Coupon(12), drawing, broken(false, simprinter.HeaterFault{Kind: simprinter.Shorted}), []heat.GuardName{heat.Sensor}, 10 * time.Second, run.Held, true, run.Held},
		"a switch that is stuck":      {samples.Coupon(400), drawing, broken(false, simprinter.HeaterFault{Kind: simprinter.Stuck}), []heat.GuardName{heat.Runaway, heat.TooHot}, 2 * time.Minute, run.Held, true, run.Running},
		"a sensor that slips slowly":  {samples.Coupon(400), func(b host.Bench) bool { return drawing(b) && b.Run.Lasted > 10*time.Minute }, broken(false, simprinter.HeaterFault{Kind: simprinter.Loose, Amount: 0.6, Over: 15 * time.Minute}), []heat.GuardName{heat.Growing}, 15 * time.Minute, run.Held, true, run.Running},
		"a board that says no more":   {samples.Coupon(400), drawing, board(func(b *simprinter.Board) { b.Stall(time.Minute) }), []heat.GuardName{heat.Silence}, 30 * time.Second, run.Running, false, run.Running},
		"a nozzle that does not flow": {samples.Parts()[2], func(b host.Bench) bool { return drawing(b) && b.Heat.Flow.Enough }, board(func(b *simprinter.Board) { b.Block(true) }), []heat.GuardName{heat.NoFlow}, heat.FlowWithin + 30*time.Second, run.Held, false, run.Held},
	} {
		for _, trial := range []bool{false, true} {
			t.Run(fmt.Sprintf("%s, on trial %v", name, trial), func(t *testing.T) {
				synctest.Test(t, func(t *testing.T) {
					printer := simprinter.Vesper()
					printer.Dialect.Telling = true // so that the head keeps the file's pace, and the nozzle the file's flow
					becomes := c.trial
					r := newRigOn(t, printer, c.part, func(h *host.Config) {
						if h.FlowWatch, h.Learned = heat.FlowHold, printed(printer, !trial); !trial {
							becomes = c.becomes
						}
					})
					r.until(time.Hour, c.when)
					c.happens(r)
					now := r.until(c.within, func(b host.Bench) bool { // what is not sure is told first
						return slices.ContainsFunc(b.Heat.Alarms, func(a heat.Alarm) bool {
							return trial || a.Guard == heat.NoFlow || a.Action == heat.ActionOf(a.Guard)
						})
					})
					for _, a := range now.Heat.Alarms {
						if !slices.Contains(c.guards, a.Guard) || a.Text == "" {
							t.Errorf("an alarm is %+v, want one of %v", a, c.guards)
						}
					}
					now = r.until(20*time.Second, func(b host.Bench) bool { return b.Run.State == becomes })
					if !trial && c.cool && now.Link.Live() {
						r.until(20*time.Second, func(b host.Bench) bool { return b.Heat.Heaters[0].Setpoint == 0 && b.Heat.Heaters[1].Setpoint == 0 })
					}
				})
			})
		}
	}
}

// printed is what is known of the heaters of a printer that has printed before, and
// whose guards, if they have earned it, have nothing left to earn.
func printed(printer simprinter.Config, earned bool) map[heat.Heater]*heat.Learned {
	out := map[heat.Heater]*heat.Learned{}
	for _, h := range []heat.Heater{heat.Nozzle, heat.Bed} {
		e := heat.Experience{Version: heat.Version, Standings: map[heat.GuardName]*heat.Standing{}}
		for _, g := range heat.Judged() {
			if earned {
				e.Standings[g] = &heat.Standing{Quiet: 1e6}
			}
		}
		out[h] = &heat.Learned{Experience: e}
	}
	plant, needs, duty := simprinter.NewPlant(printer), heat.NeedWatch{}, 0.0
	plant.Set(220, 60)
	for s := range 7200 {
		plant.Fan, plant.Flow = float64(s/300%4)/3, float64(s/70%5)*2
		for _, line := range plant.Hear() {
			for _, r := range heat.ParseReport(line) {
				if r.Heater == heat.Bed {
					duty = r.Duty
					continue
				}
				needs.Note(time.Duration(s)*time.Second, r, heat.Conditions{Fan: plant.Fan, Flow: plant.Flow, Beside: duty})
			}
		}
	}
	out[heat.Nozzle].Experience.Need = needs.Kept()
	return out
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

// mend lets what broke be whole again and acknowledges every alarm.
func (r *rig) mend() {
	r.t.Helper()
	r.board.breaks(true, simprinter.HeaterFault{})
	r.until(time.Minute, func(b host.Bench) bool { return b.Heat.Heaters[1].Actual > 0 && b.Heat.Heaters[1].Actual < 120 })
	for {
		b := r.until(time.Second, func(host.Bench) bool { return true })
		if len(b.Heat.Alarms) == 0 {
			return
		}
		if _, err := r.Heat.Acknowledge(r.t.Context(), b.Heat.Alarms[0].ID, "a keeper", "", ""); err != nil {
			r.t.Fatal(err)
		}
	}
}

// TestNoRunGoesOnColdAfterItsHeatersWereTurnedOff lets heaters be turned off at
// every stage of a run, by an alarm or a person, and the run be resumed at once or
// when everything is quiet.
func TestNoRunGoesOnColdAfterItsHeatersWereTurnedOff(t *testing.T) {
	alarm := func(r *rig) {
		r.board.breaks(true, simprinter.HeaterFault{Kind: simprinter.Shorted})
		r.until(time.Minute, func(b host.Bench) bool { return len(b.Heat.Alarms) > 0 && b.Run.State == run.Held })
		if _, err := r.Run.Resume(r.t.Context(), ""); !errors.Is(err, run.ErrAlarm) {
			r.t.Errorf("resuming before it is acknowledged: %v", err)
		}
		r.mend()
	}
	hold := func(r *rig) {
		if _, err := r.Run.Hold(r.t.Context(), ""); err != nil {
			r.t.Fatal(err)
		}
	}
	cool := func(r *rig) {
		if err := r.Heat.Cool(r.t.Context()); err != nil {
			r.t.Fatal(err)
		}
	}
	resume := func(r *rig) {
		if _, err := r.Run.Resume(r.t.Context(), ""); err != nil {
			r.t.Fatal(err)
		}
	}
	heating := func(b host.Bench) bool { return b.Heat.Heaters[1].Setpoint > 0 && b.Heat.Heaters[1].Actual > 30 }
	nozzle := func(b host.Bench) bool { return b.Heat.Heaters[0].Actual > 160 && b.Run.State == run.Warming }
	for name, do := range map[string]func(*rig){
		"while the bed warms up":    func(r *rig) { r.until(time.Hour, heating); alarm(r) },
		"while the nozzle warms up": func(r *rig) { r.until(time.Hour, nozzle); alarm(r) },
		"while it draws":            func(r *rig) { r.until(time.Hour, drawing); alarm(r) },
		"on its way off the part":   func(r *rig) { r.until(time.Hour, drawing); hold(r); alarm(r) },
		"while it is parked": func(r *rig) {
			r.until(time.Hour, drawing)
			hold(r)
			time.Sleep(time.Minute)
			alarm(r)
		},
		"while it comes back": func(r *rig) {
			r.until(time.Hour, drawing)
			hold(r)
			time.Sleep(15 * time.Minute) // the nozzle is let go cold
			resume(r)
			time.Sleep(20 * time.Second)
			alarm(r)
		},
		"by hand, on its way off the part": func(r *rig) { r.until(time.Hour, drawing); hold(r); cool(r) },
		"by hand, and nobody waits for that": func(r *rig) {
			r.until(time.Hour, drawing)
			hold(r)
			ctx, cancel := context.WithTimeout(r.t.Context(), time.Millisecond)
			defer cancel()
			if err := r.Heat.Cool(ctx); err != nil {
				r.t.Fatal(err)
			}
		},
		"by hand, parked": func(r *rig) {
			r.until(time.Hour, drawing)
			hold(r)
			time.Sleep(time.Minute)
			cool(r)
		},
		"by hand, while it comes back": func(r *rig) {
			r.until(time.Hour, drawing)
			hold(r)
			time.Sleep(15 * time.Minute)
			resume(r)
			time.Sleep(20 * time.Second)
			cool(r)
		},
		"while it is picked up": func(r *rig) {
			laying := r.until(time.Hour, drawing)
			r.board.reset()
			r.until(time.Minute, func(b host.Bench) bool { return b.Run.State == run.Interrupted && b.Run.Forgotten && isLive(b) })
			time.Sleep(5 * time.Minute)
			if _, err := r.Run.PickUp(r.t.Context(), laying.Run.ID, printing.Choice{Height: math.NaN()}); err != nil {
				r.t.Fatal(err)
			}
			time.Sleep(20 * time.Second)
			alarm(r)
		},
	} {
		for dialect, wait := range map[string]time.Duration{"plain": 0, "early": 20 * time.Minute} {
			t.Run(fmt.Sprintf("%s, after %s, %s", name, wait, dialect), func(t *testing.T) {
				synctest.Test(t, func(t *testing.T) {
					printer, err := simprinter.Vesper(), error(nil)
					if printer.Dialect, err = simprinter.ParseDialect(dialect); err != nil {
						t.Fatal(err)
					}
					r := newRigOn(t, printer, samples.Coupon(12))
					do(r)
					time.Sleep(wait)
					resume(r)
					laid := r.board.segments()
					for {
						b := r.until(time.Second, func(host.Bench) bool { return true })
						if n := r.board.segments(); n > laid {
							if hot, bed := r.board.temperatures(); hot < 195 || bed < 50 {
								t.Fatalf("it draws with the nozzle at %.0f and the bed at %.0f °C", hot, bed)
							}
							laid = n
						}
						if b.Run.State == run.Finished {
							break
						}
						if time.Since(r.begun) > 3*time.Hour {
							t.Fatalf("it is %s: %s", b.Run.State, b.Run.Reason)
						}
						time.Sleep(time.Second)
					}
				})
			})
		}
	}
}

func TestARunWhoseSoakAnAlarmEndedGoesOnWhenItIsResumed(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		r := newRig(t, 3)
		if _, err := r.Run.Stop(t.Context(), ""); err != nil {
			t.Fatal(err)
		}
		r.untilState(10*time.Minute, run.Stopped)
		if _, err := r.Run.Start(t.Context(), printing.Order{File: "coupon.gcode", Soak: &heat.Soak{For: 10 * time.Minute}}); err != nil {
			t.Fatal(err)
		}
		time.Sleep(time.Minute)
		r.board.breaks(true, simprinter.HeaterFault{Kind: simprinter.Shorted})
		r.untilState(time.Minute, run.Held)
		time.Sleep(10 * time.Second)
		r.mend()
		if _, err := r.Run.Resume(t.Context(), ""); err != nil {
			t.Fatal(err)
		}
		if b := r.untilState(time.Hour, run.Running); b.Heat.Heaters[1].Actual < 55 {
			t.Errorf("it draws on a bed of %.0f °C", b.Heat.Heaters[1].Actual)
		}
		r.untilState(time.Hour, run.Finished)
	})
}

func TestARunThatWasInterruptedOnItsWayBackStaysSoWhenEverythingIsCooled(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		r := newRig(t, 12)
		r.until(time.Hour, drawing)
		if _, err := r.Run.Hold(t.Context(), ""); err != nil {
			t.Fatal(err)
		}
		time.Sleep(15 * time.Minute)
		if _, err := r.Run.Resume(t.Context(), ""); err != nil {
			t.Fatal(err)
		}
		time.Sleep(20 * time.Second)
		r.board.reset()
		forgotten := func(b host.Bench) bool { return b.Run.State == run.Interrupted && b.Run.Forgotten && isLive(b) }
		r.until(time.Minute, forgotten)
		if err := r.Heat.Cool(t.Context()); err != nil {
			t.Fatal(err)
		}
		if b := r.until(time.Second, func(host.Bench) bool { return true }); !forgotten(b) {
			t.Errorf("it is %s: %s", b.Run.State, b.Run.Reason)
		}
	})
}

func TestASoakWaitsThoughAReportOfOldComesAfterTheSetpointWasGiven(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		h, _ := work(t, folder{}, func() (io.ReadWriteCloser, error) { return newCable(simprinter.Vesper()), nil })
		until(t, h, 10*time.Second, isLive)
		w := heat.WarmUp{Name: "caps", Setpoints: map[heat.Heater]float64{heat.Bed: 30}, Order: heat.AtOnce, Soak: true, SoakFor: 3 * time.Minute}
		for range 20 {
			asked := make(chan error, 1)
			go func() {
				_, err := h.Hand.Say(t.Context(), "M105") // its answer still tells what was
				asked <- err
			}()
			synctest.Wait()
			if err := errors.Join(h.Heat.WarmUp(t.Context(), w), <-asked); err != nil {
				t.Fatal(err)
			}
			b := until(t, h, 20*time.Minute, func(b host.Bench) bool { return b.Heat.WarmUp.Done })
			if s := b.Heat.Heaters[1].Soaking; s == nil || !s.Done || s.Elapsed < w.SoakFor {
				t.Fatalf("done after %s with the bed soaked as %+v", time.Since(b.Heat.WarmUp.Begun), s)
			}
			if err := h.Heat.Cool(t.Context()); err != nil {
				t.Fatal(err)
			}
			until(t, h, time.Minute, func(b host.Bench) bool { return b.Heat.Heaters[1].Setpoint == 0 })
		}
	})
}
