// Package motion tells how long moves take on a machine with limited
// acceleration, looking ahead as a firmware's planner does.
//
// It promises times, in seconds and in the order of the moves; it leaves to
// toolpath what the moves draw.
package motion

import (
	"math"

	"diathermon/internal/core/gcode"
)

// Limits are what the machine's axes can do. All four are indexed by
// gcode.Axis.
type Limits struct {
	Feed         gcode.Position // highest speed, mm/s
	Acceleration gcode.Position // mm/s²
	Print        float64        // acceleration of a move that extrudes, mm/s²
	Travel       float64        // acceleration of one that does not, mm/s²
	Deviation    float64        // how far a corner may be cut, mm: sets the speed through it
}

// Ordinary are the limits of a common bed-slinging machine, used where the
// printer has not said its own.
var Ordinary = Limits{
	Feed:         gcode.Position{300, 300, 12, 60},
	Acceleration: gcode.Position{3000, 3000, 100, 5000},
	Print:        1000,
	Travel:       1500,
	Deviation:    0.02,
}

// Slowest are limits that hardly any machine is below, for what must not be thought
// to be over too soon.
var Slowest = Limits{
	Feed:         gcode.Position{100, 100, 3, 25},
	Acceleration: gcode.Position{500, 500, 50, 500},
	Print:        500,
	Travel:       500,
	Deviation:    0.02,
}

// block is one move in the planner.
type block struct {
	length       float64 // mm
	nominal      float64 // mm/s
	acceleration float64 // mm/s²
	junction     float64 // highest speed at its start, mm/s
	entry        float64 // planned speed at its start, mm/s
	unit         gcode.Position
	tag          int
}

// lookAhead is how many moves are planned together. Firmwares hold 16 to 64.
const lookAhead = 32

// A Planner adds up the time of moves. Done is called with each move's tag and
// duration in seconds once that is certain, in order.
type Planner struct {
	Limits Limits
	Done   func(tag int, seconds float64)
	queue  []block
}

// block returns a move as the machine can make it; false if it has no length.
func (l Limits) block(m gcode.Move) (block, bool) {
	length := m.Length()
	if length < 1e-6 {
		return block{}, false
	}
	b := block{length: length, nominal: max(m.Feed, 0.1)}
	b.acceleration = l.Travel
	if m.Extrusion() > 0 {
		b.acceleration = l.Print
	}
	for axis := range b.unit {
		b.unit[axis] = (m.To[axis] - m.From[axis]) / length
		if share := math.Abs(b.unit[axis]); share > 1e-9 {
			b.nominal = min(b.nominal, l.Feed[axis]/share)
			b.acceleration = min(b.acceleration, l.Acceleration[axis]/share)
		}
	}
	return b, true
}

// Alone is how long a move takes from rest to rest, in seconds: the longest that it
// may take among others.
func (l Limits) Alone(m gcode.Move) float64 {
	b, moves := l.block(m)
	if !moves {
		return 0
	}
	return trapezoid(b.length, 0, b.nominal, 0, b.acceleration)
}

// Add plans a move and remembers tag for it.
func (p *Planner) Add(m gcode.Move, tag int) {
	b, moves := p.Limits.block(m)
	if !moves {
		p.Wait(0, tag)
		return
	}
	b.tag = tag
	if n := len(p.queue); n > 0 {
		b.junction = corner(p.queue[n-1], b, p.Limits.Deviation)
	}
	p.queue = append(p.queue, b)
	if len(p.queue) >= 2*lookAhead {
		p.settle(lookAhead)
	}
}

// Wait adds a pause during which the machine stands still.
func (p *Planner) Wait(seconds float64, tag int) {
	p.Flush()
	p.Done(tag, seconds)
}

// Flush brings the machine to a stop and accounts for every move.
func (p *Planner) Flush() { p.settle(len(p.queue)) }

// corner is the speed at which one move may turn into the next: that of a
// circle which touches both and stays within deviation of the corner.
func corner(a, b block, deviation float64) float64 {
	cosine := -(a.unit[gcode.X]*b.unit[gcode.X] + a.unit[gcode.Y]*b.unit[gcode.Y] + a.unit[gcode.Z]*b.unit[gcode.Z])
	top := min(a.nominal, b.nominal)
	if cosine < -0.9999 {
		return top
	}
	if cosine > 0.9999 {
		return 0
	}
	half := math.Sqrt((1 - cosine) / 2)
	if half > 0.9999 {
		return top
	}
	return min(top, math.Sqrt(min(a.acceleration, b.acceleration)*deviation*half/(1-half)))
}

// settle plans the queue and accounts for its first n moves.
func (p *Planner) settle(n int) {
	if n == 0 {
		return
	}
	q := p.queue
	next := 0.0 // the machine stops after the last known move
	for i := len(q) - 1; i > 0; i-- {
		q[i].entry = min(q[i].junction, math.Sqrt(next*next+2*q[i].acceleration*q[i].length))
		next = q[i].entry
	}
	for i := 0; i+1 < len(q); i++ {
		q[i+1].entry = min(q[i+1].entry, math.Sqrt(q[i].entry*q[i].entry+2*q[i].acceleration*q[i].length))
	}
	for i := range n {
		exit := 0.0
		if i+1 < len(q) {
			exit = q[i+1].entry
		}
		p.Done(q[i].tag, trapezoid(q[i].length, q[i].entry, q[i].nominal, exit, q[i].acceleration))
	}
	p.queue = append(q[:0], q[n:]...)
}

// trapezoid is the time in seconds of a move over length that enters and leaves
// at the given speeds and speeds up to nominal if there is room.
func trapezoid(length, entry, nominal, exit, acceleration float64) float64 {
	peak := min(nominal, math.Sqrt((2*acceleration*length+entry*entry+exit*exit)/2))
	peak = max(peak, entry, exit)
	up := (peak*peak - entry*entry) / (2 * acceleration)
	down := (peak*peak - exit*exit) / (2 * acceleration)
	cruise := max(length-up-down, 0)
	return (peak-entry)/acceleration + (peak-exit)/acceleration + cruise/peak
}
