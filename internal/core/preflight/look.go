package preflight

import (
	"fmt"
	"math"
	"slices"

	"diathermon/internal/core/bed"
	"diathermon/internal/core/bounds"
	"diathermon/internal/core/gcode"
	"diathermon/internal/core/heat"
	"diathermon/internal/core/machine"
	"diathermon/internal/core/stock"
	"diathermon/internal/core/toolpath"
)

// How much room a disk should have, and must have, bytes: a run's journal and the
// temperature log grow by a few megabytes a day.
const (
	scarce = 256 << 20
	least  = 8 << 20
)

// slice is what to do about a file that is for another machine.
const slice = "slice it again for this printer"

// looking is a report in the making.
type looking struct {
	Facts
	Report
}

func (l *looking) add(c Check, format string, args ...any) {
	c.Title = fmt.Sprintf(format, args...)
	l.Checks = append(l.Checks, c)
}

func (l *looking) fine(k Kind, format string, args ...any) {
	l.Fine = append(l.Fine, Fine{k, fmt.Sprintf(format, args...)})
}

// Look returns what is found, blocks first.
func Look(f Facts) Report {
	l := &looking{Facts: f}
	l.machine()
	if l.readable() {
		l.fits()
		l.loaded()
		l.lines()
	}
	l.around()
	slices.SortStableFunc(l.Checks, func(a, b Check) int { return weight(a.Level) - weight(b.Level) })
	return l.Report
}

// machine looks at the printer as it is now.
func (l *looking) machine() {
	if !l.LinkLive {
		l.add(Check{Kind: Link, Level: Block, Passing: true, Do: l.LinkWhy}, "the printer is not answering")
	} else {
		l.fine(Link, "the printer answers")
	}
	if l.Busy != "" {
		l.add(Check{Kind: Busy, Level: Block, Passing: true, Do: "wait until it ends, stop it, or pick it up"}, "%s is not done yet", l.Busy)
	}
	for _, text := range l.Alarms {
		l.add(Check{Kind: Alarm, Level: Block, Passing: true, Do: "see to its cause, then acknowledge it"}, "an alarm waits for you: %s", text)
	}
	switch b := l.Bed; b.State {
	case bed.Clear:
		l.fine(Bed, "the bed is clear")
	case bed.Occupied:
		if l.Busy == "" {
			l.add(Check{Kind: Bed, Level: Block, Passing: true, Do: "take it off, then say that the bed is clear"}, "the bed is occupied: %s", b.Why)
		}
	case bed.Unknown:
		l.add(Check{Kind: Bed, Level: Block, Passing: true, Do: "look at the bed, then say that it is clear"}, "it is not known whether the bed is clear: %s", b.Why)
	}
}

// readable reports whether it is known what the file is.
func (l *looking) readable() bool {
	switch {
	case l.File.Trouble != "":
		l.add(Check{Kind: File, Level: Block, Do: "slice it again, or mend that line"}, "it cannot be printed: %s", l.File.Trouble)
	case l.File.Version != toolpath.Version:
		l.add(Check{Kind: Survey, Level: Block, Passing: true, Do: "wait a moment"}, "what it is has not been worked out yet")
	default:
		return true
	}
	return false
}

// fits looks whether the file is for a machine like this.
func (l *looking) fits() {
	file, p := &l.File, l.Printer
	before := len(l.Checks)
	for _, h := range sorted(file.Setpoints) {
		if err := p.Limits.Check(h, file.Setpoints[h]); err != nil {
			l.add(Check{Kind: Setpoint, Level: Block, Do: slice}, "the file's setpoint is out of bounds: %v", err)
		}
	}
	if len(l.Checks) == before && len(file.Setpoints) > 0 {
		l.fine(Setpoint, "every setpoint is within its limit")
	}
	tools := max(p.Tools, len(l.Slots))
	for _, h := range sorted(file.Setpoints) {
		if tool, nozzle := h.Tool(); nozzle && tool >= tools && file.Tools <= tools {
			l.add(Check{Kind: Tool, Level: Block, Do: slice}, "the file gives %s a setpoint, and this printer has %s", h, counted(tools, "tool"))
		}
	}
	if file.Tools > tools {
		l.add(Check{Kind: Tool, Level: Block, Do: slice}, "the file uses tool %d, which is the %s, and this printer has %s", file.Tools-1, ordinal(file.Tools), counted(tools, "tool"))
	}
	before = len(l.Checks)
	size := p.Size()
	for axis := gcode.X; axis <= gcode.Z && !file.Extent.Empty; axis++ {
		low, high := file.Extent.Min[axis], file.Extent.Max[axis]
		if bounds.Outside(axis, low, high, size[axis]) {
			l.add(Check{Kind: Volume, Level: Block, Do: slice}, "it does not fit: %c reaches from %.1f to %.1f mm and this printer has 0 to %.0f mm", gcode.Letters[axis], low, high, size[axis])
		}
	}
	l.reach()
	l.frame()
	if len(l.Checks) == before && !file.Extent.Empty {
		l.fine(Volume, "it fits")
	}
	if file.Extent.Empty {
		l.add(Check{Kind: Plastic, Level: Warn, Do: "start it if that is what you want"}, "the file lays no plastic")
	}
	l.melts()
	l.pins()
	if hottest := max(p.Limits.Nozzle, p.Limits.Bed, p.Limits.Chamber); file.Hidden > hottest {
		l.add(Check{Kind: Named, Level: Block, Do: slice}, "line %d has a named command with %g, which is above every limit of this printer if it is a temperature", file.HiddenLine, file.Hidden)
	}
}

// loaded looks whether nozzle and filament are those that the file is for.
func (l *looking) loaded() {
	hints, p := l.File.Hints, l.Printer
	switch {
	case hints.Nozzle <= 0 || p.Nozzle <= 0:
	case math.Abs(hints.Nozzle-p.Nozzle) > 0.01:
		l.add(Check{Kind: Nozzle, Level: Warn, Do: "see that the nozzle fits, or slice it again"}, "its comments say that it is for a nozzle of %g mm and this printer has %g mm", hints.Nozzle, p.Nozzle)
	default:
		l.fine(Nozzle, "the nozzle of %g mm is the one it is for", p.Nozzle)
	}
	if hints.Filament > 0 && p.Filament > 0 && math.Abs(hints.Filament-p.Filament) > 0.3 {
		l.add(Check{Kind: Filament, Level: Warn, Do: slice}, "its comments say that it is for filament of %g mm and this printer has %g mm", hints.Filament, p.Filament)
	}
	for tool, mm := range l.File.ByTool {
		if mm > 0 && tool < len(l.Slots) {
			l.slot(tool, l.Slots[tool], hints)
		}
	}
}

// name is what a person calls a heater: a single nozzle has no number.
func (l *looking) name(h heat.Heater) string {
	if _, nozzle := h.Tool(); nozzle && l.Printer.Tools <= 1 {
		return "the nozzle"
	}
	return string(h)
}

// in is where a slot is, as a person says it: a single one has no number.
func (l *looking) in(s stock.Slot) string {
	if l.Printer.Places() <= 1 {
		return "in the printer"
	}
	return fmt.Sprintf("in slot %d", s.Number)
}

// slot looks at what one of the file's tools would print with.
func (l *looking) slot(tool int, s stock.Slot, hints toolpath.Hints) {
	if !s.Loaded {
		l.add(Check{Kind: Slot, Level: Note, Passing: true, Do: "say what is loaded there, or load something"}, "nobody has said what is loaded %s", l.in(s))
		return
	}
	want, have := stock.Family(hints.MaterialOf(tool)), stock.Family(s.Material)
	before := len(l.Checks)
	h := heat.NozzleOf(min(tool, max(l.Printer.Tools-1, 0)))
	given := l.File.Setpoints[h]
	switch {
	case given > 0 && s.Hottest > 0 && given > s.Hottest, given > 0 && s.Coldest > 0 && given < s.Coldest:
		l.add(Check{Kind: Material, Level: Block, Overrule: true, Passing: true, Do: "load what the file is for, or slice it again for this material"},
			"the file sets %s to %g °C, and the %s %s takes %g to %g °C", l.name(h), given, s.Material, l.in(s), s.Coldest, s.Hottest)
	case want != "" && have != "" && want != have:
		l.add(Check{Kind: Material, Level: Block, Overrule: true, Passing: true, Do: "load " + want + ", print it from another slot, or slice it again for " + have},
			"its comments say that it is for %s, and %s is %s", hints.MaterialOf(tool), s.Material, l.in(s))
	}
	if s.Diameter > 0 && hints.Filament > 0 && math.Abs(hints.Filament-s.Diameter) > 0.3 {
		l.add(Check{Kind: Filament, Level: Block, Overrule: true, Passing: true, Do: "load filament of that diameter, or slice it again"},
			"its comments say that it is for filament of %g mm, and that %s has %g mm", hints.Filament, l.in(s), s.Diameter)
	}
	if len(l.Checks) == before {
		l.fine(Material, "%s is %s", s.Material, l.in(s))
	}
}

// lines looks at what was found in the file's lines.
func (l *looking) lines() {
	for _, found := range l.File.Findings {
		where := fmt.Sprintf("line %d", found.Line)
		if found.Count > 1 {
			where += fmt.Sprintf(" and %d more", found.Count-1)
		}
		kind := Line
		if found.Overrule {
			kind = Odd
		}
		l.add(Check{Kind: kind, Level: found.Level, Overrule: found.Overrule, Do: found.Do}, "%s: %s", where, found.Title)
	}
	if len(l.File.Findings) == 0 {
		l.fine(Line, "nothing is odd in its lines")
	}
}

// around looks at heaters, guards and the computer.
func (l *looking) around() {
	for _, h := range l.Unread {
		if l.LinkLive && l.File.Setpoints[h] > 0 {
			l.add(Check{Kind: Sensor, Level: Warn, Passing: true, Do: "look at Heat; if it stays so, look at the sensor's cable"}, "the printer tells no temperature of %s", h)
		}
	}
	a := l.Around
	switch {
	case a.Free >= 0 && a.Free < least:
		l.add(Check{Kind: Disk, Level: Block, Passing: true, Overrule: true, Expected: "256 MB", Do: "remove files from the shelf"}, "the host's disk has only %d MB left, too little to keep the run safe", a.Free>>20)
	case a.Free >= 0 && a.Free < scarce:
		l.add(Check{Kind: Disk, Level: Warn, Passing: true, Expected: "256 MB", Do: "remove files from the shelf"}, "the host's disk has only %d MB left", a.Free>>20)
	}
	if a.Database != "" {
		l.add(Check{Kind: Database, Level: Note, Passing: true, Do: "look at the host's log; the run is not disturbed, and nothing is lost"}, "the database takes no records, which wait on disk: %s", a.Database)
	}
	if a.Clock != "" {
		l.add(Check{Kind: Clock, Level: Warn, Passing: true, Do: "set the computer's clock, or connect it to a network"}, "this computer's clock cannot be right: %s", a.Clock)
	}
	if a.Unguarded {
		l.add(Check{Kind: Guards, Level: Note, Passing: true, Do: "stay near the printer"}, "no guard looks at the heaters")
	} else if l.LinkLive {
		l.fine(Guards, "guards watch the heaters")
	}
	if l.Sleepy != "" {
		l.add(Check{Kind: Sleep, Level: Note, Passing: true, Do: "turn sleep off in its settings, if it has any"}, "this computer cannot be kept awake: %s", l.Sleepy)
	}
}

// reach finds moves that lead out of the volume, whether something is laid there or not.
func (l *looking) reach() {
	r, size := l.File.Reach, l.Printer.Size()
	for axis := gcode.X; axis <= gcode.Z; axis++ {
		for _, end := range []struct {
			at   float64
			line int
		}{{r.Min[axis], r.MinLine[axis]}, {r.Max[axis], r.MaxLine[axis]}} {
			switch {
			case end.line == 0 || !bounds.Outside(axis, end.at, end.at, size[axis]):
			case axis == gcode.Z && end.at < 0:
				l.add(Check{Kind: Depth, Level: Block, Do: slice}, "line %d: the nozzle goes to Z %.2f mm, which is below the bed", end.line, end.at)
			default:
				l.add(Check{Kind: Travel, Level: Block, Overrule: true, Do: "slice it again, or start it all the same if your printer goes there, or stops at its ends"},
					"line %d: it moves to %c %.1f mm and this printer has 0 to %.0f mm", end.line, gcode.Letters[axis], end.at, size[axis])
			}
		}
	}
}

// frame looks whether something has moved what the printer takes its places for, since it was
// started, and the file would go by that.
func (l *looking) frame() {
	at := l.At
	if f := at.Frame; f.Unknown || f.Least != f.Most {
		l.add(Check{Kind: Frame, Level: Block, Passing: true, Do: "restart the printer, or take back by hand what has moved it; then home"}, "lines have moved the printer's frame since it was started, and it is not certain by how much")
		return
	}
	for axis := gcode.X; axis <= gcode.Z; axis++ {
		if shift := at.Shift[axis]; l.File.Unhomed[axis] && math.Abs(shift) > bounds.Deep {
			l.add(Check{Kind: Frame, Level: Block, Passing: true, Do: "home the printer"}, "the file does not home %c first, and G92 has moved it by %.1f mm", gcode.Letters[axis], shift)
		}
	}
}

// How much a hot end melts, mm³/s: more than most, and more than any.
const (
	much = 30
	most = 50
)

// melts looks whether a hot end melts as much as the file lays.
func (l *looking) melts() {
	d := l.Printer.Filament
	if d <= 0 {
		d = 1.75
	}
	switch flow := l.File.Melts * math.Pi * d * d / 4; {
	case flow > most:
		l.add(Check{Kind: Flow, Level: Block, Overrule: true, Do: "slice it again with less speed, or a filament's diameter that is right"}, "it asks for %.0f mm³ of plastic a second, which no hot end melts", flow)
	case flow > much:
		l.add(Check{Kind: Flow, Level: Warn, Do: "see that your hot end melts so much"}, "it asks for %.0f mm³ of plastic a second", flow)
	}
}

// pins looks at pins that the file switches and nobody has named as an output.
func (l *looking) pins() {
	for _, pin := range l.File.Pins {
		if slices.ContainsFunc(l.Printer.Outputs, func(o machine.Output) bool { return o.Kind == machine.Pin && o.Number == pin.Number }) {
			continue
		}
		l.add(Check{Kind: Pin, Level: Block, Overrule: true, Do: "name it as an output in the configuration if it is one; take the line out if you do not know it"}, "line %d switches pin %d, which may be a heater's", pin.Line, pin.Number)
	}
}

// ordinal is the place of the n-th of at most sixteen.
func ordinal(n int) string {
	words := []string{"first", "second", "third", "fourth"}
	if n >= 1 && n <= len(words) {
		return words[n-1]
	}
	return fmt.Sprintf("%dth", n)
}

// counted is a number with its noun.
func counted(n int, noun string) string {
	if n != 1 {
		noun += "s"
	}
	return fmt.Sprintf("%d %s", n, noun)
}

func weight(l Level) int { return slices.Index([]Level{Block, Warn, Note}, l) }

func sorted(m map[heat.Heater]float64) []heat.Heater {
	var hs []heat.Heater
	for h, v := range m {
		if !math.IsNaN(v) {
			hs = append(hs, h)
		}
	}
	slices.Sort(hs)
	return hs
}
