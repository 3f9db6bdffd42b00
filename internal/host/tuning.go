package host

import (
	"context"
	"errors"
	"fmt"
	"time"

	"diathermon/internal/core/heat"
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

// ErrTuning means that there is no tuning for that.
var ErrTuning = errors.New("there is no tuning for that")

// Bounds of a tuning.
const (
	fewestCycles = 3
	mostCycles   = 20
)

// Tune lets the firmware tune a heater by itself. It answers at once; the tuning
// takes minutes, in which the printer does nothing else.
func (h *Host) Tune(ctx context.Context, heater heat.Heater, setpoint float64, cycles int) error {
	var refused error
	err := h.ask(ctx, func() {
		limit := h.cfg.Printer.Limits.Check(heater, setpoint)
		switch {
		case h.thermals[heater] == nil:
			refused = fmt.Errorf("%w: this printer has no %s", ErrHeater, heater)
		case limit != nil || setpoint <= 0:
			refused = fmt.Errorf("%w: tune at the temperature that you print with: %v", ErrSetpoint, limit)
		case cycles < fewestCycles || cycles > mostCycles:
			refused = fmt.Errorf("%w: %d cycles were asked for; use %d to %d", ErrTuning, cycles, fewestCycles, mostCycles)
		case !h.link.Live():
			refused = fmt.Errorf("%w: %s", ErrNotLive, h.link.Reason)
		case h.job != nil:
			refused = fmt.Errorf("%w: %s is not done yet", ErrBusy, h.job.file.Name)
		case h.tuning != nil && h.tuning.Ended.IsZero():
			refused = fmt.Errorf("%w: the %s is being tuned", ErrBusy, h.tuning.Heater)
		case len(h.alarms) > 0:
			refused = fmt.Errorf("%w: %s", ErrAlarm, h.alarms[0].Text)
		default:
			h.endWarmUp("a heater is tuned")
			t := &TuningNow{Heater: heater, Setpoint: setpoint, Begun: time.Now().UTC(), Tuning: heat.Tuning{Cycles: cycles}}
			h.tuning = t
			h.send(heat.TuneCommand(heater, setpoint, cycles), func(_ []string, err error) {
				t.Ended = time.Now().UTC()
				if err != nil && t.Failed == "" {
					t.Failed = err.Error()
				} else if !t.Found && t.Failed == "" {
					t.Failed = "the firmware told no constants: can it tune by itself?"
				}
				h.heated = true
			})
		}
	})
	return errors.Join(err, refused)
}

// Tuning returns how the last tuning stands; nil if there was none.
func (h *Host) Tuning(ctx context.Context) (*TuningNow, error) {
	var now *TuningNow
	err := h.ask(ctx, func() {
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
func (h *Host) ApplyTuning(ctx context.Context, save bool) error {
	ctx, cancel := context.WithTimeout(ctx, setpointWait)
	defer cancel()
	var refused error
	answers, answered := 1, make(chan error, 2)
	err := h.ask(ctx, func() {
		t := h.tuning
		switch {
		case t == nil || t.Ended.IsZero() || !t.Found || t.Failed != "":
			refused = fmt.Errorf("%w: no tuning has come to its end", ErrTuning)
		case !h.link.Live():
			refused = fmt.Errorf("%w: %s", ErrNotLive, h.link.Reason)
		case h.job != nil:
			refused = fmt.Errorf("%w: %s is not done yet", ErrBusy, h.job.file.Name)
		default:
			h.send(t.Result.Command(t.Heater), func(_ []string, err error) {
				t.Applied = err == nil
				answered <- err
			})
			if save {
				answers++
				h.send(heat.SaveCommand, func(_ []string, err error) {
					t.Saved = err == nil
					answered <- err
				})
			}
		}
	})
	err = errors.Join(err, refused)
	for ; err == nil && answers > 0; answers-- {
		select {
		case err = <-answered:
		case <-ctx.Done():
			return nil
		}
	}
	return err
}
