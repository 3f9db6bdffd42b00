package gcode

import "math"

// Axis indexes a position: X, Y, Z in millimetres of space, E in millimetres of
// filament.
type Axis int

// The four axes, in the order of a Position.
const (
	X Axis = iota
	Y
	Z
	E
)

// Letters holds each axis's word letter.
const Letters = "XYZE"

// Position is a point in millimetres, indexed by Axis.
type Position [4]float64

// Modes are the settings that stay in force from line to line.
type Modes struct {
	Relative         bool    // G91: X, Y and Z are distances
	RelativeExtruder bool    // M83: E is a distance
	Inches           bool    // G20: words are inches
	Feed             float64 // the last F, in mm/s
	Fan              float64 // part fan, 0 to 1
	Tool             int     // the last T
}

// A State is the modal state a program has built up. The zero State is that of
// a firmware after its start: absolute, millimetres, at the origin, not homed.
type State struct {
	Modes
	At    Position // where the program has asked to be, in the frame that G92 sets
	Shift Position // what G92 has added: the machine is at At + Shift
	Homed [3]bool  // X, Y, Z have been homed
}

// A Move is one straight line or arc asked of the machine.
type Move struct {
	From, To Position
	Feed     float64 // mm/s
	Arc      bool    // along a circle about Centre in the XY plane
	Centre   [2]float64
	Clock    bool // arc runs clockwise
}

// Apply carries the state over one parsed line. It returns the move the line
// asks for and true, or false for a line that moves nothing.
func (s *State) Apply(l *Line) (Move, bool) {
	switch l.Letter {
	case 'T':
		s.Tool = l.Number
	case 'G':
		switch l.Number {
		case 0, 1, 2, 3:
			return s.move(l)
		case 20, 21:
			s.Inches = l.Number == 20
		case 28:
			s.home(l)
		case 90, 91:
			s.Relative = l.Number == 91
			s.RelativeExtruder = s.Relative
		case 92:
			s.redefine(l)
		}
	case 'M':
		switch l.Number {
		case 18, 84:
			if !l.Has('E') || l.Has('X') || l.Has('Y') || l.Has('Z') {
				s.Homed = [3]bool{}
			}
		case 82, 83:
			s.RelativeExtruder = l.Number == 83
		case 106:
			s.Fan = 1
			if v, ok := l.Value('S'); ok {
				s.Fan = min(max(v/255, 0), 1)
			}
		case 107:
			s.Fan = 0
		}
	}
	return Move{}, false
}

func (s *State) unit() float64 {
	if s.Inches {
		return 25.4
	}
	return 1
}

func (s *State) move(l *Line) (Move, bool) {
	unit := s.unit()
	if f, ok := l.Value('F'); ok && f > 0 {
		s.Feed = f * unit / 60
	}
	m := Move{From: s.At, To: s.At, Feed: s.Feed}
	for axis := X; axis <= E; axis++ {
		v, ok := l.Value(Letters[axis])
		if !ok {
			continue
		}
		relative := s.Relative
		if axis == E {
			relative = s.RelativeExtruder
		}
		if relative {
			m.To[axis] = s.At[axis] + v*unit
		} else {
			m.To[axis] = v * unit
		}
	}
	if l.Number >= 2 {
		i, hasI := l.Value('I')
		j, hasJ := l.Value('J')
		r, hasR := l.Value('R')
		switch {
		case hasI || hasJ:
			m.Arc, m.Clock = true, l.Number == 2
			m.Centre = [2]float64{m.From[X] + i*unit, m.From[Y] + j*unit}
		case hasR && r != 0:
			m.Arc, m.Clock = true, l.Number == 2
			m.Centre = centre(m.From, m.To, r*unit, m.Clock)
		}
	}
	s.At = m.To
	return m, m.From != m.To || m.Arc
}

// centre finds the middle of the arc of radius r from a to b; a negative r
// chooses the longer of the two arcs.
func centre(a, b Position, r float64, clock bool) [2]float64 {
	dx, dy := b[X]-a[X], b[Y]-a[Y]
	d := math.Hypot(dx, dy)
	if d == 0 {
		return [2]float64{a[X], a[Y]}
	}
	h := math.Sqrt(max(r*r-d*d/4, 0)) / d
	if clock != (r < 0) {
		h = -h
	}
	return [2]float64{(a[X]+b[X])/2 - dy*h, (a[Y]+b[Y])/2 + dx*h}
}

func (s *State) home(l *Line) {
	all := !l.Has('X') && !l.Has('Y') && !l.Has('Z')
	for axis := X; axis <= Z; axis++ {
		if all || l.Has(Letters[axis]) {
			s.At[axis], s.Shift[axis], s.Homed[axis] = 0, 0, true
		}
	}
}

func (s *State) redefine(l *Line) {
	unit := s.unit()
	all := !l.Has('X') && !l.Has('Y') && !l.Has('Z') && !l.Has('E')
	for axis := X; axis <= E; axis++ {
		v, ok := l.Value(Letters[axis])
		if !ok && !all {
			continue
		}
		s.Shift[axis] += s.At[axis] - v*unit
		s.At[axis] = v * unit
	}
}

// Machine is where the machine is asked to be, whatever G92 has said.
func (s *State) Machine() Position {
	var p Position
	for axis := range p {
		p[axis] = s.At[axis] + s.Shift[axis]
	}
	return p
}

// Length is the distance the move travels in space, in millimetres: along the
// arc for an arc, and the filament's for a move of the extruder alone.
func (m Move) Length() float64 {
	dz := m.To[Z] - m.From[Z]
	flat := math.Hypot(m.To[X]-m.From[X], m.To[Y]-m.From[Y])
	if m.Arc {
		flat = m.radius() * m.Sweep()
	}
	if d := math.Hypot(flat, dz); d > 0 {
		return d
	}
	return math.Abs(m.To[E] - m.From[E])
}

// Sweep is the angle of an arc in radians, from 0 (excluded) to 2π.
func (m Move) Sweep() float64 {
	from := math.Atan2(m.From[Y]-m.Centre[1], m.From[X]-m.Centre[0])
	to := math.Atan2(m.To[Y]-m.Centre[1], m.To[X]-m.Centre[0])
	sweep := to - from
	if m.Clock {
		sweep = -sweep
	}
	for sweep <= 1e-9 {
		sweep += 2 * math.Pi
	}
	return sweep
}

func (m Move) radius() float64 {
	return math.Hypot(m.From[X]-m.Centre[0], m.From[Y]-m.Centre[1])
}

// Box is what the move passes through, in millimetres of X, Y and Z: for an arc as
// far as it bulges.
func (m Move) Box() (low, high [3]float64) {
	for axis := X; axis <= Z; axis++ {
		low[axis], high[axis] = min(m.From[axis], m.To[axis]), max(m.From[axis], m.To[axis])
	}
	if !m.Arc {
		return low, high
	}
	radius, sweep := m.radius(), m.Sweep()
	from := math.Atan2(m.From[Y]-m.Centre[1], m.From[X]-m.Centre[0])
	for quarter := range 4 {
		angle := float64(quarter) * math.Pi / 2
		way := angle - from
		if m.Clock {
			way = -way
		}
		for way < 0 {
			way += 2 * math.Pi
		}
		for way >= 2*math.Pi {
			way -= 2 * math.Pi
		}
		if way > sweep {
			continue
		}
		sin, cos := math.Sincos(angle)
		for axis, v := range [2]float64{m.Centre[0] + radius*cos, m.Centre[1] + radius*sin} {
			low[axis], high[axis] = min(low[axis], v), max(high[axis], v)
		}
	}
	return low, high
}

// Extrusion is the filament the move pushes, in millimetres; negative for a
// retraction.
func (m Move) Extrusion() float64 { return m.To[E] - m.From[E] }
