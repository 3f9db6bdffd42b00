// Package motion tells how long moves take on a machine with limited acceleration, as
// the open firmwares' planners make them.
//
// A Program carries out a file's lines: what they say of the machine's limits, speed
// and retraction, where it comes to a stop, arcs as the chords they are made of. Its
// Planner is a firmware's ring of blocks: what is being made is not planned anew, and
// no more is known of what comes than the ring holds.
//
// It promises times, in seconds and in the order of the moves; it leaves to toolpath
// what the moves draw.
package motion

import (
	"math"
	"strconv"
	"strings"

	"diathermon/internal/core/gcode"
)

// Limits are what the machine's axes can do, and what it is set to. Positions are
// indexed by gcode.Axis.
type Limits struct {
	Feed         gcode.Position // highest speed, mm/s
	Acceleration gcode.Position // highest acceleration, mm/s²
	Print        float64        // acceleration of a move that extrudes, mm/s²
	Travel       float64        // of one that does not
	Retract      float64        // of one of the extruder alone
	Deviation    float64        // how far a corner may be cut, mm: sets the speed through it; 0: Jerk does
	Jerk         gcode.Position // by how much each axis may change its speed at once, mm/s
	Ring         int            // moves that the planner holds, that under way with them
	Told         bool           // by the printer: which of Deviation and Jerk it goes by is no file's to say
}

// Ordinary are the limits of a common bed-slinging machine, used where the
// printer has not said its own.
var Ordinary = Limits{
	Feed:         gcode.Position{300, 300, 12, 60},
	Acceleration: gcode.Position{3000, 3000, 100, 5000},
	Print:        1000,
	Travel:       1500,
	Retract:      1500,
	Deviation:    0.02,
	Jerk:         gcode.Position{8, 8, 0.4, 5},
	Ring:         32,
}

// Slowest are limits that hardly any machine is below, for what must not be thought
// to be over too soon.
var Slowest = Limits{
	Feed:         gcode.Position{100, 100, 3, 25},
	Acceleration: gcode.Position{500, 500, 50, 500},
	Print:        500,
	Travel:       500,
	Retract:      500,
	Deviation:    0.02,
}

// Alone is how long a move takes from rest to rest, in seconds: the longest that it
// may take among others.
func (l *Limits) Alone(m gcode.Move) float64 {
	length := m.Length()
	if length < shortest {
		return 0
	}
	var b block
	l.block(&b, &heading{}, &m, length)
	return trapezoid(b.length, 0, b.nominal, 0, b.acceleration)
}

// Set carries over what a line says of the limits (M201, M203, M204, M205, M566), as a
// file says it or a printer that lists its settings. It reports whether it was such a
// line. Firmwares that have M566 take its speeds and those of M203 for mm/min: a speed of
// M203 that no machine has in mm/s is one of theirs.
func (l *Limits) Set(line *gcode.Line) bool {
	if line.Letter != 'M' {
		return false
	}
	positive := func(letter byte, to *float64) {
		if v, ok := line.Value(letter); ok && v > 0 {
			*to = v
		}
	}
	axes := func(p *gcode.Position) {
		for axis := range p {
			positive(gcode.Letters[axis], &p[axis])
		}
	}
	switch line.Number {
	case 201:
		axes(&l.Acceleration)
	case 203:
		axes(&l.Feed)
		if x, y := l.Feed[gcode.X], l.Feed[gcode.Y]; max(x, y) >= perMinute {
			for axis := range l.Feed {
				if line.Has(gcode.Letters[axis]) {
					l.Feed[axis] /= 60
				}
			}
		}
	case 566:
		axes(&l.Jerk)
		for axis := range l.Jerk {
			if line.Has(gcode.Letters[axis]) {
				l.Jerk[axis] /= 60
			}
		}
		if !l.Told {
			l.Deviation = 0
		}
	case 204:
		if v, ok := line.Value('S'); ok && v > 0 {
			l.Print, l.Travel = v, v
		}
		positive('P', &l.Print)
		positive('R', &l.Retract)
		positive('T', &l.Travel)
	case 205:
		axes(&l.Jerk)
		if l.Told && l.Deviation > 0 || !l.Told {
			positive('J', &l.Deviation)
		}
		if !l.Told && (line.Has('X') || line.Has('Y')) { // only a firmware that goes by jerk has these
			l.Deviation = 0
		}
	default:
		return false
	}
	return true
}

// perMinute is the least speed in mm/s of X or Y that no machine has.
const perMinute = 2000

// SetNamed carries over what a named command says of the limits: SET_VELOCITY_LIMIT with
// VELOCITY, ACCEL and SQUARE_CORNER_VELOCITY, the speed through a corner of 90°. It
// reports whether it was one. At a right angle a speed v and an acceleration a cut the
// corner by v²·(√2 − 1)/a.
func (l *Limits) SetNamed(command string) bool {
	fields := strings.Fields(strings.ToUpper(command))
	if len(fields) == 0 || fields[0] != "SET_VELOCITY_LIMIT" {
		return false
	}
	corner := math.Sqrt(l.Deviation * l.Print / (math.Sqrt2 - 1))
	for _, f := range fields[1:] {
		key, value, _ := strings.Cut(f, "=")
		v, err := strconv.ParseFloat(value, 64)
		if err != nil || !(v > 0 && v < gcode.Most) {
			continue
		}
		switch key {
		case "VELOCITY":
			l.Feed[gcode.X], l.Feed[gcode.Y] = v, v
		case "ACCEL":
			l.Print, l.Travel = v, v
		case "SQUARE_CORNER_VELOCITY":
			corner = v
		}
	}
	if corner > 0 {
		l.Deviation = corner * corner * (math.Sqrt2 - 1) / l.Print
	}
	return true
}

// A move below the shortest length is none, and none is slower than the slowest.
const (
	shortest = 1e-6 // mm
	slowest  = 0.05 // mm/s
)

// A block is one straight move in the planner.
type block struct {
	length       float64 // mm
	nominal      float64 // mm/s
	acceleration float64 // mm/s²
	gained       float64 // by the blocks before it, (mm/s)²
	tag          int
}

// A heading is what the next block's junction needs of a block.
type heading struct {
	nominal float64        // mm/s
	unit    gcode.Position // direction; of a move in space with its share of filament
	way     gcode.Position // the same of length 1, filament with it
}

// block sets b and its heading h to a move over a length as the machine can make it.
func (l *Limits) block(b *block, h *heading, m *gcode.Move, length float64) {
	per := 1 / length
	for axis := range h.unit {
		h.unit[axis] = (m.To[axis] - m.From[axis]) * per
	}
	h.way = h.unit
	nominal, acceleration := m.Feed, 0.0
	if nominal < slowest {
		nominal = slowest
	}
	switch e := h.unit[gcode.E]; {
	case h.unit[0] == 0 && h.unit[1] == 0 && h.unit[2] == 0:
		acceleration = l.Retract
	case e != 0:
		acceleration = l.Print
		norm := 1 / math.Sqrt(1+e*e)
		for axis := range h.way {
			h.way[axis] *= norm
		}
	default:
		acceleration = l.Travel
	}
	for axis, u := range &h.unit {
		share := math.Abs(u)
		if share < 1e-9 {
			continue
		}
		if share*nominal > l.Feed[axis] {
			nominal = l.Feed[axis] / share
		}
		if share*acceleration > l.Acceleration[axis] {
			acceleration = l.Acceleration[axis] / share
		}
	}
	b.length, b.nominal, b.acceleration = length, nominal, acceleration
	h.nominal = nominal
}

// trapezoid is the time in seconds of a move over length that enters and leaves
// at the given speeds and speeds up to nominal if there is room.
func trapezoid(length, entry, nominal, exit, acceleration float64) float64 {
	per := 1 / acceleration
	ends := entry*entry + exit*exit
	if reach := acceleration*length + ends/2; reach < nominal*nominal { // it never cruises
		peak := max(math.Sqrt(reach), entry, exit)
		return (2*peak - entry - exit) * per
	}
	peak := max(nominal, entry, exit)
	ramps := (peak*peak - ends/2) * per
	return (2*peak-entry-exit)*per + max(length-ramps, 0)/peak
}
