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
	said, err := h.line.Order(ctx, heat.SetCommand(heater, setpoint), func() error {
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
		h.EndWarmUp("a setpoint was given")
		h.used()
		return nil
	})
	return said.Taken, err
}
