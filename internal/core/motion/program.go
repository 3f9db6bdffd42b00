package motion

import (
	"math"

	"diathermon/internal/core/gcode"
)

// A Program is a file's lines as a machine carries them out. Make one with NewProgram.
//
// Not every machine does what a file says of its limits: some firmwares pass some or all of
// it over, without a word. So every move has two times, which are the same until a file
// changes a limit: one by the limits as they are set, one by the machine's own.
type Program struct {
	gcode.State

	planner Planner
	own     *Planner // by the machine's own limits; nil: none was changed
	ahead   []Time   // of the moves that it is done with and the other is not, behind those
	passed  int      // that both are

	speed      float64 // M220, as a share
	retraction retraction
	move       gcode.Move // the last
	chords     []gcode.Move
}

// FirstFeed is the speed, in mm/s, at which firmwares move until a file names one.
const FirstFeed = 25

// NewProgram returns the program of a machine with those limits that has just
// started. Done is told of each move as a planner's is: its time by the limits as the
// program sets them, and by the machine's own.
func NewProgram(limits Limits, done func(tag int, set, own Time)) *Program {
	p := &Program{speed: 1, retraction: firstRetraction}
	p.planner = Planner{Limits: limits, Done: func(tag int, t Time) {
		if p.own == nil {
			done(tag, t, t)
			return
		}
		own := p.ahead[p.passed]
		if p.passed++; p.passed == len(p.ahead) {
			p.ahead, p.passed = p.ahead[:0], 0
		}
		done(tag, t, own)
	}}
	return p
}

// limit sets the machine's limits as the program has them.
func (p *Program) limit(to Limits) {
	if p.own == nil && to != p.planner.Limits {
		p.own = p.planner.like(p.planner.Limits, func(_ int, t Time) { p.ahead = append(p.ahead, t) })
	}
	p.planner.Limits = to
}

// plan plans a straight move. Both planners hold as many moves, so that they are done with
// the same ones.
func (p *Program) plan(m *gcode.Move, tag int) {
	if p.own != nil {
		p.own.Add(m, tag)
	}
	p.planner.Add(m, tag)
}

// wait adds a pause during which the machine stands still.
func (p *Program) wait(seconds float64, tag int) {
	if p.own != nil {
		p.own.Wait(seconds, tag)
	}
	p.planner.Wait(seconds, tag)
}

// Flush brings the machine to a stop and accounts for every move.
func (p *Program) Flush() {
	if p.own != nil {
		p.own.Flush()
	}
	p.planner.Flush()
}

// Named carries over what a named command, which is no plain line, says of the limits.
func (p *Program) Named(command string) {
	limits := p.planner.Limits
	limits.SetNamed(command)
	p.limit(limits)
}

// Take carries out a plain line and remembers tag for its moves. It returns the move
// that the line asks for, at the speed it asks for, until the next line is taken; or nil
// for one that moves nothing. A retraction by the firmware is a move of the extruder
// alone.
func (p *Program) Take(l *gcode.Line, tag int) *gcode.Move {
	if l.Letter == 'G' && (l.Number < 4 || l.Number == 5) {
		if !p.State.Carry(l, &p.move) {
			return nil
		}
		if p.move.Feed == 0 {
			p.move.Feed = FirstFeed
		}
		p.add(&p.move, tag)
		return &p.move
	}
	switch l.Letter {
	case 'T':
		p.Flush()
	case 'G':
		switch l.Number {
		case 4:
			p.wait(max(l.Dwell(), 0), tag)
		case 10:
			if !l.Has('P') && !l.Has('R') && !l.Has('X') && !l.Has('Y') && !l.Has('Z') && !l.Has('L') {
				s, _ := l.Value('S')
				return p.retract(true, s > 0, tag)
			}
		case 11:
			return p.retract(false, false, tag)
		default:
			p.stop(l)
		}
	case 'M':
		switch l.Number {
		case 207, 208:
			p.retraction.set(l)
		case 220:
			if v, ok := l.Value('S'); ok && v > 0 {
				p.speed = v / 100
			}
		case 400:
			p.Flush()
		default:
			if limits := p.planner.Limits; limits.Set(l) {
				p.limit(limits)
			} else {
				p.stop(l)
			}
		}
	}
	p.State.Carry(l, &p.move)
	return nil
}

// stop brings the machine to a stop before a command that waits for something.
func (p *Program) stop(l *gcode.Line) {
	if l.Code().Traits()&(gcode.Slow|gcode.Awaits|gcode.Pauses) != 0 {
		p.Flush()
	}
}

// add plans a move, an arc or a curve by its chords.
func (p *Program) add(m *gcode.Move, tag int) {
	if m.Straight() && p.speed == 1 {
		p.plan(m, tag)
		return
	}
	if m.Straight() {
		scaled := *m
		scaled.Feed *= p.speed
		p.plan(&scaled, tag)
		return
	}
	p.chords = Chords(p.chords[:0], *m)
	for i := range p.chords {
		p.chords[i].Feed *= p.speed
		p.plan(&p.chords[i], tag)
	}
}

// Constants of Chords.
const (
	chordLength = 1.0     // mm
	chordsLeast = 24      // of a whole circle
	chordsMost  = 1 << 16 // of one move
	bendChords  = 10      // of a curve at the least
)

// Chords appends to out the straight moves that an arc or a curve is made of.
func Chords(out []gcode.Move, m gcode.Move) []gcode.Move {
	n := max(math.Floor(m.Length()/chordLength), bendChords)
	if m.Arc {
		n = max(math.Floor(m.Length()/chordLength), math.Ceil(chordsLeast*m.Sweep()/(2*math.Pi)), 1)
	}
	n = min(n, chordsMost)
	at := m.From
	for i := 1.0; i <= n; i++ {
		to := m.At(i / n)
		out = append(out, gcode.Move{From: at, To: to, Feed: m.Feed})
		at = to
	}
	return out
}

// A retraction is what the firmware does for G10 and G11.
type retraction struct {
	length, swap      float64 // mm drawn back, and for a change of tools
	feed              float64 // mm/s
	lift              float64 // mm
	more, swapMore    float64 // mm pushed beyond what was drawn back
	back, swapBack    float64 // mm/s pushed; 0: as fast as it is drawn back
	drawn, drawnSwap  bool
	drawnBy, liftedBy float64 // mm
}

// firstRetraction is what firmwares do until a file says otherwise.
var firstRetraction = retraction{length: 3, swap: 13, feed: 45}

// set takes an M207 or M208.
func (r *retraction) set(l *gcode.Line) {
	take := func(letter byte, to *float64, scale float64) {
		if v, ok := l.Value(letter); ok {
			*to = v * scale
		}
	}
	if l.Number == 207 {
		take('S', &r.length, 1)
		take('W', &r.swap, 1)
		take('F', &r.feed, 1/60.0)
		take('Z', &r.lift, 1)
		return
	}
	take('S', &r.more, 1)
	take('W', &r.swapMore, 1)
	take('F', &r.back, 1/60.0)
	take('R', &r.swapBack, 1/60.0)
}

// retract draws filament back, or pushes it where it was, which none is twice. The
// moves are at the firmware's own speed, whatever M220 has said.
func (p *Program) retract(draw, swap bool, tag int) *gcode.Move {
	r := &p.retraction
	if draw == r.drawn {
		return nil
	}
	m := &p.move
	*m = gcode.Move{From: p.At, To: p.At, Feed: max(r.feed, 1)}
	lift := gcode.Move{From: p.At, To: p.At, Feed: math.Inf(1)}
	if draw {
		r.drawnBy, r.drawnSwap, r.liftedBy = r.length, swap, r.lift
		if swap {
			r.drawnBy = r.swap
		}
		m.To[gcode.E] -= r.drawnBy
		lift.To[gcode.Z] += r.liftedBy
	} else {
		more, back := r.more, r.back
		if r.drawnSwap {
			more, back = r.swapMore, r.swapBack
		}
		if back > 0 {
			m.Feed = back
		}
		m.To[gcode.E] += r.drawnBy + more
		lift.From[gcode.Z] += r.liftedBy
	}
	r.drawn = draw
	if draw {
		p.plan(m, tag)
	}
	p.plan(&lift, tag)
	if !draw {
		p.plan(m, tag)
	}
	if m.From == m.To {
		return nil
	}
	return m
}
