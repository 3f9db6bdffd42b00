package simprinter

import "math"

// Limits of the machine's axes X, Y, Z and E.
var (
	topSpeed     = [4]float64{300, 300, 12, 60}      // mm/s
	acceleration = [4]float64{3000, 3000, 100, 5000} // mm/s²
	restSpeed    = [4]float64{8, 8, 0.4, 5}          // mm/s an axis may change at once
	laying       = 1000.0                            // mm/s² of moves that lay plastic
	travelling   = 1500.0                            // mm/s² of moves that do not
)

// firstWait is how long, in seconds, the first move of an empty planner waits
// for others to be planned with it.
const firstWait = 0.1

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
	m.accel = travelling
	if d[3] > 0 {
		m.accel = laying
	}
	for i := range d {
		if share := math.Abs(d[i]) / m.length; share > 0 {
			m.speed = min(m.speed, topSpeed[i]/share)
			m.accel = min(m.accel, acceleration[i]/share)
		}
	}
	if n := len(p.moves); n > 0 {
		m.joint = joint(&p.moves[n-1], &m)
	} else {
		p.ready = now + firstWait
	}
	p.moves = append(p.moves, m)
	p.plan()
}

// joint is the speed at which b may follow a: no axis may jump by more than its
// rest speed.
func joint(a, b *move) float64 {
	top := min(a.speed, b.speed)
	factor := 1.0
	for i := range a.from {
		before := (a.to[i] - a.from[i]) / a.length * top
		after := (b.to[i] - b.from[i]) / b.length * top
		if jump := math.Abs(after - before); jump > restSpeed[i] {
			factor = min(factor, restSpeed[i]/jump)
		}
	}
	return top * factor
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
