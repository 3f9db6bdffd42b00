// Package jog makes moves of what a person presses: a string of presses adds up exactly,
// and is said in as few lines as there is time for, none of which begins before the one
// before it has ended.
//
// It is a state machine without clock, port or printer:
//
//	idle ──Press──▶ owing ──Next──▶ moving ──Done──▶ idle, or owing what was pressed meanwhile
//
// It promises that a press is either carried out whole or refused, that the sum of those
// that were taken is where the head ends, and that it ends inside the volume. It counts in
// thousandths of a millimetre, so that nothing is rounded twice. It leaves to bounds
// whether a line may be said at all, and to the host when the printer has done it.
package jog

import (
	"errors"
	"fmt"
	"math"
	"strconv"
	"strings"

	"diathermon/internal/core/gcode"
)

// Errors that callers tell apart.
var (
	ErrPress   = errors.New("this is no move")
	ErrVolume  = errors.New("it would leave the printer's volume")
	ErrUnknown = errors.New("where the head is is not known")
)

// A Press is one wish. Lengths are mm, speeds mm/s.
type Press struct {
	By    [4]float64  // how far along X, Y, Z, and how much filament
	To    [3]*float64 // where to, in place of By; nil: nowhere
	Speed float64     // 0: as fast as is usual
}

// Bounds are what a press may do. Lengths are mm, speeds mm/s.
type Bounds struct {
	Size     [3]float64 // that the axes go, from 0
	Speed    [4]float64 // at most; of E, at which filament is pushed
	Filament float64    // of one press
	Lift     float64    // that Z may go up though it is not known where it is
}

// Ordinary are bounds that are gentle enough for a slow Z and a stiff filament.
func Ordinary(size [3]float64) Bounds {
	return Bounds{Size: size, Speed: [4]float64{150, 150, 15, 10}, Filament: 100, Lift: 10}
}

// A Pile is what was pressed and is not carried out yet.
type Pile struct {
	bounds Bounds
	to     [3]int64 // where the head is to end, µm
	said   [3]int64 // where the lines lead that were said
	owed   int64    // filament that was not said yet, µm
	speed  float64  // of the last press
	moving bool     // a line was said, and the printer has not ended it
	raised int64    // µm that Z was lifted while it is not known where it is
}

// New returns an empty pile.
func New(b Bounds) *Pile { return &Pile{bounds: b} }

// Going reports whether there is anything that was pressed and has not ended.
func (p *Pile) Going() bool { return p.moving || p.owing() }

func (p *Pile) owing() bool { return p.to != p.said || p.owed != 0 }

// To is where the head ends once all is carried out, mm.
func (p *Pile) To() (to [3]float64) {
	for axis, v := range p.to {
		to[axis] = float64(v) / perMM
	}
	return to
}

const (
	perMM    = 1000.0
	farthest = 1e5 // mm, of any number
)

// Press adds a press, at is where the lines lead that the printer has taken. Whoever
// cannot have all of it gets none.
func (p *Pile) Press(press Press, at gcode.State) error {
	if !p.Going() {
		p.said = place(at)
		p.to = p.said
	}
	to, raised := p.to, p.raised
	for axis := range 3 {
		letter := gcode.Letters[axis]
		by := press.By[axis]
		if press.To[axis] != nil {
			if by != 0 {
				return fmt.Errorf("%w: %c has a distance and a place; say one of them", ErrPress, letter)
			}
			by = *press.To[axis] - float64(to[axis])/perMM
		}
		if !number(by) {
			return fmt.Errorf("%w: %c is %g; say how many millimetres", ErrPress, letter, by)
		}
		if by == 0 && press.To[axis] == nil {
			continue
		}
		step := int64(math.Round(by * perMM))
		if !at.Homed[axis] {
			if axis != int(gcode.Z) || step < 0 || press.To[axis] != nil || float64(raised+step) > p.bounds.Lift*perMM {
				return fmt.Errorf("%w: home %c first%s", ErrUnknown, letter, p.unless(axis))
			}
			raised += step
		}
		to[axis] += step
		if at.Homed[axis] && (to[axis] < 0 || float64(to[axis]) > p.bounds.Size[axis]*perMM) {
			return fmt.Errorf("%w: it leads to %c %s, and there is 0 to %s mm", ErrVolume, letter, decimal(float64(to[axis])/perMM), decimal(p.bounds.Size[axis]))
		}
	}
	filament := press.By[gcode.E]
	switch {
	case !number(filament):
		return fmt.Errorf("%w: E is %g; say how many millimetres of filament", ErrPress, filament)
	case math.Abs(filament) > p.bounds.Filament:
		return fmt.Errorf("%w: E is %s mm; up to %s go at once", ErrPress, decimal(filament), decimal(p.bounds.Filament))
	case !number(press.Speed) || press.Speed < 0:
		return fmt.Errorf("%w: its speed is %g; say millimetres a second, above 0", ErrPress, press.Speed)
	case press == (Press{Speed: press.Speed}):
		return fmt.Errorf("%w: it says neither how far nor where to", ErrPress)
	}
	owed := p.owed + int64(math.Round(filament*perMM))
	if math.Abs(float64(owed)) > 4*p.bounds.Filament*perMM {
		return fmt.Errorf("%w: %s mm of filament wait to be moved already", ErrPress, decimal(float64(p.owed)/perMM))
	}
	p.to, p.owed, p.raised, p.speed = to, owed, raised, press.Speed
	return nil
}

func (p *Pile) unless(axis int) string {
	if axis != int(gcode.Z) {
		return ""
	}
	return fmt.Sprintf("; until then Z goes up by %s mm, and no more", decimal(p.bounds.Lift))
}

func number(v float64) bool { return math.Abs(v) <= farthest } // no NaN is

// place is where the lines lead, µm.
func place(at gcode.State) (to [3]int64) {
	m := at.Machine()
	for axis := range 3 {
		to[axis] = int64(math.Round(m[axis] * perMM))
	}
	return to
}

// Next is the line that carries out what is owed, or false if nothing is, or the line
// before it has not ended. Filament goes by itself, after the head.
func (p *Pile) Next(at gcode.State) (line string, ok bool) {
	if p.moving || !p.owing() {
		return "", false
	}
	p.moving = true
	unit := perMM
	if at.Inches {
		unit *= 25.4
	}
	var b strings.Builder
	b.WriteString("G1")
	if p.to == p.said {
		filament := float64(p.owed)
		if !at.RelativeExtruder {
			filament += at.At[gcode.E] * perMM
		}
		p.owed = 0
		fmt.Fprintf(&b, " E%s F%s", digits(filament/unit), digits(p.feed(gcode.E)*perMM/unit*60))
		return b.String(), true
	}
	feed := math.Inf(1)
	for axis := range 3 {
		if p.to[axis] == p.said[axis] {
			continue
		}
		to := float64(p.to[axis]) - at.Shift[axis]*perMM
		if at.Relative {
			to = float64(p.to[axis] - p.said[axis])
		}
		fmt.Fprintf(&b, " %c%s", gcode.Letters[axis], digits(to/unit))
		feed = min(feed, p.feed(gcode.Axis(axis)))
	}
	p.said = p.to
	fmt.Fprintf(&b, " F%s", digits(feed*perMM/unit*60))
	return b.String(), true
}

// feed is at which speed an axis is moved, mm/s.
func (p *Pile) feed(axis gcode.Axis) float64 {
	if most := p.bounds.Speed[axis]; p.speed <= 0 || p.speed > most {
		return most
	}
	return p.speed
}

// Done notes that the printer has ended the line.
func (p *Pile) Done() { p.moving = false }

// Drop forgets what was pressed and has not been said: the head stops when the line ends
// that it carries out.
func (p *Pile) Drop() { p.to, p.owed = p.said, 0 }

// Forget empties the pile: what was said may be lost. Homed says that Z is known anew.
func (p *Pile) Forget() { *p = Pile{bounds: p.bounds, raised: p.raised} }

// Homed notes that it is known anew where Z is.
func (p *Pile) Homed() { p.raised = 0 }

// digits writes a number as G-code has it, to a millionth, and decimal as persons read it.
func digits(v float64) string {
	return strconv.FormatFloat(math.Round(v*1e6)/1e6+0, 'f', -1, 64) // + 0: no "-0"
}

func decimal(v float64) string {
	return strconv.FormatFloat(math.Round(v*1e3)/1e3+0, 'f', -1, 64)
}
