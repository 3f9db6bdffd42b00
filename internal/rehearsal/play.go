package rehearsal

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"io"
	"slices"
	"strings"
	"time"

	"diathermon/internal/core/bounds"
	"diathermon/internal/core/gcode"
	"diathermon/internal/core/heat"
	"diathermon/internal/core/run"
	"diathermon/internal/core/toolpath"
	"diathermon/internal/simprinter"
)

const (
	receiveBuffer = 4096             // bytes of the stand-in's: its cable is the rehearsal's own
	coldest       = 170              // °C of the nozzle below which firmwares push no filament
	shown         = 512              // lines, or steps within one, between two looks at who waits
	longestLine   = 1 << 20          // bytes
	tick          = time.Microsecond // by which the clock goes on at the least
)

// order is that in which states are told.
var order = []run.State{run.Warming, run.Running, run.Held}

// errHalted means that the stand-in has halted.
var errHalted = errors.New("the printer has halted")

// A player rehearses one file.
type player struct {
	printer Printer
	board   *simprinter.Board
	cable   cable
	report  Report
	heaters []heat.Heater
	guards  map[heat.Heater]*heat.Guard
	last    map[heat.Heater]heat.Reading
	spans   map[heat.Heater]*heat.Roller

	line  int // of the file
	doing doing
	owed  int // oks
	state run.State
	pacing
	cut    int
	wait   wait
	passed map[gcode.Code]bool
	read   int64 // bytes of the file
	size   int64 // that it has
	told   func(Progress)
}

// doing is what a command lets the printer do.
type doing int

const (
	making doing = iota
	warming
	homing
	dwelling
)

// Play rehearses the file that body holds and of which facts are known, as if it were
// started at that time. Its findings are told with what comes of it. Progress is called
// now and then. The error is the context's, or that of reading; what a file does to the
// stand-in is no error.
func Play(ctx context.Context, body io.Reader, facts toolpath.File, p Printer, begins time.Time, progress func(Progress)) (Report, error) {
	config, learned := p.config()
	pl := &player{
		printer: p, board: simprinter.NewBoard(config), cable: cable{perByte: perByte(p.Baud)},
		guards: map[heat.Heater]*heat.Guard{}, last: map[heat.Heater]heat.Reading{}, spans: map[heat.Heater]*heat.Roller{}, passed: map[gcode.Code]bool{}, size: max(facts.Size, 1), told: progress,
		report: Report{Begins: begins, Limits: p.LimitsOf, Learned: learned, Problems: append([]toolpath.Finding(nil), facts.Findings...), Heat: map[heat.Heater][]heat.Span{}, Step: time.Second},
	}
	for _, h := range p.Machine.Heaters() {
		if h == heat.Nozzle || h == heat.Bed {
			pl.heaters = append(pl.heaters, h)
			pl.guards[h] = &heat.Guard{Heater: h, Limit: p.Machine.Limits.Of(h), Experience: p.Heaters[h].Experience.With(heat.Experience{})}
			pl.spans[h] = &heat.Roller{Step: pl.report.Step}
		}
	}
	err := pl.play(ctx, body, facts)
	if errors.Is(err, errHalted) {
		err = nil
	}
	if err == nil {
		progress(Progress{Share: 1, Line: pl.line, Clock: pl.board.Now()})
	}
	pl.report.Took = pl.board.Now()
	slices.SortStableFunc(pl.report.States, func(a, b Spell) int { return slices.Index(order, a.State) - slices.Index(order, b.State) })
	for h, r := range pl.spans {
		pl.report.Heat[h] = r.Spans
	}
	return pl.report, err
}

func (p *player) play(ctx context.Context, body io.Reader, facts toolpath.File) error {
	p.board.Output() // its greeting
	if err := p.say(ctx, "M155 S1", making); err != nil {
		return err
	}
	p.marks = facts.Marks
	lines := bufio.NewScanner(body)
	lines.Buffer(make([]byte, 64<<10), longestLine)
	commands := 0
	for lines.Scan() {
		p.line++
		p.read += int64(len(lines.Bytes())) + 1
		if p.line%shown == 0 {
			if err := p.look(ctx); err != nil {
				return err
			}
		}
		command := gcode.Command(lines.Bytes())
		if len(command) == 0 {
			continue
		}
		if commands++; commands == facts.First {
			p.report.Laying = p.board.Now()
		}
		p.keepUp(commands)
		if err := p.carry(ctx, command); err != nil {
			return err
		}
		p.report.Commands = commands
	}
	if err := lines.Err(); err != nil {
		return fmt.Errorf("line %d cannot be read: %w", p.line+1, err)
	}
	if err := p.say(ctx, "M400", making); err != nil {
		return err
	}
	p.layerOver(facts.Duration.Seconds())
	return nil
}

// look tells how far it is, and whether to go on.
func (p *player) look(ctx context.Context) error {
	p.told(Progress{Share: min(float64(p.read)/float64(p.size), 1), Line: p.line, Clock: p.board.Now()})
	return ctx.Err()
}

// carry lets the stand-in carry out a command of the file, as a run would.
func (p *player) carry(ctx context.Context, command []byte) error {
	if command[0] != 'G' {
		if why, asks := strings.CutPrefix(run.Asks(string(command)), "the file asks for it"); asks {
			if err := p.say(ctx, "M400", making); err != nil {
				return err
			}
			p.become(run.Held, 0)
			p.find(bounds.Note, "it asks for a person, and the run is held until you resume it"+why, "be there, or take the line out")
			return nil
		}
	}
	d, reports := doingOf(command)
	if reports { // those are the rehearsal's own
		return nil
	}
	if err := p.say(ctx, string(command), d); err != nil {
		return err
	}
	if n := p.board.Cut(); n > p.cut {
		p.cut = n
		p.find(bounds.Warn, "it moves beyond the end of an axis: the printer stops at the end, and what is drawn there is wrong", "place the part on the bed, or slice it for this printer")
	}
	return nil
}

// doingOf is what a command lets the printer do, and whether it says how often the
// printer is to report.
func doingOf(command []byte) (d doing, reports bool) {
	var l gcode.Line
	if l.Parse(command) != nil {
		return making, false
	}
	switch code := l.Code(); {
	case code.Traits()&gcode.Awaits != 0:
		return warming, false
	case code.Is('G', 4):
		return dwelling, false
	case code.Is('G', 28):
		return homing, false
	case code.Is('M', 154), code.Is('M', 155):
		return making, true
	}
	return making, false
}

// say lets the stand-in carry out a line, and waits until it is done.
func (p *player) say(ctx context.Context, text string, d doing) error {
	p.doing = d
	if at := p.cable.carry(len(text)+framing, p.board.Now()); at > p.board.Now() {
		p.late += at - p.board.Now()
		p.pass(at)
	}
	p.owed++
	p.board.Receive(append([]byte(text), '\n'))
	p.board.Advance(p.board.Now())
	p.wait = wait{}
	for turns := 1; ; turns++ {
		if err := p.hear(); err != nil {
			return err
		}
		if p.owed <= 0 {
			p.cable.acknowledged(p.board.Now())
			return nil
		}
		if turns%shown == 0 {
			if err := p.look(ctx); err != nil {
				return err
			}
		}
		p.pass(max(p.board.Next(), p.board.Now()) + tick)
		if d == warming {
			p.bear()
		}
	}
}

// pass lets the stand-in's clock go on, and notes what state the run is in meanwhile.
func (p *player) pass(to time.Duration) {
	took := to - p.board.Now()
	p.board.Advance(to)
	state := run.Running
	switch p.doing {
	case warming:
		state = run.Warming
	case homing:
		p.report.Homing += took
	case dwelling:
		p.report.Dwelling += took
	}
	if p.doing == making || p.doing == dwelling {
		p.made += took
	}
	p.become(state, took)
}

// become notes a time in a state.
func (p *player) become(s run.State, took time.Duration) {
	i := 0
	for ; i < len(p.report.States) && p.report.States[i].State != s; i++ {
	}
	if i == len(p.report.States) {
		p.report.States = append(p.report.States, Spell{State: s})
	}
	p.report.States[i].Took += took
	if p.state != s {
		p.state = s
		p.report.States[i].Times++
	}
}

// find notes a problem of the line that was said last.
func (p *player) find(level bounds.Level, title, do string) {
	p.report.Problems = toolpath.Found(p.report.Problems, bounds.Finding{Level: level, Title: title, Do: do}, p.line)
}
