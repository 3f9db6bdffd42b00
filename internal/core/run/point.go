package run

import (
	"bufio"
	"cmp"
	"fmt"
	"io"
	"maps"

	"diathermon/internal/core/gcode"
	"diathermon/internal/core/heat"
)

// A Point is all that the lines said so far have set: where the machine is
// asked to be, its modes and its heat. The zero Point is that of a firmware after
// its start.
type Point struct {
	gcode.State
	Setpoints   map[heat.Heater]float64 `json:",omitempty"` // °C, of the heaters that were given one
	Speed, Flow float64                 `json:",omitempty"` // M220 and M221 in percent; 0 is as after a start: 100
	Advance     *float64                `json:",omitempty"` // M900, s; nil: no line has said it. What it points to never changes
}

// Factors are what multiplies what lines say, as far as lines have said it.
func (p Point) Factors() map[gcode.Code]float64 {
	out := map[gcode.Code]float64{{Letter: 'M', Number: 220}: cmp.Or(p.Speed, 100), {Letter: 'M', Number: 221}: cmp.Or(p.Flow, 100)}
	if p.Advance != nil {
		out[gcode.Code{Letter: 'M', Number: 900}] = *p.Advance
	}
	return out
}

// Apply carries the point over one line.
func (p *Point) Apply(l *gcode.Line) {
	if h, v, ok := Setpoint(l, p.Tool); ok {
		if p.Setpoints == nil {
			p.Setpoints = map[heat.Heater]float64{}
		}
		p.Setpoints[h] = v
	}
	if v, ok := l.Value('S'); ok && l.Is('M', 220) {
		p.Speed = v
	} else if ok && l.Is('M', 221) {
		p.Flow = v
	}
	if k, ok := l.Value('K'); ok && l.Is('M', 900) {
		p.Advance = &k
	}
	p.State.Apply(l)
}

// Clone returns a copy that shares nothing with p.
func (p Point) Clone() Point {
	p.Setpoints = maps.Clone(p.Setpoints)
	return p
}

// Nozzle returns the setpoint of the tool in use, in °C.
func (p Point) Nozzle() float64 { return p.Setpoints[heat.NozzleOf(p.Tool)] }

// Commands returns a function that returns the commands of a file one after
// another, and false at its end. It reads no further than it must, in blocks.
func Commands(file io.Reader) func() (string, bool) {
	in, ok := file.(*bufio.Reader)
	if !ok {
		in = bufio.NewReaderSize(file, 64<<10)
	}
	return func() (string, bool) {
		for {
			line, err := in.ReadBytes('\n')
			if command := gcode.Command(line); len(command) > 0 {
				return string(command), true
			}
			if err != nil {
				return "", false
			}
		}
	}
}

// Replay takes the first commands of a file, which next tells, and returns the point they
// lead to.
func Replay(next func() (string, bool), commands int) (Point, error) {
	var p Point
	var l gcode.Line
	for n := range commands {
		command, ok := next()
		if !ok {
			return p, fmt.Errorf("the file has %d commands and %d were said", n, commands)
		}
		if l.Parse([]byte(command)) == nil {
			p.Apply(&l)
		}
	}
	return p, nil
}

// Waits reports whether a line that gives a setpoint waits until it is reached.
func Waits(l *gcode.Line) bool { return l.Code().Traits()&gcode.Awaits != 0 }

// SetpointOf is Setpoint of a command that is not parsed yet.
func SetpointOf(command string) (heat.Heater, float64, bool) {
	var l gcode.Line
	if l.Parse([]byte(command)) != nil {
		return "", 0, false
	}
	return Setpoint(&l, 0)
}

// Setpoint tells which heater a line gives a setpoint and what it is, or false
// for any other line. Tool is the one in use.
func Setpoint(l *gcode.Line, tool int) (heat.Heater, float64, bool) {
	if l.Letter != 'M' {
		return "", 0, false
	}
	code := l.Code()
	if code.Traits()&gcode.Gives == 0 {
		return "", 0, false
	}
	var h heat.Heater
	switch code.Setpoints()[0].Of {
	case gcode.Bed:
		h = heat.Bed
	case gcode.Chamber:
		h = heat.Chamber
	default:
		if t, ok := l.Value('T'); ok && t >= 0 && t < 16 {
			tool = int(t)
		}
		h = heat.NozzleOf(tool)
	}
	v, ok := l.Value('S')
	if r, given := l.Value('R'); given && (!ok || r > v) {
		v, ok = r, true
	}
	return h, v, ok
}
