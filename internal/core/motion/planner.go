package motion

import (
	"math"

	"diathermon/internal/core/gcode"
)

// A Planner adds up the time of moves. Done is called with each move's tag and
// duration in seconds once that is certain, in order; a move that is made of several
// is told of as often.
type Planner struct {
	Limits Limits
	Done   func(tag int, seconds float64)

	blocks []block // those that have not begun, behind those that have
	oldest int     // the place of the first that has not
	moving bool    // the last of blocks has not come to rest
	entry  float64 // speed, squared, at which the oldest begins
}

// passed is how many blocks that have begun are kept at the most.
const passed = 1024

// Add plans a straight move and remembers tag for it.
func (p *Planner) Add(m *gcode.Move, tag int) {
	dx, dy, dz := m.To[0]-m.From[0], m.To[1]-m.From[1], m.To[2]-m.From[2]
	length := math.Sqrt(dx*dx + dy*dy + dz*dz)
	if length == 0 {
		length = math.Abs(m.To[gcode.E] - m.From[gcode.E])
	}
	b, moves := p.Limits.block(m, length)
	if !moves {
		return
	}
	b.tag = tag
	if p.moving {
		b.junction = p.Limits.turn(&p.blocks[len(p.blocks)-1], &b)
	} else {
		p.entry = p.Limits.start(&b)
	}
	if len(p.blocks)-p.oldest >= max(p.Limits.Ring-1, 1) {
		p.begin()
	}
	if p.oldest > passed {
		p.blocks = append(p.blocks[:0], p.blocks[p.oldest:]...)
		p.oldest = 0
	}
	p.blocks, p.moving = append(p.blocks, b), true
	p.replan()
}

// replan finds the highest speed at the start of each block from which the machine can
// still stop at the end of what is known, from the newest block back to one that
// cannot become faster any more.
func (p *Planner) replan() {
	next := 0.0
	for i := len(p.blocks) - 1; i > p.oldest; i-- {
		b := &p.blocks[i]
		was := b.back
		b.back = min(b.junction, next+2*b.acceleration*b.length)
		if i < len(p.blocks)-1 && b.back <= was {
			return
		}
		next = b.back
	}
}

// begin lets the oldest block be made: from then on the speed at its end stands.
func (p *Planner) begin() {
	b := &p.blocks[p.oldest]
	p.oldest++
	exit := 0.0
	if p.oldest < len(p.blocks) {
		exit = min(p.blocks[p.oldest].back, p.entry+2*b.acceleration*b.length)
	}
	p.Done(b.tag, trapezoid(b.length, math.Sqrt(p.entry), b.nominal, math.Sqrt(exit), b.acceleration))
	p.entry = exit
}

// Wait adds a pause during which the machine stands still.
func (p *Planner) Wait(seconds float64, tag int) {
	p.Flush()
	p.Done(tag, seconds)
}

// Flush brings the machine to a stop and accounts for every move.
func (p *Planner) Flush() {
	for p.oldest < len(p.blocks) {
		p.begin()
	}
	p.blocks, p.oldest, p.moving = p.blocks[:0], 0, false
}

// turn is the highest speed, squared, at which one move may turn into the next.
func (l *Limits) turn(a, b *block) float64 {
	if l.Deviation > 0 {
		return l.corner(a, b)
	}
	return l.jump(a, b)
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
func (l *Limits) corner(a, b *block) float64 {
	var turn gcode.Position
	cosine := 0.0
	for axis := range turn {
		u, v := a.unit[axis]*a.norm, b.unit[axis]*b.norm
		cosine -= u * v
		turn[axis] = v - u
	}
	if cosine > backwards {
		return 0
	}
	top := min(a.nominal, b.nominal)
	top *= top
	if cosine < -backwards {
		return top
	}
	acceleration := b.acceleration
	long := math.Sqrt(2 + 2*cosine) // length of turn
	for axis, d := range turn {
		if d = math.Abs(d); d*acceleration > l.Acceleration[axis]*long {
			acceleration = l.Acceleration[axis] * long / d
		}
	}
	half := math.Sqrt((1 - cosine) / 2)
	speed := acceleration * l.Deviation * half / (1 - half)
	if b.length < shortMove && cosine < curving {
		x := 1 + cosine // the angle by its series, to a part in ten thousand
		speed = min(speed, b.length*acceleration/(math.Sqrt(2*x)*(1+x*(1.0/12+x*(3.0/160+x*5.0/896)))))
	}
	return min(top, speed)
}

// start is the speed, squared, to which a block may jump from rest.
func (l *Limits) start(b *block) float64 {
	if l.Deviation > 0 {
		return 0
	}
	speed := b.nominal
	for axis, u := range b.unit {
		if share := math.Abs(u); share*speed > l.Jerk[axis] {
			speed = l.Jerk[axis] / share
		}
	}
	return speed * speed
}

// jump is the highest speed, squared, at which one move may turn into the next: no axis
// changes its speed by more than its jerk; one that turns back passes through rest, so
// that what counts is the greater of its speeds.
func (l *Limits) jump(a, b *block) float64 {
	speed := min(a.nominal, b.nominal)
	for axis := range l.Jerk {
		out, in := a.unit[axis], b.unit[axis]
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
