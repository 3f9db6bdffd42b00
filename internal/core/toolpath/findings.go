package toolpath

import (
	"fmt"
	"math"
	"slices"

	"diathermon/internal/core/bounds"
	"diathermon/internal/core/gcode"
	"diathermon/internal/core/heat"
)

// find keeps a finding about the line that is read.
func (s *scanner) find(f bounds.Finding) { s.Findings = Found(s.Findings, f, s.Lines) }

// Found adds what is found in a line to what was found before it: those like it are
// counted, and of each level no more than a person reads are kept.
func Found(before []Finding, f bounds.Finding, line int) []Finding {
	kept := 0
	for i := range before {
		if before[i].Finding == f {
			before[i].Count++
			return before
		}
		if before[i].Level == f.Level {
			kept++
		}
	}
	if kept < mostFindings {
		return append(before, Finding{f, line, 1})
	}
	f = bounds.Finding{Level: f.Level, Title: "there are more like these", Do: "look through the file"}
	for i := range before {
		if before[i].Finding == f {
			before[i].Count++
			return before
		}
	}
	return append(before, Finding{f, line, 1})
}

// unhomed finds moves of an axis whose place is not known.
func (s *scanner) unhomed(state *gcode.State, axis gcode.Axis) {
	if state.Relative {
		return
	}
	if s.Unhomed[axis] = true; s.warned {
		return
	}
	s.warned = true
	s.find(bounds.Finding{Level: bounds.Warn, Title: fmt.Sprintf("it moves %c to a place before it has homed it", gcode.Letters[axis]), Do: "put G28 before it, unless the printer is homed when you start it"})
}

// coldest is the least setpoint, °C, at which filament is pushed.
const coldest = 150

// tooCold finds plastic that is laid while the nozzle is cold.
func (s *scanner) tooCold() {
	if s.cold {
		return
	}
	h := heat.NozzleOf(s.program.Tool)
	v, given := s.now[h]
	switch {
	case !given:
		s.find(bounds.Finding{Level: bounds.Warn, Title: fmt.Sprintf("it lays plastic and has not heated %s", h), Do: "heat it before you start, or slice it again with a temperature"})
	case v >= coldest && s.waited[h] < coldest:
		s.find(bounds.Finding{Level: bounds.Block, Overrule: true, Title: fmt.Sprintf("it sets %s to %.0f °C and lays plastic without waiting for that", h, v), Do: "put M109 before it, slice it again, or heat it before you start"})
	case v < coldest:
		s.find(bounds.Finding{Level: bounds.Block, Title: fmt.Sprintf("it lays plastic with %s set to %.0f °C, which is too cold for any filament", h, v), Do: "slice it again with the filament's temperature"})
	default:
		return
	}
	s.cold = true
}

// waitedFor notes a setpoint that the file waits for.
func (s *scanner) waitedFor(h heat.Heater, v float64) {
	if s.waited == nil {
		s.waited = map[heat.Heater]float64{}
	}
	s.waited[h] = v
}

// mostPins are kept of a file.
const mostPins = 16

// pin notes a pin that the file switches.
func (s *scanner) pin(l *gcode.Line) {
	v, named := l.Value('P')
	n := int(v)
	if !named || slices.ContainsFunc(s.Pins, func(p Pin) bool { return p.Number == n }) || len(s.Pins) >= mostPins {
		return
	}
	s.Pins = append(s.Pins, Pin{n, s.Lines})
}

// arcless is how far, mm, an arc's end may be from its circle: slicers round.
const arcless = 0.5

// bowed finds an arc that cannot be: its radius does not span its chord, or its end is not on
// the circle on which it begins.
func (s *scanner) bowed(m *gcode.Move) {
	a, b, _ := m.Plane.Axes()
	from := math.Hypot(m.From[a]-m.Centre[0], m.From[b]-m.Centre[1])
	to := math.Hypot(m.To[a]-m.Centre[0], m.To[b]-m.Centre[1])
	if r, given := s.line.Value('R'); given && !s.line.Has('I') && !s.line.Has('J') && !s.line.Has('K') {
		chord, r := math.Hypot(m.To[a]-m.From[a], m.To[b]-m.From[b]), math.Abs(r)
		if s.program.State.Inches {
			r *= 25.4
		}
		if chord > 2*r+arcless {
			s.find(bounds.Finding{Level: bounds.Block, Title: "an arc's radius is too small for its ends", Do: "slice it again without arcs"})
		}
		return
	}
	if math.Abs(from-to) > arcless {
		s.find(bounds.Finding{Level: bounds.Block, Title: "an arc does not end on the circle on which it begins", Do: "slice it again without arcs"})
	}
}

// leaves finds what a file leaves behind at its end.
func (s *scanner) leaves() {
	var on []string
	for h, v := range s.now {
		if v > 0 {
			on = append(on, fmt.Sprintf("%s at %.0f °C", h, v))
		}
	}
	slices.Sort(on)
	switch {
	case s.broken && len(on) > 0:
		s.find(bounds.Finding{Level: bounds.Block, Title: "the file ends inside a line and leaves " + listed(on) + ": it was cut short", Do: "send it again; if it is whole, end its last line"})
	case s.laying && len(on) > 0:
		s.find(bounds.Finding{Level: bounds.Warn, Title: "the file ends while it lays plastic and leaves " + listed(on) + ": it may have been cut short", Do: "look at its end, or send it again"})
	case len(on) > 0:
		s.find(bounds.Finding{Level: bounds.Warn, Title: "it leaves " + listed(on), Do: "turn them off when it is done, or add M104 S0 and M140 S0 to its end"})
	}
}

// listed is "a, b and c".
func listed(items []string) string {
	out := ""
	for i, item := range items {
		switch {
		case i == 0:
		case i == len(items)-1:
			out += " and "
		default:
			out += ", "
		}
		out += item
	}
	return out
}
