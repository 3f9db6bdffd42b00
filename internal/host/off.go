package host

import (
	"time"

	"diathermon/internal/core/heat"
	"diathermon/internal/core/wire"
)

// turningOff follows heaters that are to be off until the printer reports that
// they are.
type turningOff struct {
	begun, urged time.Duration
	taken, told  bool
}

const (
	urgeEvery   = time.Second
	urgeAtLeast = 3 * time.Second  // some firmwares take a line before they carry it out
	obeyWithin  = 15 * time.Second // before a person is told
	urgeFor     = 2 * time.Minute
)

// turnOff turns heaters and fan off as soon as the printer answers, and calls done
// when it has taken that.
func (h *Host) turnOff(done func()) {
	if !h.link.Live() {
		h.owesOff = true
		return
	}
	h.allOff(func(err error) {
		if err == nil {
			done()
		}
	})
}

// payOff turns off what was to be off while the printer did not answer.
func (h *Host) payOff() {
	if h.owesOff {
		h.owesOff = false
		h.allOff(func(error) {})
	}
}

// allOff turns every heater and the part fan off and calls done when the printer
// has taken that. A wait for heat that is under way is broken off, and those that
// the printer has read already and begins behind it.
func (h *Host) allOff(done func(error)) {
	o := &turningOff{begun: h.now(), urged: h.now()}
	h.off = o
	if h.haltsAtOnce() {
		h.urgent("M108")
	}
	for _, heater := range h.heatersNow() {
		h.send(heat.SetCommand(heater.Heater, 0), nil)
	}
	h.send("M107", func(_ []string, err error) {
		o.taken = true
		done(err)
	})
}

// mindOff urges a printer that still has a setpoint after it was told to turn its
// heaters off: it may be waiting for heat, and for the next heater after that.
func (h *Host) mindOff() {
	o := h.off
	if o == nil {
		return
	}
	now, on := h.now(), false
	for _, w := range h.heaters {
		on = on || w.Last.Setpoint > 0
	}
	switch {
	case !on && o.taken && now-o.begun > urgeAtLeast, now-o.begun > urgeFor:
		h.off = nil
		return
	case on && !o.told && now-o.begun > obeyWithin:
		o.told = true
		h.message(wire.Wrong, "the printer still heats although it was told to turn its heaters off: it reads nothing while it waits for heat. Switch it off if that takes too long")
	}
	if on && h.haltsAtOnce() && now-o.urged >= urgeEvery {
		o.urged = now
		h.urgent("M108")
	}
}
