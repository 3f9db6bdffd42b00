package rehearsal

import (
	"time"

	"diathermon/internal/core/heat"
	"diathermon/internal/simprinter"
)

// config is a stand-in like the printer, and which of its heaters are as this printer's
// were learned to be.
func (p *Printer) config() (simprinter.Config, []heat.Heater) {
	m := p.Motion
	c := simprinter.Vesper()
	c.Name, c.Size, c.PlannerSlots, c.ReceiveBuffer, c.Coldest = p.Machine.Name, p.Machine.Size(), m.Ring, receiveBuffer, coldest
	c.Motion = simprinter.Motion{
		Speed: m.Feed, Acceleration: m.Acceleration, Rest: m.Jerk, Laying: m.Print, Travelling: m.Travel, Retracting: m.Retract, Deviation: m.Deviation,
	}
	var learned []heat.Heater
	for _, h := range []struct {
		name    heat.Heater
		to      *simprinter.Heater
		typical float64 // °C at which it is held
		above   float64 // K that the firmware stops above what it takes for a setpoint
	}{{heat.Bed, &c.Bed, 60, 5}, {heat.Nozzle, &c.Nozzle, 215, 15}} {
		if limit := p.Machine.Limits.Of(h.name); limit > 0 {
			h.to.Max = limit + h.above
		}
		model := slowed(p.Heaters[h.name].Model, p.Pace)
		if !model.Known() {
			continue
		}
		if len(learned) == 0 {
			c.Ambient = min(max(model.Ambient, coldRoom), hotRoom)
		}
		like(h.to, model, h.typical, c.Ambient)
		learned = append(learned, h.name)
	}
	return c, learned
}

// Bounds of a room's temperature, °C: models learned from hot heaters alone are far off.
const (
	coldRoom = 5
	hotRoom  = 40
)

// slowed is a model of a heater whose clock runs at its own pace.
func slowed(m heat.Model, pace float64) heat.Model {
	if pace <= 0 || pace == 1 {
		return m
	}
	for _, v := range []*float64{&m.Rise, &m.Loss, &m.FanLoss, &m.Melt, &m.RiseError, &m.LossError, &m.FanLossError, &m.MeltError} {
		*v /= pace
	}
	m.Dead = time.Duration(float64(m.Dead) * pace)
	m.Seconds *= pace
	return m
}

// like gives a heater of the stand-in the physics of a model, in a room of that
// temperature. Only ratios of power, capacity and loss matter: the capacity is what
// filament that takes its heat away tells, or stays what it was.
//
// The dead time is an element that warms the block, and a sensor that follows it, with
// half of it each for their time constants. The control is that of S. Skogestad,
// Simple analytic rules for model reduction and PID controller tuning (2003), with a
// closed loop as slow as the dead time.
func like(h *simprinter.Heater, m heat.Model, typical, room float64) {
	capacity := h.Capacity + h.Element
	if m.Melt > 0 {
		capacity = min(max(simprinter.HeatOfMelt/m.Melt, capacity/3), capacity*3)
	}
	lag := max(m.Dead.Seconds()/2, leastLag)
	h.Element = elementShare * capacity
	h.Capacity = capacity - h.Element
	h.Coupling = h.Element * h.Capacity / capacity / lag
	h.SensorLag = time.Duration(lag * float64(time.Second))
	h.Power = m.Rise * capacity
	h.Loss = m.Loss * (typical - m.Ambient) / (typical - room) * capacity // what holds it, held
	h.Draught = m.FanLoss * capacity

	dead := 2 * lag
	h.KP = 1 / m.Rise / (2 * dead)
	h.KI = h.KP / min(1/m.Loss, 8*dead)
	h.KD, h.Functional = 0, max(h.Functional, 0.9/h.KP)
}

const (
	elementShare = 0.12 // of a heater's capacity
	leastLag     = 0.5  // s
)
