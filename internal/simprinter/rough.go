package simprinter

import (
	"math"
	"math/rand/v2"
	"slices"
	"time"
)

// A Nature is what real heaters have and the smooth physics leave out. The zero
// value is nothing of it.
type Nature struct {
	Second   float64 // J/K of a mass behind the block: the plate on a mat, the glass on a board, a heat break
	Contact  float64 // W/K between it and the block
	Wander   float64 // standard deviation of that contact about itself, as it comes and goes over minutes
	Outside  bool    // the room gets at the second mass and not at the block
	Sensor   Place   // where the sensor sits
	Convects float64 // natural convection: Loss grows with this power of the difference, and is Loss at 100 K
	Radiates float64 // m² of a black body
	Copper   float64 // 1/K by which the element's resistance rises
	FanLaw   float64 // power of the fan's share with which its draught grows; 0 is 1
	Cap      float64 // the most duty that the firmware gives; 0 is 1
	Switched float64 // K between on and off, where the control is no PID
	Steps    float64 // by how much the converter's steps grow for each 100 K
	Told     Told    // how the firmware tells the duty
	Whole    bool    // it tells whole degrees
}

// Place is where a sensor sits.
type Place int

// The places.
const (
	OnBlock   Place = iota
	OnElement       // on the mat, on the board
	OnSecond        // on the plate
)

// Told is how a firmware tells the duty.
type Told int

// The ways.
const (
	Tells127 Told = iota
	Tells255
	TellsNone
)

// lost is what a mass loses to the room, W.
func (h *heater) lost(t, ambient float64) float64 {
	k := h.Loss
	if c := h.Nature.Convects; c > 0 {
		k *= math.Pow(math.Abs(t-ambient)/100, c)
	}
	const boltzmann = 5.670374e-8 // W/m²K⁴
	away := k * (t - ambient)
	if h.Nature.Radiates > 0 {
		away += h.Nature.Radiates * boltzmann * (math.Pow(t+273.15, 4) - math.Pow(ambient+273.15, 4))
	}
	return away
}

// blown is what a share of the fan's speed does, as a share of what all of it does.
func (h *heater) blown(fan float64) float64 {
	if h.Nature.FanLaw > 0 && fan > 0 {
		return math.Pow(fan, h.Nature.FanLaw)
	}
	return fan
}

// place is the temperature where the sensor sits.
func (h *heater) place() float64 {
	switch {
	case h.Nature.Sensor == OnElement:
		return h.element
	case h.Nature.Sensor == OnSecond && h.Nature.Second > 0:
		return h.second
	}
	return h.block
}

// A House is what a printer stands in, and hangs on. The zero value is a room in
// which nothing changes.
type House struct {
	Sag      float64 // share of its power that each heater loses while the other draws all of its own
	Draughts float64 // an hour: times that air moves for half a minute or some
	Doors    float64 // an hour: times that a door stands open for two minutes
	Warms    float64 // K by which an enclosure warms while the bed is at 100 °C
	Reports  Reports
}

// Reports is what happens to a firmware's reports on their way.
type Reports struct {
	Missing float64 // share of them that never come
	Late    float64 // share that come up to four seconds late, together with those after them
	Waits   bool    // those of a wait for heat, without duties, stand between those that have them
}

// Weather is what comes over a house from outside, and goes. The zero value is none.
type Weather struct {
	Air     float64 // K that the air is warmer: in a chamber that others heat; by a window in winter it is below nought
	Wind    float64 // that blows, as times of what the room takes away
	Shelter float64 // share of the wind that does not get at the nozzle
	Brown   float64 // share of all power that is missing
}

// house is a House at work.
type house struct {
	House
	Weather
	rng      *rand.Rand
	warmth   float64 // K that the enclosure is warmer
	draught  float64 // what it takes away, as a share of Loss
	until    float64 // s that it still blows
	doorOpen float64 // s
}

func newHouse(h House, rng *rand.Rand) *house { return &house{House: h, rng: rng} }

// step lets heaterStep seconds pass for both heaters.
func (w *house) step(nozzle, bed *heater, ambient, fan, flow float64) {
	const dt = heaterStep
	if w.House != (House{}) {
		if w.until -= dt; w.until <= 0 {
			if w.draught = 0; w.Draughts > 0 && w.rng.Float64() < w.Draughts*dt/3600 {
				w.draught, w.until = 0.1+0.5*w.rng.Float64(), 10+50*w.rng.Float64()
			}
		}
		if w.doorOpen -= dt; w.doorOpen <= 0 && w.Doors > 0 && w.rng.Float64() < w.Doors*dt/3600 {
			w.doorOpen = 120
		}
		goal := w.Warms * max(bed.block-ambient, 0) / 80
		pace := 1500.0
		if w.doorOpen > 0 {
			goal, pace = 0, 40
		}
		w.warmth += (goal - w.warmth) * dt / pace
	}
	room := ambient + w.warmth + w.Air
	drawn := func(h *heater) float64 { return min(h.duty, 1) }
	n, b := 1-w.Sag*drawn(bed)-w.Brown, 1-w.Sag*drawn(nozzle)*0.3-w.Brown
	nozzle.step(room, fan, flow, n, w.draught+w.Wind*(1-w.Shelter))
	bed.step(room, fan, 0, b, w.draught+w.Wind)
}

// reporter brings a firmware's reports.
type reporter struct {
	Reports
	rng  *rand.Rand
	held []string
	hold int // s that they are held up
	odd  bool
	mute int // s in which nothing gets through
}

// hear makes the report of a second and returns what arrives in it.
func (r *reporter) hear(nozzle, bed *heater) []string {
	line := report(Words{}, nozzle, bed)
	if r.mute > 0 {
		r.mute--
		r.held = append(r.held, line)
		return nil
	}
	if r.Reports == (Reports{}) {
		out := append(r.held, line)
		r.held = nil
		return out
	}
	waits := nozzle.target > 0 && nozzle.seen() < nozzle.target-3 || bed.target > 0 && bed.seen() < bed.target-3
	if r.odd = !r.odd; r.Waits && r.odd && waits {
		line = without(Words{}, nozzle, bed) + " W:?"
	}
	if r.rng.Float64() >= r.Missing {
		r.held = append(r.held, line)
	}
	if r.hold--; r.hold > 0 {
		return nil
	}
	if r.hold <= 0 && r.rng.Float64() < r.Late {
		r.hold = 1 + r.rng.IntN(4)
		return nil
	}
	out := r.held
	r.held = nil
	return out
}

// A Feature is one way in which a rough house differs from the smooth physics.
type Feature string

// The features.
const (
	Masses    Feature = "masses"    // more than one mass, the sensor on any of them, contact that varies
	Radiation Feature = "radiation" // and natural convection
	CopperRun Feature = "copper"    // an element whose resistance rises
	Sagging   Feature = "sag"       // a supply that sags while both heaters draw
	Tuned     Feature = "tuning"    // PID tuned badly, to swing by up to 3 K
	Switching Feature = "switched"  // control by a switch
	Capped    Feature = "cap"       // a bound of the duty
	Eighths   Feature = "255"       // duties told from 0 to 255
	NoDuty    Feature = "no-duty"   // no duties told
	Bunching  Feature = "reports"   // reports late, bunched, missing, some without duties
	Stepping  Feature = "steps"     // a converter whose steps grow
	FanCurve  Feature = "fan"       // a fan whose effect is concave; a sock
	Draughty  Feature = "draughts"  // draughts and doors
	Enclosure Feature = "enclosure" // that warms
)

// Features lists them.
func Features() []Feature {
	return []Feature{Masses, Radiation, CopperRun, Sagging, Tuned, Switching, Capped, Eighths, NoDuty, Bunching, Stepping, FanCurve, Draughty, Enclosure}
}

// Rough draws a printer whose heaters no model of a few constants matches: with
// some of every feature, or with all of those that are named and no other.
func Rough(seed uint64, only ...Feature) Config {
	rng := rand.New(rand.NewPCG(seed, 0x0509))
	about := func(v, spread float64) float64 { return v * (1 + spread*(2*rng.Float64()-1)) }
	between := func(a, b float64) float64 { return a + (b-a)*rng.Float64() }
	has := func(f Feature, share float64) bool {
		draw := rng.Float64() // always drawn, so that a feature alone is what it was among others
		if len(only) > 0 {
			return slices.Contains(only, f)
		}
		return draw < share
	}
	c := Vesper()
	c.Seed = int64(seed)
	for _, h := range []*Heater{&c.Nozzle, &c.Bed} {
		h.Power, h.Capacity, h.Element = about(h.Power, 0.2), about(h.Capacity, 0.3), about(h.Element, 0.3)
		h.Coupling, h.Loss, h.Draught = about(h.Coupling, 0.3), about(h.Loss, 0.3), about(h.Draught, 0.4)
		h.SensorLag = time.Duration(about(float64(h.SensorLag), 0.5))
		h.Noise = about(h.Noise, 0.6)
	}
	n, b := &c.Nozzle, &c.Bed
	if has(Masses, 0.8) {
		n.Nature.Second, n.Nature.Contact = between(4, 25), between(0.02, 0.12) // heat break and fins
		n.Nature.Wander = between(0, 0.15)
		switch rng.IntN(3) {
		case 0: // aluminium with a mat, the sensor in the mat
			b.Element, b.Coupling, b.Nature.Sensor = between(60, 160), between(12, 30), OnElement
			b.Nature.Second, b.Nature.Contact = between(80, 250), between(6, 30) // a sheet on it
			b.Nature.Outside = true
		case 1: // a circuit board under glass
			b.Element, b.Coupling = between(15, 40), between(20, 60)
			b.Capacity = between(120, 260)
			b.Nature.Second, b.Nature.Contact = between(300, 650), between(5, 16)
			b.Nature.Outside = true
			b.Nature.Sensor = []Place{OnBlock, OnElement}[rng.IntN(2)]
		default: // a thick plate, the sensor on top
			b.Capacity = between(500, 1100)
			b.Nature.Second, b.Nature.Contact, b.Nature.Outside = between(100, 300), between(15, 40), true
			b.Nature.Sensor = []Place{OnBlock, OnSecond}[rng.IntN(2)]
		}
		b.Nature.Wander = between(0, 0.15)
	}
	if has(Radiation, 0.8) {
		n.Nature.Convects, b.Nature.Convects = between(0.1, 0.3), between(0.15, 0.33)
		n.Nature.Radiates, b.Nature.Radiates = between(0.0002, 0.0012), between(0.005, 0.03)
		n.Loss, b.Loss = 0.8*n.Loss, 0.75*b.Loss
	}
	if has(CopperRun, 0.4) {
		b.Nature.Copper = 0.0039
	}
	if has(Sagging, 0.4) {
		c.House.Sag = between(0.03, 0.15)
	}
	if has(Tuned, 0.5) {
		n.KP, n.KI, n.KD = n.KP*between(0.6, 2.5), n.KI*between(0.5, 3), n.KD*between(0, 1)
		b.KP, b.KI, b.KD = b.KP*between(0.4, 2.5), b.KI*between(0.5, 3), b.KD*between(0, 1)
	}
	if has(Switching, 0.35) {
		b.Nature.Switched = between(0.5, 2)
		if rng.IntN(6) == 0 {
			n.Nature.Switched = between(0.5, 2)
		}
	}
	if has(Capped, 0.25) {
		n.Nature.Cap, b.Nature.Cap = between(0.7, 1), between(0.6, 1)
	}
	switch eighths, none := has(Eighths, 0.3), has(NoDuty, 0.12); {
	case none:
		n.Nature.Told, b.Nature.Told = TellsNone, TellsNone
	case eighths:
		n.Nature.Told, b.Nature.Told = Tells255, Tells255
	}
	if has(Bunching, 0.6) {
		c.House.Reports = Reports{Missing: between(0, 0.05), Late: between(0, 0.08), Waits: rng.IntN(2) == 0}
	}
	if has(Stepping, 0.6) {
		n.Nature.Steps, b.Nature.Steps = between(0, 3), between(0, 3)
		n.Quantum, b.Quantum = about(0.15, 0.6), about(0.15, 0.6)
	}
	if has(FanCurve, 0.8) {
		n.Nature.FanLaw = between(0.35, 0.9)
		if rng.IntN(2) == 0 {
			n.Draught *= between(0.2, 0.5) // a sock
		} else {
			n.Draught *= between(0.8, 1.6)
		}
	}
	if has(Draughty, 0.6) {
		c.House.Draughts, c.House.Doors = between(0.2, 3), between(0, 0.4)
	}
	if has(Enclosure, 0.4) {
		c.House.Warms = between(5, 15)
	}
	c.suffices()
	return c
}

// suffices gives both heaters what it takes to reach what is asked of them: 250 °C
// with the fan on and 8 mm³/s, 100 °C in a cold room.
func (c *Config) suffices() {
	for _, w := range []struct {
		h     *Heater
		at    float64
		drawn float64
		spare float64
	}{{&c.Nozzle, 250, 8 * HeatOfMelt, 1.25}, {&c.Bed, 100, 0, 1.2}} {
		const room = 12.0
		h := &heater{Heater: *w.h}
		needs := h.lost(w.at, room) + (h.Draught+w.drawn)*(w.at-room)
		most := 1.0
		if h.Nature.Cap > 0 {
			most = h.Nature.Cap
		}
		least := w.spare * needs / (most * (1 - c.House.Sag)) * (1 + h.Nature.Copper*(w.at+20-20))
		w.h.Power = max(w.h.Power, least)
	}
}
