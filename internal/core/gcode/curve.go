package gcode

import "math"

// A Plane is one in which arcs are drawn.
type Plane uint8

// The planes, in the order of G17, G18 and G19 (NIST RS274NGC, 3.5.6).
const (
	XY Plane = iota
	ZX
	YZ
)

// Axes are the plane's first and second axis, about which an arc is counterclockwise,
// and the one through it.
func (p Plane) Axes() (first, second, through Axis) {
	switch p {
	case ZX:
		return Z, X, Y
	case YZ:
		return Y, Z, X
	}
	return X, Y, Z
}

// offsets are the letters by which an arc's centre is given for X, Y and Z.
const offsets = "IJK"

// arc makes a move an arc, if its line says where the centre is.
func (m *Move) arc(l *Line, plane Plane, unit float64) {
	a, b, _ := plane.Axes()
	i, hasI := l.Value(offsets[a])
	j, hasJ := l.Value(offsets[b])
	r, hasR := l.Value('R')
	switch {
	case hasI || hasJ:
		m.Centre = [2]float64{m.From[a] + i*unit, m.From[b] + j*unit}
	case hasR && r != 0:
		m.Centre = centre([2]float64{m.From[a], m.From[b]}, [2]float64{m.To[a], m.To[b]}, r*unit, l.Number == 2)
	default:
		return
	}
	m.Arc, m.Clock, m.Plane = true, l.Number == 2, plane
}

// centre finds the middle of the arc of radius r from a to b; a negative r
// chooses the longer of the two arcs.
func centre(a, b [2]float64, r float64, clock bool) [2]float64 {
	dx, dy := b[0]-a[0], b[1]-a[1]
	d := math.Hypot(dx, dy)
	if d == 0 {
		return a
	}
	h := math.Sqrt(max(r*r-d*d/4, 0)) / d
	if clock != (r < 0) {
		h = -h
	}
	return [2]float64{(a[0]+b[0])/2 - dy*h, (a[1]+b[1])/2 + dx*h}
}

// A Bend is the two handles, in X and Y, of a cubic Bézier curve from one end of a move
// to the other.
type Bend [2][2]float64

// bend reads a G5: I and J lead from the beginning to the first handle, P and Q from the
// end to the second.
func (s *State) bend(l *Line, m *Move) {
	s.move(l, m)
	unit := s.unit()
	handle := func(at Position, x, y byte) [2]float64 {
		dx, _ := l.Value(x)
		dy, _ := l.Value(y)
		return [2]float64{at[X] + dx*unit, at[Y] + dy*unit}
	}
	m.Bend = &Bend{handle(m.From, 'I', 'J'), handle(m.To, 'P', 'Q')}
}

// Straight reports whether the move is along a line.
func (m *Move) Straight() bool { return !m.Arc && m.Bend == nil }

// At is where a share of the way, from 0 to 1, leads; of a curve, of its parameter.
func (m *Move) At(share float64) Position {
	if share >= 1 {
		return m.To
	}
	out := m.From
	for axis := range out {
		out[axis] += (m.To[axis] - m.From[axis]) * share
	}
	switch {
	case m.Arc:
		a, b, _ := m.Plane.Axes()
		sweep := m.Sweep() * share
		if m.Clock {
			sweep = -sweep
		}
		sin, cos := math.Sincos(m.begins() + sweep)
		out[a], out[b] = m.Centre[0]+m.radius()*cos, m.Centre[1]+m.radius()*sin
	case m.Bend != nil:
		u := 1 - share
		for axis := range 2 {
			out[axis] = u*u*u*m.From[axis] + 3*u*u*share*m.Bend[0][axis] + 3*u*share*share*m.Bend[1][axis] + share*share*share*m.To[axis]
		}
	}
	return out
}

// bendSteps are the straight pieces by which a curve is measured.
const bendSteps = 64

// Length is the distance the move travels in space, in millimetres: along the
// arc for an arc, and the filament's for a move of the extruder alone.
func (m Move) Length() float64 {
	a, b, through := m.Plane.Axes()
	rise := m.To[through] - m.From[through]
	flat := math.Hypot(m.To[a]-m.From[a], m.To[b]-m.From[b])
	switch {
	case m.Arc:
		flat = m.radius() * m.Sweep()
	case m.Bend != nil:
		flat = 0
		for before, k := m.From, 1; k <= bendSteps; k++ {
			at := m.At(float64(k) / bendSteps)
			flat += math.Hypot(at[X]-before[X], at[Y]-before[Y])
			before = at
		}
	}
	if d := math.Hypot(flat, rise); d > 0 {
		return d
	}
	return math.Abs(m.To[E] - m.From[E])
}

// begins is the angle in radians at which an arc begins.
func (m *Move) begins() float64 {
	a, b, _ := m.Plane.Axes()
	return math.Atan2(m.From[b]-m.Centre[1], m.From[a]-m.Centre[0])
}

// Sweep is the angle of an arc in radians, from 0 (excluded) to 2π.
func (m Move) Sweep() float64 {
	a, b, _ := m.Plane.Axes()
	sweep := math.Atan2(m.To[b]-m.Centre[1], m.To[a]-m.Centre[0]) - m.begins()
	if m.Clock {
		sweep = -sweep
	}
	for sweep <= 1e-9 {
		sweep += 2 * math.Pi
	}
	return sweep
}

func (m *Move) radius() float64 {
	a, b, _ := m.Plane.Axes()
	return math.Hypot(m.From[a]-m.Centre[0], m.From[b]-m.Centre[1])
}

// Box is what the move passes through, in millimetres of X, Y and Z: for an arc as
// far as it bulges.
func (m Move) Box() (low, high [3]float64) {
	for axis := X; axis <= Z; axis++ {
		low[axis], high[axis] = min(m.From[axis], m.To[axis]), max(m.From[axis], m.To[axis])
	}
	pass := func(axis Axis, v float64) { low[axis], high[axis] = min(low[axis], v), max(high[axis], v) }
	switch {
	case m.Bend != nil:
		for k := 1; k < bendSteps; k++ {
			at := m.At(float64(k) / bendSteps)
			pass(X, at[X])
			pass(Y, at[Y])
		}
	case m.Arc:
		a, b, _ := m.Plane.Axes()
		radius, sweep, from := m.radius(), m.Sweep(), m.begins()
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
			pass(a, m.Centre[0]+radius*cos)
			pass(b, m.Centre[1]+radius*sin)
		}
	}
	return low, high
}
