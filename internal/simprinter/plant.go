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
	left        float64 // s that have passed and were not simulated yet
}

// NewPlant returns heaters at the room's temperature.
func NewPlant(c Config) *Plant {
	c = c.withDefaults()
	rng := rand.New(rand.NewPCG(uint64(c.Seed), 0x5eed))
	return &Plant{Ambient: c.Ambient, nozzle: newHeater(c.Nozzle, c.Ambient, rng), bed: newHeater(c.Bed, c.Ambient, rng)}
}

// Set gives both heaters a setpoint, °C.
func (p *Plant) Set(nozzle, bed float64) { p.nozzle.target, p.bed.target = nozzle, bed }

// Start lets both heaters have a temperature.
func (p *Plant) Start(nozzle, bed float64) {
	p.nozzle.element, p.nozzle.block, p.nozzle.sensor = nozzle, nozzle, nozzle
	p.bed.element, p.bed.block, p.bed.sensor = bed, bed, bed
}

// Break gives a heater, nozzle or bed, a fault.
func (p *Plant) Break(bed bool, f HeaterFault) {
	if bed {
		p.bed.fault = f
	} else {
		p.nozzle.fault = f
	}
}

// Advance lets time pass.
func (p *Plant) Advance(d time.Duration) {
	for p.left += d.Seconds(); p.left >= heaterStep; p.left -= heaterStep {
		p.nozzle.step(p.Ambient, p.Fan, p.Flow)
		p.bed.step(p.Ambient, p.Fan, 0)
	}
}

// Report is what the firmware reports of the heaters.
func (p *Plant) Report() string { return report(p.nozzle, p.bed) }

func report(n, p *heater) string {
	return fmt.Sprintf("T:%.2f /%.2f B:%.2f /%.2f @:%d B@:%d", n.read(), n.target, p.read(), p.target, int(n.duty*127), int(p.duty*127))
}
