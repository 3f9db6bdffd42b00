package hindsight_test

import (
	"context"
	"errors"
	"log/slog"
	"strings"
	"testing"
	"testing/synctest"
	"time"

	"diathermon/internal/core/heat"
	"diathermon/internal/core/machine"
	"diathermon/internal/hindsight"
)

// log is a temperature log in memory: a bed that was held at 60 °C for some hours, and
// whose sensor was once unplugged.
type log struct {
	begun  time.Time
	hours  int
	asked  []time.Duration
	refuse error
}

func (l *log) Readings(_ context.Context, _ []heat.Heater, from, to time.Time, _ int) ([]heat.Sample, error) {
	l.asked = append(l.asked, to.Sub(from))
	var out []heat.Sample
	for s := range l.hours * 3600 {
		at := l.begun.Add(time.Duration(s) * time.Second)
		if at.Before(from) || !at.Before(to) {
			continue
		}
		r := heat.Reading{Heater: heat.Bed, Actual: 60 + 0.1*float64(s%3), Setpoint: 60, HasSetpoint: true, Duty: 0.3, HasDuty: true}
		if s >= 3600 && s < 3605 {
			r.Actual = -14
		}
		out = append(out, heat.Sample{At: at, Reading: r})
	}
	return out, l.refuse
}

// keeper takes what the guards have gained.
type keeper struct {
	gained map[heat.Heater]heat.Learned
}

func (k *keeper) Inexperienced(context.Context) (bool, error) { return k.gained == nil, nil }

func (k *keeper) Gain(_ context.Context, past map[heat.Heater]heat.Learned) error {
	k.gained = past
	return nil
}

func TestGuardsLearnFromTheLogAndSayWhatTheyWouldHaveSaid(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		l, k := &log{begun: time.Now().Add(-48 * time.Hour), hours: 14}, &keeper{}
		h := hindsight.New(machine.Printer{Tools: 1, Limits: heat.Limits{Nozzle: 285, Bed: 110}}, l, k, 1, slog.New(slog.DiscardHandler))
		ctx, cancel := context.WithCancel(t.Context())
		defer cancel()
		go h.Work(ctx)
		synctest.Wait()
		time.Sleep(time.Minute)
		e := k.gained[heat.Bed].Experience
		if s := e.Standings[heat.Falling]; s == nil || s.May(heat.Falling) != heat.HoldRun || s.Quiet < 13*3600 {
			t.Errorf("the bed's guard has gained %+v", s)
		}
		if s := e.Standings[heat.Sensor]; s == nil || s.Closest < 1 || s.Quiet > 13.1*3600 {
			t.Errorf("the sensor's guard has gained %+v of a log in which it was unplugged", s)
		}

		if !h.State().From.IsZero() {
			t.Error("what was not asked for is shown")
		}
		to := l.begun.Add(24 * time.Hour)
		synctest.Wait()
		l.asked = nil
		if err := h.Look(l.begun, to); err != nil {
			t.Fatal(err)
		}
		if err := h.Look(l.begun, to); !errors.Is(err, hindsight.ErrBusy) || !strings.Contains(err.Error(), "wait") {
			t.Errorf("a second look at once: %v", err)
		}
		time.Sleep(time.Minute)
		synctest.Wait()
		state := h.State()
		if !state.Ended || state.Failed != "" || len(state.Alarms) != 1 || state.Alarms[0].Guard != heat.Sensor || !state.At.Equal(to) || state.Alarms[0].At.Sub(l.begun).Round(time.Minute) != time.Hour {
			t.Errorf("they would have said %+v", state)
		}
		for _, span := range l.asked {
			if span > 6*time.Hour {
				t.Errorf("%s of the log were in memory at once", span)
			}
		}

		synctest.Wait()
		l.refuse = errors.New("the chunk of the bed cannot be read")
		if err := h.Look(l.begun, to); err != nil {
			t.Fatal(err)
		}
		time.Sleep(time.Minute)
		if state := h.State(); !state.Ended || !strings.Contains(state.Failed, "cannot be read") {
			t.Errorf("of a damaged log: %+v", state)
		}
	})
}
