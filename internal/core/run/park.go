package run

import (
	"maps"
	"math"
	"slices"
	"strconv"

	"diathermon/internal/core/gcode"
	"diathermon/internal/core/heat"
)

// Parking is how the nozzle leaves the part and comes back. Lengths are mm,
// feeds mm/s.
type Parking struct {
	Bed      [3]float64 // width, depth and height that can be reached
	Retract  float64    // filament drawn back
	Lift     float64    // above the part
	Prime    float64    // filament pushed out before coming back, besides what was drawn back
	Travel   float64    // feed of X and Y
	Climb    float64    // feed of Z
	Filament float64    // feed of the filament
}

// Ordinary is how parking is done where nothing else is configured. It is gentle
// enough for a slow Z and a stiff filament.
func Ordinary(bed [3]float64) Parking {
	return Parking{Bed: bed, Retract: 2, Lift: 10, Prime: 3, Travel: 100, Climb: 8, Filament: 25}
}

// Part is the box in which a file lays plastic, mm.
type Part struct {
	Min, Max [3]float64
	Empty    bool
}

const (
	// Melting is the temperature in °C below which filament must not be moved.
	Melting = 170.0

	clearance = 8.0 // mm between a parked nozzle and the part
	margin    = 5.0 // mm from the ends of the axes
	gently    = 5.0 // mm/s at which filament is primed
)

// sheet collects commands with numbers as G-code writes them.
type sheet []string

func (s *sheet) say(command string) { *s = append(*s, command) }

// move says a straight move; a NaN coordinate is left out, a feed of 0 too.
func (s *sheet) move(code string, x, y, z, e, feed float64) {
	line := code
	for i, v := range []float64{x, y, z, e} {
		if !math.IsNaN(v) {
			line += " " + string(gcode.Letters[i]) + decimal(v)
		}
	}
	if feed > 0 {
		line += " F" + decimal(feed*60)
	}
	s.say(line)
}

// decimal writes a number to a ten-thousandth and without an exponent.
func decimal(v float64) string {
	v = math.Round(v*1e4) / 1e4
	return strconv.FormatFloat(v+0, 'f', -1, 64) // + 0: no "-0"
}

var no = math.NaN()

// Knows reports whether the machine's place is known, so that it may be moved.
func (p Point) Knows() bool { return p.Homed == [3]bool{true, true, true} }

// place is where the nozzle waits: the corner farthest from the part that is
// clear of it, or straight above where it is.
func (k Parking) place(at gcode.Position, part Part) (x, y float64) {
	x, y = at[gcode.X], at[gcode.Y]
	best := 0.0
	for _, corner := range [][2]float64{{margin, k.Bed[1] - margin}, {margin, margin}, {k.Bed[0] - margin, k.Bed[1] - margin}, {k.Bed[0] - margin, margin}} {
		away := math.Inf(1)
		if !part.Empty {
			dx := max(part.Min[0]-corner[0], corner[0]-part.Max[0], 0)
			dy := max(part.Min[1]-corner[1], corner[1]-part.Max[1], 0)
			away = math.Hypot(dx, dy)
		}
		if away >= clearance && away > best+1 {
			best, x, y = away, corner[0], corner[1]
		}
	}
	return x, y
}

// above is the height to which the nozzle is lifted.
func (k Parking) above(z float64) float64 { return max(min(z+k.Lift, k.Bed[2]), z) }

// Hold returns the commands that take the nozzle off the part: filament drawn
// back, lifted, aside, fan off. Heaters stay. Hot tells whether filament may be
// moved. A machine whose place is not known is left where it is.
func (k Parking) Hold(at Point, hot bool, part Part) []string {
	var s sheet
	if !at.Knows() {
		return nil
	}
	k.letGo(&s, "G90", hot)
	k.leave(&s, at, part)
	if at.Fan > 0 {
		s.say("M107")
	}
	return s
}

// letGo takes up millimetres and relative filament, with absolute or relative
// words as mode says, and draws filament back if that may be moved.
func (k Parking) letGo(s *sheet, mode string, hot bool) {
	s.say("G21")
	s.say(mode)
	s.say("M83")
	if hot {
		s.move("G1", no, no, no, -k.Retract, k.Filament)
	}
}

// leave lifts the nozzle and moves it aside, in absolute millimetres.
func (k Parking) leave(s *sheet, at Point, part Part) {
	here := at.Machine()
	s.move("G1", no, no, k.above(here[gcode.Z])-at.Shift[gcode.Z], no, k.Climb)
	if x, y := k.place(here, part); x != here[gcode.X] || y != here[gcode.Y] {
		s.move("G0", x-at.Shift[gcode.X], y-at.Shift[gcode.Y], no, no, k.Travel)
	}
}

// Park returns the commands that lift the nozzle and take it to the corner farthest from
// where it is, between prints.
func (k Parking) Park(at Point) []string {
	var s sheet
	if !at.Knows() {
		return nil
	}
	s.say("G21")
	s.say("G90")
	here := at.Machine()
	k.leave(&s, at, Part{Min: [3]float64(here[:3]), Max: [3]float64(here[:3])})
	s.modes(at)
	return s
}

// Resume returns the commands that undo Hold: heat, wait, prime, come back to the
// point exactly, with its modes, feed, fan and count of filament. Drawn tells
// whether Hold drew filament back. Here is where the nozzle was moved to meanwhile: from
// there it first goes back to where it was parked, above the part, so that it neither
// meets the part nor primes onto it.
func (k Parking) Resume(at, here Point, drawn bool, part Part) []string {
	var s sheet
	if at.Knows() && here.Knows() {
		k.aside(&s, at, here, part)
	}
	for _, h := range slices.Sorted(maps.Keys(here.Setpoints)) { // what was heated meanwhile, and is not the run's
		if here.Setpoints[h] > 0 && at.Setpoints[h] <= 0 {
			s.say(heat.SetCommand(h, 0))
		}
	}
	heatUp(&s, at)
	if !at.Knows() {
		return s
	}
	if at.Fan <= 0 && here.Fan > 0 {
		s.say("M107")
	}
	s.say("G21")
	s.say("G90")
	s.say("M83")
	prime := drawn && at.Nozzle() >= Melting
	if prime {
		s.move("G1", no, no, no, k.Retract+k.Prime, gently)
		s.move("G1", no, no, no, -k.Retract, k.Filament)
	}
	s.back(k, at, prime)
	return s
}

// near is how far from its place the nozzle may be and is there all the same, mm.
const near = 0.01

// aside moves the nozzle to where Hold parks it, unless it is there.
func (k Parking) aside(s *sheet, at, here Point, part Part) {
	from, park := here.Machine(), at.Machine()
	up := k.above(park[gcode.Z])
	x, y := k.place(park, part)
	low, off := from[gcode.Z] < up-near, math.Hypot(from[gcode.X]-x, from[gcode.Y]-y) > near
	if !low && !off {
		return
	}
	s.say("G21")
	s.say("G90")
	if low {
		s.move("G1", no, no, up-here.Shift[gcode.Z], no, k.Climb)
	}
	if off {
		s.move("G0", x-here.Shift[gcode.X], y-here.Shift[gcode.Y], no, no, k.Travel)
	}
}

// heatUp waits for the setpoints of a point, the bed's first.
func heatUp(s *sheet, at Point) {
	if v := at.Setpoints[heat.Bed]; v > 0 {
		s.say("M190 S" + decimal(v))
	}
	if v := at.Setpoints[heat.Chamber]; v > 0 {
		s.say("M141 S" + decimal(v))
	}
	for tool := range 16 {
		if v := at.Setpoints[heat.NozzleOf(tool)]; v > 0 && tool != at.Tool {
			s.say(heat.SetCommand(heat.NozzleOf(tool), v))
		}
	}
	if v := at.Nozzle(); v > 0 {
		s.say("M109 S" + decimal(v))
	}
}

// back goes to a point from above and puts everything as it was there.
func (s *sheet) back(k Parking, at Point, drawn bool) {
	if at.Fan > 0 {
		s.say("M106 S" + decimal(math.Round(at.Fan*255)))
	}
	s.move("G0", at.At[gcode.X], at.At[gcode.Y], no, no, k.Travel)
	s.move("G1", no, no, at.At[gcode.Z], no, k.Climb)
	if drawn {
		s.move("G1", no, no, no, k.Retract, k.Filament)
	}
	s.say("G92 E" + decimal(at.At[gcode.E]))
	s.modes(at)
}

// modes puts feed, units and relative or absolute words as they were.
func (s *sheet) modes(at Point) {
	if at.Feed > 0 {
		s.say("G1 F" + decimal(at.Feed*60))
	}
	if at.Relative {
		s.say("G91")
	}
	if at.RelativeExtruder {
		s.say("M83")
	} else {
		s.say("M82")
	}
	if at.Plane != gcode.XY {
		s.say("G" + strconv.Itoa(17+int(at.Plane)))
	}
	if at.Inches {
		s.say("G20")
	}
}

// Stop returns the commands that leave a part for good, with heaters and fans just
// turned off. At may be uncertain in X and Y.
func (k Parking) Stop(at Point, hot bool, part Part) []string {
	var s sheet
	if !at.Knows() {
		return nil
	}
	k.letGo(&s, "G91", hot)
	here := at.Machine()
	if lift := k.above(here[gcode.Z]) - here[gcode.Z]; lift > 0 {
		s.move("G1", no, no, lift, no, k.Climb)
	}
	s.say("G90")
	if x, y := k.place(here, part); x != here[gcode.X] || y != here[gcode.Y] {
		s.move("G0", x-at.Shift[gcode.X], y-at.Shift[gcode.Y], no, no, k.Travel)
	}
	return s
}
