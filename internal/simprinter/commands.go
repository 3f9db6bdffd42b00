package simprinter

import (
	"math"
	"strings"
)

const near = 1.0 // K from the setpoint at which a wait ends

// execute begins a command. It returns nil if the command is done at once, and
// otherwise a function that says when it is.
func (b *Board) execute(c *command) func() bool {
	word := func(letter byte, otherwise float64) float64 {
		if v, ok := c.words[letter]; ok && !math.IsNaN(v) {
			return v
		}
		return otherwise
	}
	has := func(letter byte) bool { _, ok := c.words[letter]; return ok }
	switch c.code {
	case "G0", "G1":
		return b.straight(c)
	case "G2", "G3":
		return b.arc(c)
	case "G5":
		return b.arc(c)
	case "G17", "G18", "G19":
		b.plane = map[string]int{"G17": 0, "G18": 1, "G19": 2}[c.code]
	case "G4":
		return b.dwell(word('S', word('P', 0)/1000))
	case "G10", "G11":
		return b.drawBack(c.code == "G10")
	case "G20", "G21":
		b.inches = c.code == "G20"
	case "G28":
		return b.home(c)
	case "G90", "G91":
		b.relative = c.code == "G91"
		b.relativeE = b.relative
	case "G92":
		for i, letter := range []byte("XYZE") {
			if has(letter) || len(c.words) == 0 {
				b.origin[i] = b.planned[i] - word(letter, 0)*b.unit()
			}
		}
	case "M17":
	case "M18", "M84":
		return b.settled(func() { b.homed = [3]bool{} })
	case "M82", "M83":
		b.relativeE = c.code == "M83"
	case "M104", "M109":
		b.nozzle.target = min(max(word('S', word('R', b.nozzle.target)), 0), b.cfg.Nozzle.Max-15)
		if c.code == "M109" {
			return b.warm(b.nozzle, has('R'))
		}
	case "M140", "M190":
		b.bed.target = min(max(word('S', word('R', b.bed.target)), 0), b.cfg.Bed.Max-5)
		if c.code == "M190" {
			return b.warm(b.bed, has('R'))
		}
	case "M112":
		b.kill("Printer halted. kill() called!")
	case "M410":
		if b.cfg.Dialect.Queued {
			b.quickStop()
		}
	case "M105", "M114", "M115": // answered with the ok, or beside it
	case "M110", "M108", "M117", "T0", "M73", "M75", "M76", "M77", "M300", "M486":
	case "M106":
		b.fan = min(max(word('S', 255)/255, 0), 1)
	case "M107":
		b.fan = 0
	case "M119":
		b.endstops()
	case "M118":
		b.say("echo:%s", c.argument())
	case "M154":
		b.posEvery = word('S', 0)
		b.posNext = b.now + b.posEvery
	case "M155":
		b.heatEvery = word('S', 0)
		b.heatNext = b.now + b.heatEvery
	case "M201", "M203", "M204", "M205", "M207", "M208", "M566":
		b.tuneMotion(c)
	case "M503":
		b.tell()
	case "M211":
		b.ends()
	case "M220":
		b.speed = min(max(word('S', 100), 10), 999) / 100
	case "M221":
		b.flow = min(max(word('S', 100), 10), 999) / 100
	case "M301":
		b.constants(b.nozzle, c)
	case "M303":
		return b.tune(c)
	case "M304":
		b.constants(b.bed, c)
	case "M500":
		b.cfg.Nozzle, b.cfg.Bed = b.nozzle.Heater, b.bed.Heater
		b.say("echo:Settings Stored")
	case "M355":
		if b.light = min(max(word('P', 255)/255, 0), 1); word('S', 1) == 0 {
			b.light = 0
		}
		b.say("echo:Case light: %.0f", 255*b.light)
	case "M400":
		return b.settled(func() {})
	default:
		if b.cfg.Dialect.Words.name(unknown) == "code" {
			b.word(unknown, strings.TrimLeft(c.code, "GMT"))
			break
		}
		b.word(unknown, c.text)
	}
	return nil
}

func (b *Board) unit() float64 {
	if b.inches {
		return 25.4
	}
	return 1
}

// capabilities says what the board can do.
func (b *Board) capabilities() {
	caps := []struct {
		name string
		on   bool
	}{
		{"SERIAL_XON_XOFF", b.cfg.Dialect.Pausing}, {"AUTOREPORT_TEMP", !b.cfg.Dialect.Asked}, {"AUTOREPORT_POS", !b.cfg.Dialect.Asked},
		{"PROGRESS", false}, {"EMERGENCY_PARSER", !b.cfg.Dialect.Queued}, {"BUSY_PROTOCOL", b.cfg.Dialect.Words.text(working) != ""}, {"CHAMBER_TEMPERATURE", false},
		{"TOGGLE_LIGHTS", true}, {"CASE_LIGHT_BRIGHTNESS", true},
	}
	for _, c := range caps {
		on := 0
		if c.on {
			on = 1
		}
		b.say("Cap:%s:%d", c.name, on)
	}
	if b.cfg.Dialect.Telling {
		b.say("Cap:RX_BUFFER_SIZE:%d", b.cfg.ReceiveBuffer)
		b.say("Cap:BUFSIZE:%d", b.cfg.CommandSlots)
	}
}

// overrun is how far beyond its size an axis can go, mm.
const overrun = 5

// target reads where a move goes, from its words and the modes in force.
func (b *Board) target(c *command) [4]float64 {
	to := b.planned
	for i, letter := range []byte("XYZE") {
		v, ok := c.words[letter]
		if !ok || math.IsNaN(v) {
			continue
		}
		v *= b.unit()
		relative := b.relative
		if i == 3 {
			relative = b.relativeE
		}
		if relative {
			to[i] += v
		} else {
			to[i] = v + b.origin[i]
		}
	}
	cut := false
	for i := range 3 { // the ends of the axes
		if end := min(max(to[i], -overrun), b.cfg.Size[i]+overrun); b.homed[i] && end != to[i] {
			to[i], cut = end, true
		}
	}
	if cut {
		b.cut++
	}
	if to[3] > b.planned[3] && b.nozzle.seen() < b.cfg.Coldest {
		b.say("echo: cold extrusion prevented")
		b.origin[3] += b.planned[3] - to[3] // the firmware counts it as pushed
		to[3] = b.planned[3]
	}
	if f, ok := c.words['F']; ok && f > 0 {
		b.feed = f * b.unit() / 60
	}
	return to
}

func (b *Board) straight(c *command) func() bool {
	return func() bool {
		if b.planner.full() {
			return false
		}
		to := b.target(c)
		b.fed()
		b.planner.add(b.now, b.planned, to, b.feed*b.speed, b.flow)
		b.planned = to
		return true
	}
}

// arc makes a G2, G3 or G5 of short straight moves.
func (b *Board) arc(c *command) func() bool {
	var points [][4]float64
	prepared := false
	return func() bool {
		if !prepared {
			points, prepared = b.points(c), true
		}
		for len(points) > 0 {
			if b.planner.full() {
				return false
			}
			b.fed()
			b.planner.add(b.now, b.planned, points[0], b.feed*b.speed, b.flow)
			b.planned, points = points[0], points[1:]
		}
		return true
	}
}

// leastSegments is how many straight moves a whole circle has at the least; others are
// a millimetre long.
const leastSegments = 24

// points are the ends of those.
func (b *Board) points(c *command) [][4]float64 {
	if c.code == "G5" {
		return b.curvePoints(c)
	}
	// The axes of the plane, and the letters of the centre.
	axes := [3][2]int{{0, 1}, {2, 0}, {1, 2}}[b.plane]
	letters := "IJK"
	u, v := axes[0], axes[1]
	from, to := b.planned, b.target(c)
	cu, cv := from[u]+c.words[letters[u]]*b.unit(), from[v]+c.words[letters[v]]*b.unit()
	if r := c.words['R'] * b.unit(); r != 0 {
		du, dv := to[u]-from[u], to[v]-from[v]
		d := math.Hypot(du, dv)
		h := math.Sqrt(math.Max(r*r-d*d/4, 0)) / d
		if (c.code == "G2") != (r < 0) {
			h = -h
		}
		cu, cv = (from[u]+to[u])/2-dv*h, (from[v]+to[v])/2+du*h
	}
	radius := math.Hypot(from[u]-cu, from[v]-cv)
	start := math.Atan2(from[v]-cv, from[u]-cu)
	turn := math.Atan2(to[v]-cv, to[u]-cu) - start
	if c.code == "G2" {
		for turn >= -1e-9 {
			turn -= 2 * math.Pi
		}
	} else {
		for turn <= 1e-9 {
			turn += 2 * math.Pi
		}
	}
	n := max(int(math.Abs(turn)*radius), int(math.Ceil(leastSegments*math.Abs(turn)/2/math.Pi-1e-9)), 1)
	points := make([][4]float64, 0, n)
	for i := 1; i < n; i++ {
		share := float64(i) / float64(n)
		p := from
		for axis := range p {
			p[axis] += (to[axis] - from[axis]) * share
		}
		angle := start + turn*share
		p[u], p[v] = cu+radius*math.Cos(angle), cv+radius*math.Sin(angle)
		points = append(points, p)
	}
	return append(points, to)
}

// curvePoints are the ends of the straight moves that a cubic curve is made of: ten of
// them, or more, a millimetre each. The curve is halved again and again, after
// P. de Casteljau (1959).
func (b *Board) curvePoints(c *command) [][4]float64 {
	from, to := b.planned, b.target(c)
	k := b.unit()
	hull := [4][2]float64{
		{from[0], from[1]}, {from[0] + c.words['I']*k, from[1] + c.words['J']*k},
		{to[0] + c.words['P']*k, to[1] + c.words['Q']*k}, {to[0], to[1]},
	}
	place := func(share float64) [2]float64 {
		h := hull
		for left := 3; left > 0; left-- {
			for i := range left {
				for axis := range 2 {
					h[i][axis] += (h[i+1][axis] - h[i][axis]) * share
				}
			}
		}
		return h[0]
	}
	length, before := 0.0, hull[0]
	for i := 1; i <= 100; i++ {
		at := place(float64(i) / 100)
		length += math.Hypot(at[0]-before[0], at[1]-before[1])
		before = at
	}
	n := max(int(length), 10)
	var points [][4]float64
	for i := 1; i < n; i++ {
		share := float64(i) / float64(n)
		at := place(share)
		points = append(points, [4]float64{at[0], at[1], from[2] + (to[2]-from[2])*share, from[3] + (to[3]-from[3])*share})
	}
	return append(points, to)
}

// settled waits until nothing moves and then does what it is given.
func (b *Board) settled(then func()) func() bool {
	return func() bool {
		b.planner.hurry(b.now)
		b.planner.advance(b.now, b.made)
		if len(b.planner.moves) > 0 {
			return false
		}
		b.dry = 0
		then()
		return true
	}
}

func (b *Board) dwell(seconds float64) func() bool {
	still := b.settled(func() {})
	began := math.Inf(1)
	return func() bool {
		if math.IsInf(began, 1) && still() {
			began = b.now
		}
		return b.now >= began+seconds
	}
}

// home moves the named axes, or all, to their ends one after another.
func (b *Board) home(c *command) func() bool {
	var axes []int
	for i, letter := range []byte("XYZ") {
		if _, named := c.words[letter]; named {
			axes = append(axes, i)
		}
	}
	if len(axes) == 0 {
		axes = []int{0, 1, 2}
	}
	still := b.settled(func() {})
	began, takes := math.Inf(1), 0.0
	return func() bool {
		if math.IsInf(began, 1) {
			if !still() {
				return false
			}
			began = b.now
			speeds := [3]float64{50, 50, 8}
			for _, i := range axes {
				takes += math.Abs(b.rest[i])/speeds[i] + 1.5 // and the second, slow touch
			}
		}
		if b.now < began+takes {
			return false
		}
		for _, i := range axes {
			b.rest[i], b.planned[i], b.origin[i], b.homed[i] = 0, 0, 0, true
		}
		return true
	}
}

// warm waits for a heater and reports every second. A heater that is too hot is
// waited for only if both ways were asked for.
func (b *Board) warm(h *heater, bothWays bool) func() bool {
	const residency = 3.0 // s it must stay near
	said, steady := b.now, math.Inf(1)
	return func() bool {
		if b.interrupt || h.target <= 0 {
			return true
		}
		miss := h.target - h.seen()
		if miss < near && (!bothWays || miss > -near) {
			steady = min(steady, b.now)
		} else {
			steady = math.Inf(1)
		}
		if b.now >= said+1 {
			said = b.now
			if b.heatEvery == 0 {
				b.word(rising, b.temperatures())
			}
		}
		return b.now >= steady+residency
	}
}
