// Package bounds says what may be said to a printer: a line that a person typed, in
// the situation that the printer is in, and a line of a file before it is printed.
//
// It promises that a line is judged by the worst way in which any firmware could
// read it: what is not plain is never held to be harmless, a setpoint counts
// wherever a line may hold one, and no line that could heat, move, change the count
// of lines or the stored settings passes unread. It leaves to preflight what a
// file amounts to as a whole, and to the host to know the situation.
package bounds

import (
	"errors"
	"fmt"
	"math"
	"slices"

	"diathermon/internal/core/gcode"
	"diathermon/internal/core/heat"
)

// Errors of Typed. Each comes wrapped in a text for the person.
var (
	ErrLine     = errors.New("this line cannot be said")
	ErrSetpoint = errors.New("the setpoint is out of bounds")
	ErrBusy     = errors.New("a run is going on")
)

// Slack is how far outside the volume, in mm, a line may lead, and Deep how far below the
// bed: what first layers are lowered by, and no more.
const (
	Slack = 0.5
	Deep  = 0.1
)

// Outside reports whether a range of an axis, mm in the machine's own frame, leaves a volume
// of that size.
func Outside(axis gcode.Axis, low, high, size float64) bool {
	if axis == gcode.Z && low < -Deep {
		return true
	}
	return low < -Slack || high > size+Slack
}

// A Machine is what a printer can take.
type Machine struct {
	Size   [3]float64 // mm that X, Y and Z go, from 0
	Limits heat.Limits
}

// An Asking is a setpoint that a line could give.
type Asking struct {
	Heater   heat.Heater // empty: any of them
	Setpoint float64     // °C, the highest that could be meant
}

// Asked returns every setpoint that a plain line could give, now or from some later
// moment on. Tool is the one in use.
func Asked(l *gcode.Line, tool int) []Asking {
	if l.Letter == 'G' && l.Number < 10 || l.Code().Traits()&gcode.Heats == 0 {
		return nil
	}
	var out []Asking
	code := l.Code()
	for _, p := range code.Setpoints() {
		v, given := l.Value(p.Letter)
		if !given {
			continue
		}
		h := meant(l, code, p.Of, tool)
		if i := slices.IndexFunc(out, func(a Asking) bool { return a.Heater == h }); i >= 0 {
			out[i].Setpoint = max(out[i].Setpoint, v)
		} else {
			out = append(out, Asking{h, v})
		}
	}
	return out
}

// meant is the heater that a line's setpoint is for; empty: any of them.
func meant(l *gcode.Line, code gcode.Code, of gcode.Target, tool int) heat.Heater {
	switch of {
	case gcode.Bed:
		return heat.Bed
	case gcode.Chamber:
		return heat.Chamber
	case gcode.Anywhere: // M303
		switch e, given := l.Value('E'); {
		case l.Has('H'): // which numbers heaters have is the firmware's own
			return ""
		case given && e == -1:
			return heat.Bed
		case given && e == -2:
			return heat.Chamber
		}
	}
	for _, letter := range []byte(code.Tools()) {
		if t, ok := l.Value(letter); ok && t >= 0 && t < 16 {
			return heat.NozzleOf(int(t))
		}
	}
	return heat.NozzleOf(tool)
}

// Check says why a setpoint may not be given, or nil.
func (m Machine) Check(a Asking) error {
	if a.Heater != "" {
		return m.Limits.Check(a.Heater, a.Setpoint)
	}
	for _, h := range []heat.Heater{heat.Nozzle, heat.Bed, heat.Chamber} {
		if m.Limits.Of(h) == 0 {
			continue
		}
		if err := m.Limits.Check(h, a.Setpoint); err != nil {
			return fmt.Errorf("it does not say for certain which heater is meant, and %w", err)
		}
	}
	return nil
}

// reach says why a move may not be made, or nil: it leads out of the volume, or
// farther than an axis is long where the place is not known.
func (m Machine) reach(l *gcode.Line, at gcode.State) error {
	if l.Letter != 'G' || l.Number > 3 {
		return nil
	}
	after := at
	move, moves := after.Apply(l)
	if !moves {
		return nil
	}
	low, high := move.Box()
	for axis := gcode.X; axis <= gcode.Z; axis++ {
		size, shift := m.Size[axis], at.Shift[axis]
		if size <= 0 || move.From[axis] == low[axis] && low[axis] == high[axis] {
			continue
		}
		if at.Homed[axis] && Outside(axis, low[axis]+shift+at.Frame.Least[axis], high[axis]+shift+at.Frame.Most[axis], size) {
			if at.Frame.Least[axis] != 0 || at.Frame.Most[axis] != 0 {
				return fmt.Errorf("%w: it leads to %c %.1f, or, with what has moved the frame since the start, to %.1f or %.1f, and this printer has 0 to %.0f mm", ErrLine, gcode.Letters[axis], move.To[axis]+shift, low[axis]+shift+at.Frame.Least[axis], high[axis]+shift+at.Frame.Most[axis], size)
			}
			return fmt.Errorf("%w: it leads to %c %.1f and this printer has 0 to %.0f mm", ErrLine, gcode.Letters[axis], move.To[axis]+shift, size)
		}
		if way := math.Abs(move.To[axis] - move.From[axis]); way > size+Slack {
			return fmt.Errorf("%w: it leads %.0f mm along %c and this printer has %.0f mm", ErrLine, way, gcode.Letters[axis], size)
		}
	}
	return nil
}

// A Situation is what a typed line would be said in.
type Situation struct {
	Machine
	At     gcode.State // that the lines said so far lead to
	Run    string      // the file of the run that is not over; empty if there is none
	State  string      // of that run, in words
	Parked bool        // it is held with its nozzle off the part
	WayOut string      // what a person may do about the run, in words
}

// Typed says why a person's command may not be said now, or nil. The command is as
// gcode.Command returns it. The emergency stop is not asked for here: it is never
// refused.
func (s Situation) Typed(command string) error {
	var l gcode.Line
	if err := l.Parse([]byte(command)); err != nil {
		return s.unread(command, err)
	}
	for _, a := range Asked(&l, s.At.Tool) {
		if err := s.Check(a); err != nil {
			return fmt.Errorf("%w: %w", ErrSetpoint, err)
		}
	}
	if err := l.Within(); err != nil {
		return fmt.Errorf("%w: %w", ErrLine, err)
	}
	traits := l.Code().Traits()
	switch {
	case l.Is('M', 110):
		return fmt.Errorf("%w: the host itself keeps the line numbers", ErrLine)
	case traits&gcode.Counts != 0:
		return fmt.Errorf("%w: %s %s, and the host would lose count of its lines", ErrLine, l.Code(), l.Code().Look().Does)
	case l.Is('M', 149) && (l.Has('F') || l.Has('K')):
		return fmt.Errorf("%w: this host reads and bounds temperatures in °C alone", ErrLine)
	}
	if code, _, hidden := spoken(l.Text); hidden && traits&gcode.Text != 0 {
		return fmt.Errorf("%w: old firmwares find %s in that text, which %s", ErrLine, code, code.Look().Does)
	}
	if err := s.reach(&l, s.At); err != nil {
		return err
	}
	switch {
	case s.Run == "" || traits&gcode.Aside != 0:
		return nil
	case s.Parked && !unsettles(&l):
		return nil
	case s.Parked:
		return fmt.Errorf("%w: after %s the printer would not find back to where %s is held", ErrBusy, command, s.Run)
	}
	return fmt.Errorf("%w: %s would disturb %s, which is %s; %s", ErrBusy, command, s.Run, s.State, s.WayOut)
}

// unread judges a command that is not plain.
func (s Situation) unread(command string, why error) error {
	guess := gcode.GuessAt([]byte(command))
	harm, harmful := guess.Harmful()
	switch {
	case errors.Is(why, gcode.ErrImpossible):
		return fmt.Errorf("%w: %w", ErrLine, why)
	case s.Run != "":
		return fmt.Errorf("%w: %w; write it plainly, for %s is not over yet", ErrLine, why, s.Run)
	case guess.Named:
		return fmt.Errorf("%w: %q is a named command, and this host does not know what it does: it could heat or move", ErrLine, command)
	case harmful:
		return fmt.Errorf("%w: %w. It %s: write it plainly, a command and then each word once, with nothing else", ErrLine, why, harm)
	case len(guess.Codes) == 0:
		return fmt.Errorf("%w: %w", ErrLine, why)
	}
	return nil // a question or a message, however it is read
}

// unsettles reports whether a line would change what the printer takes its place to
// be, so that a held run could not come back.
func unsettles(l *gcode.Line) bool {
	if l.Is('G', 92) {
		return l.Sub > 0 || l.Has('X') || l.Has('Y') || l.Has('Z') || !l.Has('E')
	}
	traits := l.Code().Traits()
	return traits&(gcode.Unsettles|gcode.Prints|gcode.Stops) != 0 || traits == 0
}
