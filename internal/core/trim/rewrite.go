package trim

import (
	"bytes"
	"maps"
	"math"
	"slices"
	"strconv"

	"diathermon/internal/core/gcode"
	"diathermon/internal/core/heat"
)

// A Rewriter takes a file's commands one after another and says what they become. Until
// the first change it does not read them. It is for one goroutine.
type Rewriter struct {
	file  File
	rest  Schedule // changes that are still to come
	now   Trim
	past  []Trim // that have held before; never changed in place
	reads bool   // something has been changed
	n     int    // commands so far

	is   gcode.State // where the file leads
	line gcode.Line
	said struct {
		feed float64 // mm/s; 0: none yet
		e, z float64 // mm, in the frames of G92
	}
	given map[heat.Heater]float64 // °C: the file's own setpoints so far; never changed in place, so that a copy of the rewriter keeps its own
	tool  int                     // in use
	accel Accel                   // as the file has it, or the printer where the file has said nothing
	leaving
	owed float64 // mm of filament that a relative E could not say
	base float64 // mm of height that G92 has taken in
	out  []byte
}

// New returns a rewriter at the beginning of a file.
func New(f File, s Schedule) *Rewriter {
	return &Rewriter{file: f, rest: s, accel: f.Has, tool: f.Tool, reads: len(f.Objects) > 0}
}

// Next is a change from the next command on. Lead is where the lines so far lead.
func (r *Rewriter) Next(t Trim, lead gcode.State) Change {
	c := Change{From: r.n, Trim: t, Has: r.accel}
	if !r.reads && len(r.rest.upTo(r.n)) == 0 {
		c.Lead = lead
	}
	return c
}

// Take makes a change and returns what is to be said at once: what the lines so far have
// given otherwise. It is told against what the file has, so that it leads to nothing that
// neither file nor change has. Setpoints are what the lines that have been said lead to: a
// heater that somebody has turned off stays off.
func (r *Rewriter) Take(c Change, setpoints map[heat.Heater]float64) (out []string) {
	before := r.now
	r.rest = r.rest.And(c)
	r.turn()
	for _, h := range slices.Sorted(maps.Keys(r.given)) {
		is := r.now.Setpoint(h, r.given[h], r.first())
		if at := setpoints[h]; at > 0 && is > 0 && at != is && is != before.Setpoint(h, r.given[h], r.first()) {
			out = append(out, give(h, is))
		}
	}
	if r.is.Fan > 0 && (before.FanLeast != r.now.FanLeast || before.fanMost() != r.now.fanMost()) {
		out = append(out, blow(r.now.fan(r.is.Fan*255)))
	}
	if is := r.accel.within(r.now.Acceleration); is != r.accel.within(before.Acceleration) {
		if line := is.line(); line != "" {
			out = append(out, line)
		}
	}
	return out
}

// Mend is what is to be said to a printer that has kept its place, where what was to be said
// besides the file's lines was lost: it has what an earlier change, or the first layer, gave,
// and what holds is another. Setpoints and fan, 0 to 1, are what it was given. What somebody
// has set by hand, or turned off, stays.
func (r *Rewriter) Mend(setpoints map[heat.Heater]float64, fan float64) (out []string) {
	r.turn()
	was := func(of func(Trim) bool) bool { return slices.ContainsFunc(append(r.past, r.now), of) }
	for _, h := range slices.Sorted(maps.Keys(r.given)) {
		file, at := r.given[h], setpoints[h]
		earlier := func(t Trim) bool { return t.Setpoint(h, file, false) == at || t.Setpoint(h, file, true) == at }
		if is := r.now.Setpoint(h, file, r.first()); at > 0 && is > 0 && at != is && was(earlier) {
			out = append(out, give(h, is))
		}
	}
	level, is := math.Round(fan*255), r.now.fan(r.is.Fan*255)
	if earlier := func(t Trim) bool { return t.fan(r.is.Fan*255) == level }; r.reads && r.is.Fan > 0 && level > 0 && level != is && was(earlier) {
		out = append(out, blow(is))
	}
	return out
}

// blow is the line that gives the part fan a level, 0 to 255.
func blow(level float64) string { return "M106 S" + strconv.FormatFloat(level, 'f', 0, 64) }

// Anew is what a printer is to be told that has forgotten everything, so that it
// accelerates as the lines so far have it; empty: nothing, or it is not known.
func (r *Rewriter) Anew() string {
	if r.now.Acceleration == 0 {
		return ""
	}
	return r.accel.within(r.now.Acceleration).line()
}

// Leave is what lets a printer accelerate again as the file has it; empty: it does.
func (r *Rewriter) Leave() string {
	if r.accel.within(r.now.Acceleration) == r.accel {
		return ""
	}
	return r.accel.line()
}

// Typed takes a line that a person says besides the file's: with what it lets the printer
// accelerate is what it is given back.
func (r *Rewriter) Typed(command string) {
	if r.line.Parse([]byte(command)) == nil && r.line.Code().Is('M', 204) {
		r.accel.set(&r.line)
	}
}

// At is how many commands have been taken.
func (r *Rewriter) At() int { return r.n }

// first reports whether the first layer is drawn.
func (r *Rewriter) first() bool { return r.file.Second > 0 && r.n < r.file.Second }

// Through returns the commands of a file as they become.
func (r *Rewriter) Through(next func() (string, bool)) func() (string, bool) {
	return func() (string, bool) {
		command, ok := next()
		if !ok {
			return "", false
		}
		return r.Line(command), true
	}
}

// Setpoints are those that hold behind the commands so far: what was said besides, as a
// change was made or the first layer ended, is among them.
func (r *Rewriter) Setpoints() map[heat.Heater]float64 {
	r.turn()
	out := map[heat.Heater]float64{}
	for h, v := range r.given {
		out[h] = r.now.Setpoint(h, v, r.first())
	}
	return out
}

// heaterOf is the heater that a line gives a setpoint.
func heaterOf(l *gcode.Line, tool int) heat.Heater {
	switch l.Code().Setpoints()[0].Of {
	case gcode.Bed:
		return heat.Bed
	case gcode.Chamber:
		return heat.Chamber
	}
	if t, ok := l.Value('T'); ok && t >= 0 && t < 16 {
		tool = int(t)
	}
	return heat.NozzleOf(tool)
}

// Line returns what the next command of the file becomes.
func (r *Rewriter) Line(command string) string {
	r.turn()
	if len(r.file.Objects) > 0 {
		r.follow(command)
	}
	became := command
	if letter := command[0] &^ 0x20; (r.reads || letter == 'M' && len(command) > 4 || letter == 'T') && r.line.Parse([]byte(command)) == nil && r.line.Letter != 0 {
		r.note()
		if r.reads {
			became = r.change(command)
		}
	}
	r.n++
	return became
}

// note keeps of a line what a change needs that is made behind it.
func (r *Rewriter) note() {
	l := &r.line
	switch code := l.Code(); {
	case l.Letter == 'T':
		r.tool = l.Number
	case code.Is('M', 204):
		r.accel.set(l)
	case code.Traits()&gcode.Gives != 0 && (l.Has('S') || l.Has('R')):
		given := maps.Clone(r.given)
		if given == nil {
			given = map[heat.Heater]float64{}
		}
		given[heaterOf(l, r.tool)] = max(value(l, 'S'), value(l, 'R'))
		r.given = given
	}
}

// turn makes the changes that hold from the next command on.
func (r *Rewriter) turn() {
	for len(r.rest) > 0 && r.rest[0].From <= r.n {
		c := r.rest[0]
		if !r.reads {
			r.reads, r.is = true, c.Lead
			r.said.feed, r.said.e, r.said.z = r.is.Feed, r.is.At[gcode.E], r.is.At[gcode.Z]
		}
		if r.accel.Print == 0 {
			r.accel.Print = c.Has.Print
		}
		if r.accel.Travel == 0 {
			r.accel.Travel = c.Has.Travel
		}
		r.past = append(r.past[:len(r.past):len(r.past)], r.now)
		r.now, r.rest = c.Trim, r.rest[1:]
	}
}

// change is the command as the trim has it.
func (r *Rewriter) change(command string) string {
	l := &r.line
	code := l.Code()
	switch {
	case moves(l):
		if r.skips() {
			return r.leaveOut()
		}
		return r.move(command)
	case code.Is('G', 92), code.Is('G', 28):
		return r.frame(command)
	case code.Traits()&gcode.Gives != 0:
		return r.heats(command)
	case code.Is('M', 106) && (!l.Has('P') || value(l, 'P') == 0) && !l.Has('T'):
		return r.fan(command)
	case code.Is('M', 204), code.Is('M', 201):
		return r.accelerates(command)
	}
	r.is.Apply(l)
	return command
}

func value(l *gcode.Line, letter byte) float64 {
	v, _ := l.Value(letter)
	return v
}

// What is said is this close to what is meant: mm/s, and mm.
const (
	feedStep = 1e-4
	step     = 1e-6
)

// move trims speed, flow and height of a move.
func (r *Rewriter) move(command string) string {
	l := &r.line
	from, said, owed := r.is, r.said, r.owed
	unit := 1.0
	if r.is.Inches {
		unit = 25.4
	}
	r.is.Apply(l)
	to := &r.is.At
	along := from.At[gcode.X] != to[gcode.X] || from.At[gcode.Y] != to[gcode.Y] || l.Number >= 2
	pushed := to[gcode.E] - from.At[gcode.E]
	lays := along && pushed > 0
	back := r.away // moves were left out before it: it says itself where it leads
	r.away = false
	r.draw(pushed)
	w := writer{text: append(r.out[:0], command...)}

	// Height: as soon as something is laid, and wherever the file says one.
	z, up := l.Value('Z')
	if want := max(to[gcode.Z]+r.now.Height-r.base, min(to[gcode.Z], 0)); up || back || lays && l.Number <= 1 && math.Abs(want-said.z) > step {
		v := want
		if r.is.Relative {
			v -= said.z
		}
		if !up || math.Abs(v-z*unit) > step {
			w.set('Z', v/unit, 4)
		}
		r.said.z = want
	}
	if lays {
		r.top = max(r.top, r.said.z)
	}
	if back && l.Number <= 1 && !r.is.Relative {
		for axis := gcode.X; axis <= gcode.Y; axis++ {
			if !l.Has(gcode.Letters[axis]) {
				w.set(gcode.Letters[axis], to[axis]/unit, 5)
			}
		}
	}

	// Filament: what is laid as the trim wants it, anything else as the file has it.
	if e, has := l.Value('E'); has {
		if e *= unit; lays {
			pushed *= r.now.flow()
		}
		if r.is.RelativeExtruder {
			wanted := pushed + owed
			if v := math.Round(wanted/unit*1e5) / 1e5 * unit; math.Abs(wanted-e) > step {
				w.set('E', v/unit, 5)
				r.owed = wanted - v
				wanted = v
			} else {
				r.owed = 0
			}
			r.said.e = said.e + wanted
		} else if want := said.e + pushed; math.Abs(want-e) > step {
			w.set('E', want/unit, 5)
			r.said.e = math.Round(want/unit*1e5) / 1e5 * unit
		} else {
			r.said.e = e
		}
	}

	// Speed.
	if want := r.is.Feed; want > 0 {
		if lays {
			want *= r.now.speed()
		}
		given, has := l.Value('F')
		if given = given * unit / 60; has && math.Abs(given-want) > feedStep || !has && math.Abs(said.feed-want) > feedStep {
			w.set('F', want*60/unit, 3)
		}
		r.said.feed = want
	}
	text, fits := w.done()
	if r.out = text; !fits { // too long for a printer: as the file has it, which the next line makes good
		r.said = said
		r.owed = owed
		r.plain(l, unit)
		return command
	}
	if !w.changed {
		return command
	}
	return string(text)
}

// plain follows a move that is said as the file has it.
func (r *Rewriter) plain(l *gcode.Line, unit float64) {
	for letter, at := range map[byte]*float64{'E': &r.said.e, 'Z': &r.said.z} {
		if v, ok := l.Value(letter); ok {
			relative := letter == 'Z' && r.is.Relative || letter == 'E' && r.is.RelativeExtruder
			if v *= unit; relative {
				v += *at
			}
			*at = v
		}
	}
	if v, ok := l.Value('F'); ok && v > 0 {
		r.said.feed = v * unit / 60
	}
}

// frame follows what sets a new frame.
func (r *Rewriter) frame(command string) string {
	l := &r.line
	raised := r.said.z - r.is.At[gcode.Z] // higher than the file has it
	r.is.Apply(l)
	all := !l.Has('X') && !l.Has('Y') && !l.Has('Z') && !l.Has('E')
	if l.Number == 28 {
		if all || l.Has('Z') {
			r.said.z, r.base = r.is.At[gcode.Z], 0
		}
		return command
	}
	if all || l.Has('Z') {
		r.base += raised
		r.top += r.is.At[gcode.Z] - r.said.z
		r.said.z = r.is.At[gcode.Z]
	}
	if all || l.Has('E') {
		r.said.e, r.owed = r.is.At[gcode.E], 0
	}
	return command
}

// heats trims a setpoint.
func (r *Rewriter) heats(command string) string {
	l := &r.line
	h := heaterOf(l, r.tool)
	w := writer{text: append(r.out[:0], command...)}
	for _, letter := range []byte{'S', 'R'} {
		if v, ok := l.Value(letter); ok {
			if became := r.now.Setpoint(h, v, r.first()); became != v {
				w.set(letter, became, 1)
			}
		}
	}
	return r.take(command, &w)
}

// fan keeps the part fan within its bounds where the file has it on.
func (r *Rewriter) fan(command string) string {
	r.is.Apply(&r.line)
	level := 255.0
	if v, ok := r.line.Value('S'); ok {
		level = v
	}
	w := writer{text: append(r.out[:0], command...)}
	if level > 0 {
		if became := r.now.fan(level); became != level {
			w.set('S', became, 0)
		}
	}
	return r.take(command, &w)
}

// accelerates keeps the file's accelerations within the trim's.
func (r *Rewriter) accelerates(command string) string {
	w := writer{text: append(r.out[:0], command...)}
	if r.now.Acceleration > 0 {
		letters := "PRTS"
		if r.line.Number == 201 {
			letters = "XY"
		}
		for _, letter := range []byte(letters) {
			if v, ok := r.line.Value(letter); ok && v > r.now.Acceleration {
				w.set(letter, r.now.Acceleration, 0)
			}
		}
	}
	return r.take(command, &w)
}

// take is what a writer has written, where a printer takes it.
func (r *Rewriter) take(command string, w *writer) string {
	text, fits := w.done()
	r.out = text
	if !w.changed || !fits {
		return command
	}
	return string(text)
}

// Between is what is to be said before the next command of the file, besides, once every
// line before it has been said: setpoints that hold for the first layer alone end with it.
func (r *Rewriter) Between() (out []string) {
	if !r.reads || r.n == 0 || r.n != r.file.Second {
		return nil
	}
	r.turn()
	for _, h := range slices.Sorted(maps.Keys(r.now.First)) {
		if r.now.First[h] != 0 && r.given[h] > 0 {
			out = append(out, give(h, r.now.Setpoint(h, r.given[h], false)))
		}
	}
	return out
}

// give is the line that gives a heater a setpoint, °C, and does not wait for it.
func give(h heat.Heater, setpoint float64) string {
	v := "S" + strconv.FormatFloat(math.Round(setpoint*10)/10, 'f', -1, 64)
	switch tool, nozzle := h.Tool(); {
	case nozzle:
		return "M104 T" + strconv.Itoa(tool) + " " + v
	case h == heat.Bed:
		return "M140 " + v
	}
	return "M141 " + v
}

// A writer changes words of a plain line, in which every letter stands once.
type writer struct {
	text    []byte
	changed bool
}

// set gives a word another number, with so many decimals at most; one that is not there
// comes behind all others.
func (w *writer) set(letter byte, v float64, decimals int) {
	w.changed = true
	number := strconv.AppendFloat(make([]byte, 0, 24), v, 'f', decimals, 64)
	if bytes.IndexByte(number, '.') >= 0 {
		number = bytes.TrimRight(bytes.TrimRight(number, "0"), ".")
	}
	if string(number) == "-0" {
		number = number[1:]
	}
	for i := 1; i < len(w.text); i++ {
		if w.text[i]&^0x20 != letter {
			continue
		}
		end := i + 1
		for end < len(w.text) && (w.text[end] >= '0' && w.text[end] <= '9' || bytes.IndexByte([]byte("+-."), w.text[end]) >= 0) {
			end++
		}
		tail := append([]byte(nil), w.text[end:]...)
		w.text = append(append(w.text[:i+1], number...), tail...)
		return
	}
	w.text = append(append(append(w.text, ' '), letter), number...)
}

// done is the line, and whether it is as short as printers take it.
func (w *writer) done() ([]byte, bool) {
	if len(w.text) > gcode.MaxLine && w.changed {
		w.text = bytes.ReplaceAll(w.text, []byte(" "), nil)
	}
	return w.text, len(w.text) <= gcode.MaxLine
}
