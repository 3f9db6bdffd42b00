package rehearsal

import (
	"math"
	"slices"
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
	c.Ambient = p.room(c.Ambient)
	var learned []heat.Heater
	for _, h := range []struct {
		name  heat.Heater
		to    *simprinter.Heater
		held  float64 // °C, usually
		above float64 // K that the firmware stops above what it takes for a setpoint
	}{{heat.Nozzle, &c.Nozzle, 215, 15}, {heat.Bed, &c.Bed, 60, 5}} {
		if limit := p.Machine.Limits.Of(h.name); limit > 0 {
			h.to.Max = limit + h.above
		}
		if like(h.to, p.Heaters[h.name].slowed(p.Pace), h.held, c.Ambient) {
			learned = append(learned, h.name)
		}
	}
	return c, learned
}

// room is how warm the printer's room is, by the coldest that its heaters were before
// they were warmed up, °C.
func (p *Printer) room(otherwise float64) float64 {
	room := math.Inf(1)
	for _, h := range p.Heaters {
		for _, c := range h.Climbs {
			room = min(room, c.Start)
		}
	}
	if math.IsInf(room, 1) {
		return otherwise
	}
	return min(max(room, coldRoom), hotRoom)
}

// Bounds of a room's temperature, °C.
const (
	coldRoom = 5
	hotRoom  = 35
)

// slowed is a heater by its own clock, which runs so many times faster than the one that
// it was learned by.
func (h Heater) slowed(pace float64) Heater {
	if pace <= 0 || pace == 1 {
		return h
	}
	m, s := &h.Model, &h.Shape
	for _, rate := range []*float64{&m.Rise, &m.Loss, &m.FanLoss, &m.Melt, &m.RiseError, &m.LossError, &m.FanLossError, &m.MeltError, &s.A, &s.B, &s.K} {
		*rate /= pace
	}
	m.Dead = time.Duration(float64(m.Dead) * pace)
	for _, time := range []*float64{&m.Seconds, &s.Dead, &s.Tau} {
		*time *= pace
	}
	h.Climbs = slices.Clone(h.Climbs)
	for i := range h.Climbs {
		h.Climbs[i].Took *= pace
	}
	return h
}

// like gives a heater of the stand-in, in a room of that temperature, the physics that
// were learned, and reports whether there were any: the shape of its warm-ups where that
// is known, or else its model, with what fan and filament carry away. Only ratios of
// power, capacity and loss matter: the capacity is what filament tells, or stays what it
// was. A dead time is an element that warms the block and a sensor that follows it, with
// half of it each for their time constants.
func like(h *simprinter.Heater, learned Heater, held, room float64) bool {
	m, s := learned.Model, learned.Shape
	if !m.Known() && !s.Known {
		return false
	}
	most := 1.0 // duty that its firmware gives
	if w := learned.Experience.Ways.Most; w > leastCap && w < 1 {
		most = w
	}
	capacity := h.Capacity + h.Element
	rise, loss, dead, tail := m.Rise, m.Loss*(held-m.Ambient)/(held-room), m.Dead.Seconds(), usualTail
	shaped := s.Known && s.A > s.B*(highest(learned.Climbs)+spareHeat-shapeRoom) // and not one that says it comes less far than it did
	if shaped {
		rise, loss, dead, tail = (s.A+s.B*(shapeRoom-room))/most, s.B, s.Dead, s.Tail
	}
	if m.Known() {
		if m.Melt > 0 {
			capacity = min(max(simprinter.HeatOfMelt/m.Melt, capacity/3), capacity*3)
		}
		h.Draught = m.FanLoss * capacity
	}
	lag := max(dead/2, leastLag)
	h.Element = elementShare * capacity
	h.Capacity = capacity - h.Element
	h.Coupling = h.Element * h.Capacity / capacity / lag
	h.SensorLag = time.Duration(lag * float64(time.Second))
	h.Power, h.Loss, h.Nature.Cap = rise*capacity, loss*capacity, most
	if shaped && s.K > 0 {
		h.Nature.Contact = s.K * capacity
		h.Nature.Second = h.Nature.Contact * s.Tau
	}
	control(h, rise, lag, tail, most-loss*(held-room)/rise)
	h.Feed = loss / rise
	asLong(h, learned.Climbs, room)
	return true
}

// highest is the highest setpoint that warm-ups came to, °C.
func highest(climbs []heat.Climb) (setpoint float64) {
	for _, c := range climbs {
		setpoint = max(setpoint, c.Setpoint)
	}
	return setpoint
}

// asLong makes a heater as heavy as it must be for its warm-ups to take as long as those
// that were seen: neither power nor what holding takes change by that.
func asLong(h *simprinter.Heater, climbs []heat.Climb, room float64) {
	for range 3 {
		sum, n := 0.0, 0.0
		for _, c := range climbs {
			if took, gets := climb(h, c, room); gets && c.Took > 0 {
				sum, n = sum+math.Log(c.Took/took), n+1
			}
		}
		if n == 0 {
			return
		}
		by := math.Exp(sum / n)
		for _, mass := range []*float64{&h.Capacity, &h.Element, &h.Nature.Second} {
			*mass *= by
		}
	}
}

// climb is how long, in s, a heater takes for a warm-up, and whether it gets there.
func climb(h *simprinter.Heater, c heat.Climb, room float64) (took float64, gets bool) {
	plant := simprinter.NewPlant(simprinter.Config{Nozzle: *h, Ambient: room})
	plant.Start(c.Start, c.Start)
	plant.Set(c.Setpoint, 0)
	for ; took < longestClimb.Seconds(); took++ {
		if readings := heat.ParseReport(plant.Report()); len(readings) > 0 && readings[0].Actual >= c.Setpoint-heat.Ready {
			return took, took > 0
		}
		plant.Advance(time.Second)
	}
	return 0, false
}

// longestClimb is how long a warm-up may take.
const longestClimb = time.Hour

// control tunes a heater that rises at so many K/s for full duty, behind two lags, so that
// the last degrees to its setpoint take so many times what they would at all the duty
// there is; spare is what that is more than holding takes.
//
// What holding takes is fed forward, and the rest is proportional within a band of w
// below the setpoint: at v full on, the last tailFrom take (tailFrom−w+w·ln(w/r))/v until
// r are left, which counts as there. The band is no narrower than what J. G. Ziegler and
// N. B. Nichols (1942) give to such a heater.
func control(h *simprinter.Heater, rise, lag, tail, spare float64) {
	spare = max(spare, 0.05)
	takes := func(w float64) float64 { return tailFrom - w + w*math.Log(w/heat.Ready) }
	w := heat.Ready
	for w < mostBand && takes(w) < tail*(tailFrom-heat.Ready) {
		w *= 1.02
	}
	ultimate, period := 2/(lag*rise), 2*math.Pi*lag
	h.KP = min(spare/w, ultimate/2)
	h.KI, h.KD = h.KP/(4*period), h.KP*period/8
	h.Functional = max(h.Functional, w)
}

const (
	elementShare = 0.12 // of a heater's capacity
	leastLag     = 0.5  // s
	leastCap     = 0.3  // of a duty, below which it is no bound of it
	shapeRoom    = 25   // °C from which shapes count
	usualTail    = 2.0
	tailFrom     = 15.0 // K below a setpoint from which on Shape.Tail counts
	mostBand     = 40.0 // K
	spareHeat    = 10.0 // K that a heater must come higher than it was set
)
