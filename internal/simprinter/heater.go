package simprinter

import (
	"math"
	"math/rand/v2"
	"time"
)

// heaterStep is the length of one step of physics, in seconds of virtual time.
const heaterStep = 0.05

// heater is one Heater at work: an element that warms a block that a sensor
// follows late, and the firmware's PID.
type heater struct {
	Heater
	element, block, sensor float64 // °C
	second                 float64 // °C of the mass behind the block
	contact                float64 // how good its contact is now, about 1
	room                   float64 // °C as it was switched on
	on                     bool    // a switched control gives current
	frozen                 float64 // what the sensor said as it froze
	faulty                 float64 // s since the fault began
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
	Amount float64       // Weak: the share of its power that is left; Loose: how far the sensor is off the block, 0 to 1
	Over   time.Duration // Loose: how long it takes to slip that far
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
	Frozen              // the sensor goes on saying the same
)

func newHeater(h Heater, ambient float64, rng *rand.Rand) *heater {
	n := &heater{Heater: h, contact: 1, room: ambient, rng: rng}
	n.start(ambient)
	return n
}

// start lets the heater have a temperature throughout.
func (h *heater) start(t float64) {
	h.element, h.block, h.second, h.sensor, h.lastSeen = t, t, t, t, t
}

// breaks gives it a fault.
func (h *heater) breaks(f HeaterFault) { h.fault, h.faulty, h.frozen = f, 0, h.read() }

// HeatOfMelt is what it takes to warm plastic, in J per mm³ and K.
const HeatOfMelt = 0.0022

// step lets heaterStep seconds pass with the part fan at that share, plastic
// flowing at so many mm³/s, a supply that gives that share of its power, and a
// draught that takes away so many times what the room does.
func (h *heater) step(ambient, fan, flow, supply, draught float64) {
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
	h.faulty += dt
	power := duty * h.Power * supply / (1 + h.Nature.Copper*(h.element-20))
	through := h.Coupling * (h.element - h.block)
	outside := &h.block // what the room, the fan and a draught get at
	behind := 0.0
	if h.Nature.Second > 0 {
		h.contact += (1-h.contact)*dt/300 + h.rng.NormFloat64()*h.Nature.Wander*math.Sqrt(2*dt/300)
		behind = h.Nature.Contact * min(max(h.contact, 0.3), 2) * (h.block - h.second)
		if h.Nature.Outside {
			outside = &h.second
		}
	}
	lost := h.lost(*outside, ambient) + (h.Draught*h.blown(fan)+h.Loss*draught)*(*outside-ambient)
	drawn := flow * HeatOfMelt * max(h.block-ambient, 0)
	h.element += (power - through) / h.Element * dt
	h.block += (through - drawn - behind) / h.Capacity * dt
	if h.Nature.Second > 0 {
		h.second += behind / h.Nature.Second * dt
	}
	if outside == &h.second {
		h.second -= lost / h.Nature.Second * dt
	} else {
		h.block -= lost / h.Capacity * dt
	}
	felt := h.place()
	if h.fault.Kind == Loose {
		off := h.fault.Amount
		if over := h.fault.Over.Seconds(); over > 0 {
			off *= min(h.faulty/over, 1)
		}
		felt = ambient + (felt-ambient)*(1-off)
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
	case Frozen:
		return h.frozen
	}
	return h.sensor
}

// read is what the converter says now.
func (h *heater) read() float64 {
	v := h.seen()
	if h.fault.Kind == Frozen && h.faulty > 0 {
		return v
	}
	v += h.rng.NormFloat64() * h.Noise
	quantum := h.Quantum * (1 + h.Nature.Steps*max(v-25, 0)/100)
	v = math.Round(v/quantum) * quantum
	if h.Nature.Whole {
		v = math.Round(v)
	}
	return v
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
		h.duty, h.integral, h.on = 0, 0, false
		return
	}
	most := 1.0
	if h.Nature.Cap > 0 {
		most = h.Nature.Cap
	}
	if band := h.Nature.Switched; band > 0 {
		switch {
		case seen < h.target-band/2:
			h.on = true
		case seen > h.target+band/2:
			h.on = false
		}
		h.duty = 0
		if h.on {
			h.duty = most
		}
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
		h.duty = min(max(h.Feed*(h.target-h.room)+h.KP*miss+h.integral+h.KD*h.slope, 0), 1)
	}
	h.duty = min(h.duty, most)
}
