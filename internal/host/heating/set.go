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

// ErrHeater means that the printer has no such heater.
var ErrHeater = errors.New("there is no such heater")

// setpointWait is how long Set waits for the printer to take a setpoint.
const setpointWait = 5 * time.Second

// Set gives a heater its setpoint in °C; 0 turns it off. It reports whether
// the printer has taken it; a printer that waits for heat takes it later.
func (h *Heating) Set(ctx context.Context, heater heat.Heater, setpoint float64) (taken bool, err error) {
	ctx, cancel := context.WithTimeout(ctx, setpointWait)
	defer cancel()
	said, err := h.line.Order(ctx, heat.SetCommand(heater, setpoint), func() error { return h.giving(heater, setpoint, "a setpoint was given") })
	return said.Taken, err
}

// Give gives a heater its setpoint in °C and calls done when the printer has taken it. It
// belongs to the loop.
func (h *Heating) Give(heater heat.Heater, setpoint float64, why string, done func(error)) error {
	if err := h.giving(heater, setpoint, why); err != nil {
		return err
	}
	h.line.Say(heat.SetCommand(heater, setpoint), func(_ []string, err error) { done(err) })
	return nil
}

// giving says why a heater may not get a setpoint, or nil: then it is about to.
func (h *Heating) giving(heater heat.Heater, setpoint float64, why string) error {
	if !h.cfg.Printer.Has(heater) {
		return fmt.Errorf("%w: this printer has no %s", ErrHeater, heater)
	}
	if err := h.cfg.Printer.Limits.Check(heater, setpoint); err != nil {
		return fmt.Errorf("%w: %v", bounds.ErrSetpoint, err)
	}
	if setpoint > 0 && h.alarmed(heater) {
		return fmt.Errorf("%w: look at the %s first", run.ErrAlarm, heater)
	}
	if setpoint > 0 {
		h.Heats()
	}
	h.EndWarmUp(why)
	h.used()
	return nil
}
