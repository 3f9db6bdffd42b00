package heating

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

// TurnOff turns heaters and fan off as soon as the printer answers, and calls done
// when it has taken that.
func (h *Heating) TurnOff(done func()) {
	if !h.line.Live() {
		h.owesOff = true
		return
	}
	h.allOff(func(err error) {
		if err == nil {
			done()
		}
	})
}

// Heats notes that a heater is to be on again: nobody urges the printer to turn it off.
func (h *Heating) Heats() { h.off = nil }

// payOff turns off what was to be off while the printer did not answer.
func (h *Heating) payOff() {
	if h.owesOff {
		h.owesOff = false
		h.allOff(func(error) {})
	}
}

// allOff turns every heater and the part fan off and calls done when the printer
// has taken that. A wait for heat that is under way is broken off, and those that
// the printer has read already and begins behind it.
func (h *Heating) allOff(done func(error)) {
	o := &turningOff{begun: h.loop.Now(), urged: h.loop.Now()}
	h.off = o
	if h.line.HaltsAtOnce() {
		h.line.Urge("M108")
	}
	for _, heater := range h.heatersNow() {
		h.line.Say(heat.SetCommand(heater.Heater, 0), nil)
	}
	h.line.Say("M107", func(_ []string, err error) {
		o.taken = true
		done(err)
	})
}

// mindOff urges a printer that still has a setpoint after it was told to turn its
// heaters off: it may be waiting for heat, and for the next heater after that.
func (h *Heating) mindOff() {
	o := h.off
	if o == nil {
		return
	}
	now, on := h.loop.Now(), false
	for _, w := range h.heaters {
		on = on || w.Last.Setpoint > 0
	}
	switch {
	case !on && o.taken && now-o.begun > urgeAtLeast, now-o.begun > urgeFor:
		h.off = nil
		return
	case on && !o.told && now-o.begun > obeyWithin:
		o.told = true
		h.loop.Message(wire.Wrong, "the printer still heats although it was told to turn its heaters off: it reads nothing while it waits for heat. Switch it off if that takes too long")
	}
	if on && h.line.HaltsAtOnce() && now-o.urged >= urgeEvery {
		o.urged = now
		h.line.Urge("M108")
	}
}
