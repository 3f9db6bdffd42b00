package motion

import (
	"math"
	"slices"

	"diathermon/internal/core/gcode"
)

// A Time is how long moves take, in seconds.
type Time struct {
	All    float64
	Steady float64 // what of it they would take at their feed rates throughout
}

// Add adds other moves' time.
func (t *Time) Add(o Time) { t.All, t.Steady = t.All+o.All, t.Steady+o.Steady }

// Less is what is left without other moves' time, of which it has as much at the least.
func (t Time) Less(o Time) Time { return Time{max(t.All-o.All, 0), max(t.Steady-o.Steady, 0)} }

// A Planner adds up the time of moves. Done is called with each move's tag and time once
// that is certain, in order; a move that is made of several is told of as often.
//
// A firmware goes back from its newest block to one that cannot become faster any more
// and finds, for the start of each, the highest speed from which the machine can still
// stop at the end of what is known. All that it uses of them is the one at which the
// next block begins when the oldest is made. In squares of speed that is the least,
// over the blocks from there on, of a block's own bound plus what all before it gain:
// the least in a window that moves on, for which no more than its candidates are kept.
type Planner struct {
	Limits Limits
	Done   func(tag int, t Time)

	ring   []block // those that have not begun lie at first&mask to (next-1)&mask
	lows   []low   // candidates for the least bound, lowest first, at lowest&mask to (after-1)&mask
	first  int
	next   int
	lowest int
	after  int
	headed [2]heading // of the last two blocks, in turn
	moving bool       // the last block has not come to rest
	gained float64    // by all blocks since the machine stood, (mm/s)²
	entry  float64    // speed, squared, at which the first begins
	enters float64    // and the speed
}

// A low is a block that may bound the speed of those before it.
type low struct {
	bound float64 // its junction's, and what is gained before it, (mm/s)²
	block int
}

// mostGained is what may be gained, (mm/s)², before it is counted anew: of a number so
// large a float64 still holds the hundred-thousandth.
const mostGained = 1e9

// Add plans a straight move and remembers tag for it.
func (p *Planner) Add(m *gcode.Move, tag int) {
	dx, dy, dz := m.To[0]-m.From[0], m.To[1]-m.From[1], m.To[2]-m.From[2]
	length := math.Sqrt(dx*dx + dy*dy + dz*dz)
	if length == 0 {
		length = math.Abs(m.To[gcode.E] - m.From[gcode.E])
	}
	if length < shortest {
		return
	}
	if p.next-p.first >= max(p.Limits.Ring-1, 1) {
		p.begin()
	}
	if p.next-p.first == len(p.ring) {
		p.grow()
	}
	b := &p.ring[p.next&(len(p.ring)-1)]
	h := &p.headed[p.next&1]
	p.Limits.block(b, h, m, length)
	b.tag = tag
	if p.moving {
		p.low(p.gained + p.Limits.turn(&p.headed[p.next&1^1], h, b))
	} else {
		p.moving, p.entry = true, p.Limits.start(b, h)
		p.enters = math.Sqrt(p.entry)
	}
	b.gained = p.gained
	p.gained += 2 * b.acceleration * b.length
	p.next++
	if p.gained > mostGained {
		p.recount()
	}
}

// low notes the next block's bound, in place of all that are not below it.
func (p *Planner) low(bound float64) {
	mask := len(p.lows) - 1
	for p.after > p.lowest && p.lows[(p.after-1)&mask].bound >= bound {
		p.after--
	}
	p.lows[p.after&mask] = low{bound, p.next}
	p.after++
}

// grow makes room for twice as many blocks.
func (p *Planner) grow() {
	ring, lows := make([]block, max(2*len(p.ring), 32)), make([]low, max(2*len(p.ring), 32))
	for i := p.first; i < p.next; i++ {
		ring[i&(len(ring)-1)] = p.ring[i&(len(p.ring)-1)]
	}
	for i := p.lowest; i < p.after; i++ {
		lows[i&(len(lows)-1)] = p.lows[i&(len(p.lows)-1)]
	}
	p.ring, p.lows = ring, lows
}

// recount takes from every sum what was gained before the first block.
func (p *Planner) recount() {
	less := p.ring[p.first&(len(p.ring)-1)].gained
	for i := p.first; i < p.next; i++ {
		p.ring[i&(len(p.ring)-1)].gained -= less
	}
	for i := p.lowest; i < p.after; i++ {
		p.lows[i&(len(p.lows)-1)].bound -= less
	}
	p.gained -= less
}

// begin lets the first block be made: from then on the speed at its end stands.
func (p *Planner) begin() {
	mask := len(p.ring) - 1
	b := &p.ring[p.first&mask]
	p.first++
	exit, exits := 0.0, 0.0
	if p.first < p.next {
		if p.lowest < p.after && p.lows[p.lowest&mask].block < p.first {
			p.lowest++
		}
		bound := p.gained // at rest at the end of what is known
		if p.lowest < p.after && p.lows[p.lowest&mask].bound < bound {
			bound = p.lows[p.lowest&mask].bound
		}
		exit = p.entry + 2*b.acceleration*b.length
		if stops := max(bound-p.ring[p.first&mask].gained, 0); stops < exit {
			exit = stops
		}
		exits = math.Sqrt(exit)
	}
	p.Done(b.tag, Time{trapezoid(b.length, p.enters, b.nominal, exits, b.acceleration), b.length / b.nominal})
	p.entry, p.enters = exit, exits
}

// Wait adds a pause during which the machine stands still.
func (p *Planner) Wait(seconds float64, tag int) {
	p.Flush()
	p.Done(tag, Time{seconds, seconds})
}

// Flush brings the machine to a stop and accounts for every move.
func (p *Planner) Flush() {
	for p.first < p.next {
		p.begin()
	}
	p.lowest, p.after, p.gained, p.moving = 0, 0, 0, false
}

// like is another planner that is where this one is, and goes on by limits of its own.
func (p *Planner) like(limits Limits, done func(tag int, t Time)) *Planner {
	other := *p
	other.Limits, other.Done = limits, done
	other.ring, other.lows = slices.Clone(p.ring), slices.Clone(p.lows)
	return &other
}

// turn is the highest speed, squared, at which one move may turn into the next.
func (l *Limits) turn(from, to *heading, b *block) float64 {
	if l.Deviation > 0 {
		return l.corner(from, to, b)
	}
	return l.jump(from, to)
}

// Constants of corner.
const (
	backwards = 0.999999 // cosine at which a corner is a turn back
	shortMove = 1.0      // mm below which a move may be part of a curve
	curving   = -0.7071  // cosine below which it is
)

// corner is the highest speed, squared, at which one move may turn into the next: that
// on a circle which touches both and stays within the deviation of the corner (S.
// Jeon's junction deviation, 2011); where short moves follow a curve, that at which
// the acceleration keeps the machine on it.
func (l *Limits) corner(from, to *heading, b *block) float64 {
	u, v := &from.way, &to.way
	cosine := -u[0]*v[0] - u[1]*v[1] - u[2]*v[2] - u[3]*v[3]
	if cosine > backwards {
		return 0
	}
	top := min(from.nominal, to.nominal)
	top *= top
	if cosine < -backwards {
		return top
	}
	acceleration := b.acceleration
	long := math.Sqrt(2 + 2*cosine) // length of the turn
	for axis := range v {
		if d := math.Abs(v[axis] - u[axis]); d*acceleration > l.Acceleration[axis]*long {
			acceleration = l.Acceleration[axis] * long / d
		}
	}
	half := math.Sqrt((1 - cosine) / 2)
	speed := acceleration * l.Deviation * half / (1 - half)
	if b.length < shortMove && cosine < curving {
		x := 1 + cosine // the angle by its series, to a part in ten thousand
		speed = min(speed, b.length*acceleration/(long*(1+x*(1.0/12+x*(3.0/160+x*5.0/896)))))
	}
	if speed > top {
		speed = top
	}
	return speed
}

// start is the speed, squared, to which a block may jump from rest.
func (l *Limits) start(b *block, h *heading) float64 {
	if l.Deviation > 0 {
		return 0
	}
	speed := b.nominal
	for axis, u := range &h.unit {
		if share := math.Abs(u); share*speed > l.Jerk[axis] {
			speed = l.Jerk[axis] / share
		}
	}
	return speed * speed
}

// jump is the highest speed, squared, at which one move may turn into the next: no axis
// changes its speed by more than its jerk; one that turns back passes through rest, so
// that what counts is the greater of its speeds.
func (l *Limits) jump(from, to *heading) float64 {
	speed := min(from.nominal, to.nominal)
	for axis := range l.Jerk {
		out, in := from.unit[axis], to.unit[axis]
		change := math.Abs(in - out)
		if out*in < 0 {
			change = max(math.Abs(out), math.Abs(in))
		}
		if change*speed > l.Jerk[axis] {
			speed = l.Jerk[axis] / change
		}
	}
	return speed * speed
}
