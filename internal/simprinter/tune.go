package simprinter

import (
	"fmt"
	"math"
)

// relay switches a heater about a temperature, so that the way it swings tells its
// constants: the relay method of K. J. Åström and T. Hägglund (1984).
type relay struct {
	target     float64
	cycles     int
	bias, d    float64 // duty, and by how much it is switched
	on         bool
	begun      bool
	time       float64 // s
	switchedOn float64
	switched   float64
	high, low  float64 // s of the last halves
	most       float64 // °C of this cycle
	least      float64
	cycle      int
	said       []string
	done       bool
}

// control is the heater's duty while it is tuned.
func (r *relay) control(seen, dt float64) float64 {
	r.time += dt
	r.most, r.least = max(r.most, seen), min(r.least, seen)
	switch {
	case !r.begun:
		r.begun, r.on, r.most, r.least = true, true, seen, seen
	case r.on && seen > r.target && r.time-r.switched > 1:
		r.on, r.high, r.switched, r.most = false, r.time-r.switchedOn, r.time, seen
	case !r.on && seen < r.target && r.time-r.switched > 1:
		r.low = r.time - r.switched
		r.swing()
		r.on, r.switched, r.switchedOn, r.least = true, r.time, r.time, seen
	case r.time > 3600 || seen > r.target+30:
		r.said, r.done = append(r.said, "PID Autotune failed! timeout"), true
	}
	if r.on {
		return min(r.bias+r.d, 1)
	}
	return max(r.bias-r.d, 0)
}

// swing ends a cycle.
func (r *relay) swing() {
	if r.cycle > 0 {
		r.bias += r.d * (r.high - r.low) / (r.high + r.low)
		r.bias = min(max(r.bias, 0.08), 0.92)
		r.d = min(r.bias, 1-r.bias)
	}
	line := fmt.Sprintf(" bias: %d d: %d min: %.2f max: %.2f", int(r.bias*127), int(r.d*127), r.least, r.most)
	r.cycle++
	if r.cycle > 2 {
		ku := 4 * r.d * 255 / (math.Pi * max(r.most-r.least, 0.1) / 2)
		tu := r.low + r.high
		kp := 0.6 * ku
		line += fmt.Sprintf(" Ku: %.2f Tu: %.2f", ku, tu)
		r.said = append(r.said, line, " Classic PID", fmt.Sprintf(" Kp: %.2f Ki: %.2f Kd: %.2f", kp, 2*kp/tu, kp*tu/8))
	} else {
		r.said = append(r.said, line)
	}
	if r.cycle >= r.cycles {
		r.said, r.done = append(r.said, "PID Autotune finished! Put the last Kp, Ki and Kd constants from above into the firmware."), true
	}
}

// tune carries out M303.
func (b *Board) tune(c *command) func() bool {
	h, target, cycles := b.nozzle, c.words['S'], 5
	if e, ok := c.words['E']; ok && e < 0 {
		h = b.bed
	} else if ok && e > 0 {
		b.say("PID Autotune failed! Bad heater id")
		return nil
	}
	if n, ok := c.words['C']; ok && n >= 3 {
		cycles = int(n)
	}
	if !(target > 0) || target > h.Max-15 {
		b.say("PID Autotune failed! Temperature too high")
		return nil
	}
	b.say("PID Autotune start")
	r := &relay{target: target, cycles: cycles, bias: 0.5, d: 0.5}
	h.target, h.tuning = 0, r
	return func() bool {
		for _, line := range r.said {
			b.say("%s", line)
		}
		r.said = nil
		if r.done || b.interrupt {
			h.tuning, h.target = nil, 0
			return true
		}
		return false
	}
}

// constants carries out M301 and M304, or tells the constants.
func (b *Board) constants(h *heater, c *command) {
	for letter, k := range map[byte]*float64{'P': &h.KP, 'I': &h.KI, 'D': &h.KD} {
		if v, ok := c.words[letter]; ok && !math.IsNaN(v) {
			*k = v / 255
		}
	}
	b.say("echo: p:%.2f i:%.2f d:%.2f", h.KP*255, h.KI*255, h.KD*255)
}
