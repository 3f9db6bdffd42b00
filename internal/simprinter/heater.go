package simprinter

import (
	"math"
	"math/rand/v2"
)

// heaterStep is the length of one step of physics, in seconds of virtual time.
const heaterStep = 0.05

// heater is one Heater at work: an element that warms a block that a sensor
// follows late, and the firmware's PID.
type heater struct {
	Heater
	element, block, sensor float64 // °C
	target                 float64 // °C; 0 is off
	duty                   float64 // 0 to 1
	integral               float64
	lastSeen               float64
	slope                  float64
	fault                  HeaterFault
	tuning                 *relay // while the firmware tunes it
	rng                    *rand.Rand
}

// HeaterFault is what is wrong with a heater.
type HeaterFault struct {
	Kind   FaultKind
	Amount float64 // Weak: the share of its power that is left; Loose: how far the sensor is off the block, 0 to 1
}

// FaultKind is a kind of HeaterFault.
type FaultKind int

// The kinds of fault.
const (
	Well      FaultKind = iota
	Dead                // no current flows
	Stuck               // current flows whatever the firmware wants
	Weak                // the element has aged
	Loose               // the sensor has slipped off the block
	Unplugged           // the sensor's wire is open
	Shorted             // or shorted
)

func newHeater(h Heater, ambient float64, rng *rand.Rand) *heater {
	return &heater{Heater: h, element: ambient, block: ambient, sensor: ambient, lastSeen: ambient, rng: rng}
}

// heatOfMelt is what it takes to warm plastic, in J per mm³ and K.
const heatOfMelt = 0.0022

// step lets heaterStep seconds pass with the part fan at that share and plastic
// flowing at so many mm³/s.
func (h *heater) step(ambient, fan, flow float64) {
	const dt = heaterStep
	duty := h.duty
	switch h.fault.Kind {
	case Dead:
		duty = 0
	case Stuck:
		duty = 1
	case Weak:
		duty *= h.fault.Amount
	}
	through := h.Coupling * (h.element - h.block)
	lost := (h.Loss + h.Draught*fan) * (h.block - ambient)
	drawn := flow * heatOfMelt * max(h.block-ambient, 0)
	h.element += (duty*h.Power - through) / h.Element * dt
	h.block += (through - lost - drawn) / h.Capacity * dt
	felt := h.block
	if h.fault.Kind == Loose {
		felt = ambient + (h.block-ambient)*(1-h.fault.Amount)
	}
	h.sensor += (felt - h.sensor) * min(dt/h.SensorLag.Seconds(), 1)
	h.control(dt)
}

// seen is what the sensor says, without noise.
func (h *heater) seen() float64 {
	switch h.fault.Kind {
	case Unplugged:
		return -14.2
	case Shorted:
		return 391.7
	}
	return h.sensor
}

// read is what the converter says now.
func (h *heater) read() float64 {
	v := h.seen() + h.rng.NormFloat64()*h.Noise
	return math.Round(v/h.Quantum) * h.Quantum
}

// broken is why a firmware stops by itself; empty if it does not.
func (h *heater) broken() string {
	switch seen := h.seen(); {
	case seen > h.Max+5:
		return "MAXTEMP"
	case seen < 0 && h.target > 0:
		return "MINTEMP"
	}
	return ""
}

// control is the firmware's PID: full on far below, off far above, and in
// between proportional, integral and smoothed derivative with the integral
// bounded by what the output can do.
func (h *heater) control(dt float64) {
	seen := h.seen()
	h.slope += (-(seen-h.lastSeen)/dt - h.slope) * 0.05
	h.lastSeen = seen
	if h.tuning != nil {
		h.duty, h.integral = h.tuning.control(seen, dt), 0
		return
	}
	if h.target <= 0 {
		h.duty, h.integral = 0, 0
		return
	}
	miss := h.target - seen
	switch {
	case miss > h.Functional:
		h.duty, h.integral = 1, 0
	case miss < -h.Functional:
		h.duty, h.integral = 0, 0
	default:
		h.integral = min(max(h.integral+miss*dt*h.KI, 0), 1)
		h.duty = min(max(h.KP*miss+h.integral+h.KD*h.slope, 0), 1)
	}
}
