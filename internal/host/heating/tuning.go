package heating

import (
	"context"
	"errors"
	"fmt"
	"time"

	"diathermon/internal/core/bounds"
	"diathermon/internal/core/heat"
	"diathermon/internal/core/run"
)

// TuningNow is how the tuning of a heater's PID stands.
type TuningNow struct {
	heat.Tuning
	Heater   heat.Heater
	Setpoint float64 // °C
	Begun    time.Time
	Ended    time.Time // zero while it goes on
	Applied  bool      // the firmware has the result
	Saved    bool      // and keeps it over a restart
}

func (t *TuningNow) goesOn() bool { return t != nil && t.Ended.IsZero() }

// ErrTuning means that there is no tuning for that.
var ErrTuning = errors.New("there is no tuning for that")

// Bounds of a tuning.
const (
	fewestCycles = 3
	mostCycles   = 20
)

// Tune lets the firmware tune a heater by itself. It answers at once; the tuning
// takes minutes, in which the printer does nothing else.
func (h *Heating) Tune(ctx context.Context, heater heat.Heater, setpoint float64, cycles int) error {
	var refused error
	err := h.loop.Ask(ctx, func() { refused = h.BeginTuning(heater, setpoint, cycles, func(error) {}) })
	return errors.Join(err, refused)
}

// BeginTuning is Tune for who belongs to the loop; over hears how it ended.
func (h *Heating) BeginTuning(heater heat.Heater, setpoint float64, cycles int, over func(error)) error {
	limit := h.cfg.Printer.Limits.Check(heater, setpoint)
	file, _ := h.run.Brief()
	switch {
	case h.thermals[heater] == nil:
		return fmt.Errorf("%w: this printer has no %s", ErrHeater, heater)
	case limit != nil || setpoint <= 0:
		return fmt.Errorf("%w: tune at the temperature that you print with: %v", bounds.ErrSetpoint, limit)
	case cycles < fewestCycles || cycles > mostCycles:
		return fmt.Errorf("%w: %d cycles were asked for; use %d to %d", ErrTuning, cycles, fewestCycles, mostCycles)
	case !h.line.Live():
		return fmt.Errorf("%w: %s", run.ErrLive, h.line.Reason())
	case file != "":
		return fmt.Errorf("%w: %s is not done yet", bounds.ErrBusy, file)
	case h.tuning.goesOn():
		return fmt.Errorf("%w: the %s is being tuned", bounds.ErrBusy, h.tuning.Heater)
	case len(h.Alarms()) > 0:
		return fmt.Errorf("%w: %s", run.ErrAlarm, h.Alarms()[0])
	default:
		h.EndWarmUp("a heater is tuned")
		t := &TuningNow{Heater: heater, Setpoint: setpoint, Begun: time.Now().UTC(), Tuning: heat.Tuning{Cycles: cycles}}
		h.tuning = t
		h.line.Say(heat.TuneCommand(heater, setpoint, cycles), func(_ []string, err error) {
			t.Ended = time.Now().UTC()
			if err != nil && t.Failed == "" {
				t.Failed = err.Error()
			} else if !t.Found && t.Failed == "" {
				t.Failed = "the firmware told no constants: can it tune by itself?"
			}
			h.heated = true
			if err == nil && t.Failed != "" {
				err = errors.New(t.Failed)
			}
			over(err)
		})
	}
	return nil
}

// Tuning returns how the last tuning stands; nil if there was none.
func (h *Heating) Tuning(ctx context.Context) (*TuningNow, error) {
	var now *TuningNow
	err := h.loop.Ask(ctx, func() {
		if h.tuning != nil {
			copied := *h.tuning
			now = &copied
		}
	})
	return now, err
}

// ApplyTuning gives the firmware the constants that the last tuning has found, and
// lets it keep them over a restart if save. It waits for the firmware's answer, for
// as long as SetHeat does; what has come of it Tuning tells.
func (h *Heating) ApplyTuning(ctx context.Context, save bool) error {
	ctx, cancel := context.WithTimeout(ctx, setpointWait)
	defer cancel()
	var refused error
	answered := make(chan error, 1)
	err := h.loop.Ask(ctx, func() { refused = h.KeepTuning(save, func(err error) { answered <- err }) })
	if err = errors.Join(err, refused); err != nil {
		return err
	}
	select {
	case err = <-answered:
		return err
	case <-ctx.Done():
		return nil
	}
}

// KeepTuning is ApplyTuning for who belongs to the loop.
func (h *Heating) KeepTuning(save bool, done func(error)) error {
	t := h.tuning
	file, _ := h.run.Brief()
	switch {
	case t == nil || t.Ended.IsZero() || !t.Found || t.Failed != "":
		return fmt.Errorf("%w: no tuning has come to its end", ErrTuning)
	case !h.line.Live():
		return fmt.Errorf("%w: %s", run.ErrLive, h.line.Reason())
	case file != "":
		return fmt.Errorf("%w: %s is not done yet", bounds.ErrBusy, file)
	default:
		h.line.Say(t.Result.Command(t.Heater), func(_ []string, err error) {
			if t.Applied = err == nil; err != nil || !save {
				done(err)
				return
			}
			h.line.Say(heat.SaveCommand, func(_ []string, err error) {
				t.Saved = err == nil
				done(err)
			})
		})
	}
	return nil
}
