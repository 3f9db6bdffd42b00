package host

import (
	"context"
	"errors"
	"fmt"
	"time"

	"diathermon/internal/core/wire"
)

// Holds keeps what printers can hold, by what their firmware says of itself. Neither
// method may wait.
type Holds interface {
	Holds(printer string) (wire.Holds, bool)
	KeepHolds(printer string, h wire.Holds)
}

// HoldsNow is what the printer can hold, and how that is known.
type HoldsNow struct {
	wire.Holds
	How HoldsHow
}

// HoldsHow is how it is known what a printer can hold.
type HoldsHow string

// The ways of knowing.
const (
	HoldsAssumed    HoldsHow = "assumed"    // what every board holds
	HoldsTold       HoldsHow = "told"       // the firmware says so
	HoldsConfigured HoldsHow = "configured" // the owner says so
	HoldsMeasured   HoldsHow = "measured"
	HoldsMeasuring  HoldsHow = "measuring" // now
)

// ErrMeasure means that it cannot be measured now what the printer can hold.
var ErrMeasure = errors.New("it cannot be measured now what the printer can hold")

const (
	measureAfter = 3 * time.Second // without a word of anybody
	measureTries = 3               // for each conversation
	cold         = 45.0            // °C below which a heater that is off counts as cold
)

// holdsNow tells what the printer can hold.
func (h *Host) holdsNow() HoldsNow {
	c, f := h.cfg.Wire, h.firmware
	switch {
	case h.remeasure || h.conv != nil && h.conv.Measuring():
		return HoldsNow{How: HoldsMeasuring}
	case c.Buffer > 0:
		return HoldsNow{wire.Holds{Bytes: c.Buffer, Lines: max(c.Slots, f.Slots)}, HoldsConfigured}
	case f.Buffer > 0:
		return HoldsNow{wire.Holds{Bytes: f.Buffer, Lines: max(c.Slots, f.Slots)}, HoldsTold}
	case h.holds.Bytes > 0:
		return HoldsNow{h.holds, HoldsMeasured}
	}
	return HoldsNow{wire.Holds{Bytes: wire.AssumedBuffer, Lines: max(c.Slots, f.Slots)}, HoldsAssumed}
}

// identity is what the firmware says of itself.
func identity(f wire.Firmware) string { return f.Name + " / " + f.Machine }

// recall takes what is known of a printer that has just been greeted.
func (h *Host) recall() {
	h.holds, h.measures, h.remeasure, h.quietSince = wire.Holds{}, 0, false, h.now()
	if h.cfg.Holds == nil || h.cfg.Wire.Buffer > 0 || h.firmware.Buffer > 0 {
		return
	}
	if known, ok := h.cfg.Holds.Holds(identity(h.firmware)); ok {
		h.holds = known
		h.conv.Learn(known)
	}
}

// unmeasurable says why it cannot be measured now what the printer can hold, or
// nothing.
func (h *Host) unmeasurable() string {
	switch {
	case !h.link.Live():
		return h.link.Reason
	case h.job != nil:
		return fmt.Sprintf("%s is not done yet", h.job.file.Name)
	case h.warming != nil || h.tuning != nil && h.tuning.Ended.IsZero():
		return "a heater is being used"
	case h.cfg.Wire.Buffer > 0 || h.firmware.Buffer > 0:
		return "it is known: " + string(h.holdsNow().How)
	case !h.conv.Measurable():
		return "this firmware gets one line at a time, or tells too early that it has taken one"
	}
	for name, w := range h.heaters {
		if w.Last.Setpoint > 0 || w.Last.Actual > cold {
			return fmt.Sprintf("the %s is warm: it is done while everything is cold", name)
		}
	}
	return ""
}

// measure finds out what the printer can hold where nothing else is to be done, once.
func (h *Host) measure() {
	if h.remeasure && (h.unmeasurable() != "" || h.conv.Measure(h.now())) {
		h.remeasure = false
	}
	if h.cfg.Unmeasured || h.holds.Bytes > 0 || h.measures >= measureTries || len(h.waiting) > 0 && !h.polling || len(h.heaters) == 0 {
		h.quietSince = h.now()
		return
	}
	if h.now()-h.quietSince < measureAfter || h.unmeasurable() != "" {
		return
	}
	if h.conv.Measure(h.now()) {
		h.measures++
		h.decide("measuring what the printer can hold")
	}
}

// Measure finds out anew what the printer can hold. It takes some ten seconds; the
// bench tells the outcome.
func (h *Host) Measure(ctx context.Context) error {
	var refused error
	err := h.ask(ctx, func() {
		if why := h.unmeasurable(); why != "" {
			refused = fmt.Errorf("%w: %s", ErrMeasure, why)
		}
		h.remeasure = refused == nil && !h.conv.Measuring()
	})
	return errors.Join(err, refused)
}

// measured takes what was found out.
func (h *Host) measured(found wire.Holds) {
	h.quietSince = h.now()
	if found.Bytes == 0 {
		h.decide("what the printer can hold could not be measured")
		return
	}
	h.holds = found
	h.decide("the printer holds %d bytes and %d lines besides", found.Bytes, found.Lines)
	h.log.Info("measured what the printer can hold", "bytes", found.Bytes, "lines_besides", found.Lines)
	if h.cfg.Holds != nil {
		h.cfg.Holds.KeepHolds(identity(h.firmware), found)
	}
	link := h.link
	h.hub.publish(Update{Link: &link})
}
