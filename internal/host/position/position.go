// Package position follows where the printer is: what it says of that, and where the
// lines that it has taken lead.
package position

import (
	"time"

	"diathermon/internal/core/gcode"
	"diathermon/internal/core/heat"
	"diathermon/internal/core/run"
	"diathermon/internal/core/wire"
	"diathermon/internal/host/part"
)

// Now is where the printer says it is.
type Now struct {
	At    time.Time
	Where gcode.Position // as it says it, in the frame that G92 has set
	Place gcode.Position // the same in the machine's own frame
	Homed [3]bool
	Known bool // it has said so since it was connected
}

// Took is what the last line that the printer has taken does.
type Took struct {
	Heats  bool    // it gives a heater a setpoint
	Pushed float64 // filament that it pushes out, mm
}

// A Position is the part.
type Position struct {
	part.Plain
	loop  *part.Loop
	now   Now
	moved bool // since everyone was told
	point run.Point
	line  gcode.Line
	took  Took
	since []string // taken since Await; nil: nobody awaits anything
}

// New returns the part.
func New(loop *part.Loop) *Position { return &Position{loop: loop} }

// Now is where the printer says it is.
func (p *Position) Now() Now { return p.now }

// Point is where the lines lead that the printer has taken.
func (p *Position) Point() *run.Point { return &p.point }

// Await lets Set say where the lines have led that have been taken by now, whatever is taken
// before it is called.
func (p *Position) Await() { p.since = []string{} }

// Forgo ends what Await began: nobody is going to say it.
func (p *Position) Forgo() { p.since = nil }

// Set says where the lines have led.
func (p *Position) Set(at run.Point) {
	since := p.since
	p.point, p.since = at, nil
	for _, command := range since {
		p.take(command)
	}
}

// Took is what the last line that the printer has taken does.
func (p *Position) Took() Took { return p.took }

// Hear follows lines and reports.
func (p *Position) Hear(event any) bool {
	switch e := event.(type) {
	case *wire.Event:
		switch e.Kind {
		case wire.Acked:
			if p.since != nil {
				p.since = append(p.since, e.Request.Command)
			}
			p.take(e.Request.Command)
		case wire.Heard:
			if !e.Own && (e.Reply.Kind == wire.OK || e.Reply.Kind == wire.Report) {
				p.report(e.Reply.Text)
			}
		}
	case part.Forgotten:
		p.now, p.point, p.moved, p.since = Now{}, run.Point{}, true, nil
	}
	return false
}

// take follows a line that the printer has taken.
func (p *Position) take(command string) {
	p.took = Took{}
	if p.line.Parse([]byte(command)) != nil {
		return
	}
	_, _, p.took.Heats = run.Setpoint(&p.line, p.point.Tool)
	before := p.point.At[gcode.E] + p.point.Shift[gcode.E]
	p.point.Apply(&p.line)
	if p.line.Letter == 'G' && p.line.Number <= 3 {
		p.took.Pushed = p.point.At[gcode.E] + p.point.Shift[gcode.E] - before
	}
}

func (p *Position) report(text string) {
	where, ok := wire.ParsePosition(text)
	if !ok || heat.ParseReport(text) != nil { // a report of temperatures is nothing else
		return
	}
	place := where
	for axis := gcode.X; axis <= gcode.Z; axis++ {
		place[axis] += p.point.Shift[axis]
	}
	p.now = Now{At: time.Now(), Where: where, Place: place, Homed: p.point.Homed, Known: true}
	p.moved = true
	p.loop.Measured("X %.2f Y %.2f Z %.2f E %.2f", where[0], where[1], where[2], where[3])
}

// Tick tells everyone of a new position.
func (p *Position) Tick() {
	if p.moved {
		p.moved = false
		p.loop.Publish(p.now)
	}
}
