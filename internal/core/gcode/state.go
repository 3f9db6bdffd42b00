package gcode

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
	Plane            Plane   // of arcs
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
	Frame Frame    `json:",omitzero"` // what else may have moved where lines lead
}

// A Move is one straight line, arc or curve asked of the machine.
type Move struct {
	From, To Position
	Feed     float64 // mm/s
	Arc      bool    // along a circle about Centre in Plane
	Clock    bool    // the arc runs clockwise
	Plane    Plane
	Centre   [2]float64 // in the plane's first and second axis
	Bend     *Bend      // along a curve in the XY plane; nil: none
}

// Apply carries the state over one parsed line. It returns the move the line
// asks for and true, or false for a line that moves nothing.
func (s *State) Apply(l *Line) (m Move, moves bool) {
	moves = s.Carry(l, &m)
	return m, moves
}

// Carry does what Apply does and sets m to the move; of a line that moves nothing, what
// m is then means nothing.
func (s *State) Carry(l *Line, m *Move) bool {
	switch l.Letter {
	case 'T':
		s.Tool = l.Number
	case 'G':
		switch l.Number {
		case 0, 1, 2, 3:
			return s.move(l, m)
		case 5:
			if l.Sub == 0 {
				s.bend(l, m)
				return true
			}
		case 17, 18, 19:
			s.Plane = Plane(l.Number - 17)
		case 20, 21:
			s.Inches = l.Number == 20
		case 28:
			s.home(l)
		case 90, 91:
			s.Relative = l.Number == 91
			s.RelativeExtruder = s.Relative
		case 92:
			if l.Sub > 0 {
				s.reframe(l)
				return false
			}
			s.redefine(l)
		case 10, 53, 54, 55, 56, 57, 58, 59:
			s.reframe(l)
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
		case 206, 218, 290, 428:
			s.reframe(l)
		}
	}
	return false
}

func (s *State) unit() float64 {
	if s.Inches {
		return 25.4
	}
	return 1
}

func (s *State) move(l *Line, m *Move) bool {
	unit := s.unit()
	if f, ok := l.Value('F'); ok && f > 0 {
		s.Feed = f * unit / 60
	}
	m.From, m.Feed, m.Arc, m.Plane, m.Bend = s.At, s.Feed, false, XY, nil
	for axis := X; axis <= E; axis++ {
		v, ok := l.Value(Letters[axis])
		if !ok {
			continue
		}
		relative := s.Relative
		if axis == E {
			relative = s.RelativeExtruder
		}
		if v *= unit; relative {
			v += s.At[axis]
		}
		s.At[axis] = v
	}
	m.To = s.At
	if l.Number == 2 || l.Number == 3 {
		m.arc(l, s.Plane, unit)
	}
	return m.From != m.To || m.Arc
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

// Extrusion is the filament the move pushes, in millimetres; negative for a
// retraction.
func (m Move) Extrusion() float64 { return m.To[E] - m.From[E] }
