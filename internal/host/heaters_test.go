package host_test

import (
	"errors"
	"io"
	"strings"
	"testing"
	"testing/synctest"
	"time"

	"diathermon/internal/core/heat"
	"diathermon/internal/core/run"
	"diathermon/internal/host"
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
