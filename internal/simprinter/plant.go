package simprinter

import (
	"fmt"
	"math/rand/v2"
	"time"
)

// A Plant is the printer's two heaters alone, in virtual time: what a Board has
// inside, for those who need months of it.
type Plant struct {
	Ambient   float64 // °C
	Fan, Flow float64 // part fan, 0 to 1; plastic that really flows, mm³/s

	nozzle, bed *heater
	house       *house
	left        float64 // s that have passed and were not simulated yet
	reporter    reporter
}

// NewPlant returns heaters at the room's temperature.
func NewPlant(c Config) *Plant {
	c = c.withDefaults()
	rng := rand.New(rand.NewPCG(uint64(c.Seed), 0x5eed))
	return &Plant{
		Ambient: c.Ambient, nozzle: newHeater(c.Nozzle, c.Ambient, rng), bed: newHeater(c.Bed, c.Ambient, rng),
		house: newHouse(c.House, rng), reporter: reporter{Reports: c.House.Reports, rng: rng},
	}
}

// Set gives both heaters a setpoint, °C.
func (p *Plant) Set(nozzle, bed float64) { p.nozzle.target, p.bed.target = nozzle, bed }

// Setpoints returns what both heaters have been given, °C.
func (p *Plant) Setpoints() (nozzle, bed float64) { return p.nozzle.target, p.bed.target }

// Start lets both heaters have a temperature.
func (p *Plant) Start(nozzle, bed float64) {
	p.nozzle.start(nozzle)
	p.bed.start(bed)
}

// Break gives a heater, nozzle or bed, a fault.
func (p *Plant) Break(bed bool, f HeaterFault) {
	if bed {
		p.bed.breaks(f)
	} else {
		p.nozzle.breaks(f)
	}
}

// Hottest is the hottest part of a heater, whatever its sensor says, in °C.
func (p *Plant) Hottest(bed bool) float64 {
	h := p.nozzle
	if bed {
		h = p.bed
	}
	return max(h.block, h.second)
}

// Weathers lets another weather come, all at once.
func (p *Plant) Weathers(w Weather) { p.house.Weather = w }

// Weather is what has come.
func (p *Plant) Weather() Weather { return p.house.Weather }

// TellWhole lets the firmware tell whole degrees from now on, or as its converter does.
func (p *Plant) TellWhole(whole bool) { p.nozzle.Nature.Whole, p.bed.Nature.Whole = whole, whole }

// Mute lets no report through for a while; those of it then come all together.
func (p *Plant) Mute(d time.Duration) { p.reporter.mute = int(d.Seconds()) }

// Lay puts a cold sheet on the bed.
func (p *Plant) Lay() {
	switch bed := p.bed; {
	case bed.Nature.Second == 0:
		bed.block -= 0.15 * (bed.block - p.Ambient)
	case bed.Nature.Sensor == OnSecond: // it lies on what the sensor is in
		bed.second -= 0.15 * (bed.second - p.Ambient)
	default:
		bed.second = p.Ambient
	}
}

// Second is the temperature of what lies behind a heater's block, or on it, in °C; the
// block's where there is nothing.
func (p *Plant) Second(bed bool) float64 {
	h := p.nozzle
	if bed {
		h = p.bed
	}
	if h.Nature.Second > 0 {
		return h.second
	}
	return h.block
}

// Advance lets time pass.
func (p *Plant) Advance(d time.Duration) {
	for p.left += d.Seconds(); p.left >= heaterStep; p.left -= heaterStep {
		p.house.step(p.nozzle, p.bed, p.Ambient, p.Fan, p.Flow)
	}
}

// Report is what the firmware reports of the heaters.
func (p *Plant) Report() string { return report(Words{}, p.nozzle, p.bed) }

// Hear lets a second pass and returns what arrives of the firmware's reports in it,
// one a second unless the house's Reports say otherwise.
func (p *Plant) Hear() []string {
	p.Advance(time.Second)
	return p.reporter.hear(p.nozzle, p.bed)
}

// report is a line with both heaters, and with their duties where the firmware
// tells them.
func report(words Words, n, p *heater) string {
	return without(words, n, p) + n.told("@") + p.told("B@")
}

// without is the same without duties, as it is said in a wait for heat.
func without(words Words, n, p *heater) string {
	return fill(words.text(heaters), n.read(), n.target, p.read(), p.target)
}

// told is the duty as the firmware tells it.
func (h *heater) told(key string) string {
	switch h.Nature.Told {
	case TellsNone:
		return ""
	case Tells255:
		return fmt.Sprintf(" %s:%d", key, int(h.duty*255))
	}
	return fmt.Sprintf(" %s:%d", key, int(h.duty*127))
}
