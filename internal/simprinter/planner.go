package simprinter

import "math"

// firstWait is how long, in seconds, the first move of an empty planner waits
// for others to be planned with it.
const firstWait = 0.1

// enough is how many moves begin without waiting for more.
const enough = 3

// move is one straight move in the planner.
type move struct {
	from, to [4]float64
	length   float64
	speed    float64 // mm/s wanted
	accel    float64
	joint    float64 // highest speed at its start
	entry    float64
	filament float64 // mm pushed
	flow     float64 // mm³/s while it is made
	begins   float64 // s; known once it has begun
	ends     float64
	begun    bool
}

// planner holds the moves not yet made and makes them one after another.
type planner struct {
	Motion
	moves []move
	slots int
	ready float64 // the first move may begin then
	back  float64 // filament that was drawn back, mm
}

func (p *planner) full() bool { return len(p.moves) >= p.slots }

// add plans a move; feed in mm/s, pushed the share of its filament that is
// really pushed.
func (p *planner) add(now float64, from, to [4]float64, feed, pushed float64) {
	m := move{from: from, to: to, speed: max(feed, 0.05), filament: (to[3] - from[3]) * pushed}
	var d [4]float64
	for i := range d {
		d[i] = to[i] - from[i]
	}
	m.length = math.Sqrt(d[0]*d[0] + d[1]*d[1] + d[2]*d[2])
	if m.length < 1e-9 {
		m.length = math.Abs(d[3])
	}
	if m.length < 1e-9 {
		return
	}
	m.accel = p.Travelling
	switch {
	case d[0] == 0 && d[1] == 0 && d[2] == 0:
		m.accel = p.Retracting
	case d[3] != 0:
		m.accel = p.Laying
	}
	for i := range d {
		if share := math.Abs(d[i]) / m.length; share > 0 {
			m.speed = min(m.speed, p.Speed[i]/share)
			m.accel = min(m.accel, p.Acceleration[i]/share)
		}
	}
	if n := len(p.moves); n > 0 {
		m.joint = p.joint(&p.moves[n-1], &m)
	} else {
		p.ready = now + firstWait
		if p.Deviation == 0 {
			m.joint = p.start(&m)
			m.entry = m.joint
		}
	}
	if p.moves = append(p.moves, m); len(p.moves) == enough {
		p.hurry(now)
	}
	p.plan()
}

// joint is the speed at which b may follow a.
func (p *planner) joint(a, b *move) float64 {
	top := min(a.speed, b.speed)
	if p.Deviation > 0 {
		return min(top, p.rounded(a, b))
	}
	factor := 1.0
	for i := range a.from {
		before := (a.to[i] - a.from[i]) / a.length * top
		after := (b.to[i] - b.from[i]) / b.length * top
		jump := math.Abs(after - before)
		if before*after < 0 { // it stands still between
			jump = max(math.Abs(before), math.Abs(after))
		}
		if jump > p.Rest[i] {
			factor = min(factor, p.Rest[i]/jump)
		}
	}
	return top * factor
}

// rounded is the speed on a circle that leaves the corner by no more than the deviation;
// where both moves are part of a curve, what keeps the machine on it.
func (p *planner) rounded(a, b *move) float64 {
	way := func(m *move) (v [4]float64, n float64) {
		for i := range v {
			v[i] = m.to[i] - m.from[i]
			n += v[i] * v[i]
		}
		return v, math.Sqrt(n)
	}
	va, na := way(a)
	vb, nb := way(b)
	dot, change := 0.0, [4]float64{}
	for i := range va {
		dot += va[i] * vb[i] / na / nb
		change[i] = math.Abs(vb[i]/nb - va[i]/na)
	}
	angle := math.Acos(min(max(dot, -1), 1)) // by which it turns
	if angle > math.Pi-2e-3 {
		return 0
	}
	if angle < 2e-3 {
		return math.Inf(1)
	}
	accel, chord := b.accel, 2*math.Sin(angle/2)
	for i := range change {
		if c := change[i] / chord; c*accel > p.Acceleration[i] {
			accel = p.Acceleration[i] / c
		}
	}
	c := math.Cos(angle / 2)
	squared := accel * p.Deviation * c / (1 - c)
	if b.length < 1 && angle < math.Pi/4 {
		squared = min(squared, accel*b.length/angle)
	}
	return math.Sqrt(squared)
}

// start is the speed to which a move may jump from rest.
func (p *planner) start(m *move) float64 {
	speed := m.speed
	for i := range m.from {
		if share := math.Abs(m.to[i]-m.from[i]) / m.length; share > 0 {
			speed = min(speed, p.Rest[i]/share)
		}
	}
	return speed
}

// plan gives every move that has not begun the highest entry speed from which
// the machine can still stop at the end of what it knows.
func (p *planner) plan() {
	exit := 0.0
	for i := len(p.moves) - 1; i > 0; i-- {
		m := &p.moves[i]
		if m.begun || i == 1 && p.moves[0].begun {
			break // the move under way has its exit speed already
		}
		m.entry = min(m.joint, math.Sqrt(exit*exit+2*m.accel*m.length))
		exit = m.entry
	}
	for i := 0; i+1 < len(p.moves); i++ {
		m, next := &p.moves[i], &p.moves[i+1]
		if next.begun || i == 0 && m.begun {
			continue
		}
		next.entry = min(next.entry, math.Sqrt(m.entry*m.entry+2*m.accel*m.length))
	}
}

// next is when the planner wants to be advanced; +Inf if it rests.
func (p *planner) next() float64 {
	switch {
	case len(p.moves) == 0:
		return math.Inf(1)
	case p.moves[0].begun:
		return p.moves[0].ends
	}
	return p.ready
}

// hurry lets a first move begin without waiting for others.
func (p *planner) hurry(now float64) {
	if len(p.moves) > 0 && !p.moves[0].begun {
		p.ready = min(p.ready, now)
	}
}

// advance begins and ends moves up to now and hands each that has ended to made.
func (p *planner) advance(now float64, made func(*move)) {
	for len(p.moves) > 0 {
		m := &p.moves[0]
		if !m.begun {
			if p.ready > now {
				return
			}
			p.begin(m)
		}
		if m.ends > now {
			return
		}
		made(m)
		p.ready = m.ends
		p.moves = append(p.moves[:0], p.moves[1:]...)
	}
}

// mostBack is the filament that is drawn back and still molten, mm.
const mostBack = 10.0

func (p *planner) begin(m *move) {
	exit := 0.0
	if len(p.moves) > 1 {
		exit = p.moves[1].entry
	}
	peak := max(min(m.speed, math.Sqrt((2*m.accel*m.length+m.entry*m.entry+exit*exit)/2)), m.entry, exit)
	ramps := (2*peak*peak - m.entry*m.entry - exit*exit) / (2 * m.accel)
	seconds := (2*peak-m.entry-exit)/m.accel + max(m.length-ramps, 0)/peak
	m.begun, m.begins, m.ends = true, p.ready, p.ready+seconds
	const section = math.Pi / 4 * 1.75 * 1.75 // mm²
	out := max(m.filament-p.back, 0)          // what was drawn back is molten already
	p.back = min(max(p.back-m.filament, 0), mostBack)
	m.flow = out * section / seconds
}

// at is where the machine is now, given where it rests when it does not move.
func (p *planner) at(now float64, rest [4]float64) [4]float64 {
	if len(p.moves) == 0 {
		return rest
	}
	m := &p.moves[0]
	if !m.begun {
		return m.from
	}
	share := min(max((now-m.begins)/(m.ends-m.begins), 0), 1)
	var out [4]float64
	for i := range out {
		out[i] = m.from[i] + (m.to[i]-m.from[i])*share
	}
	return out
}
