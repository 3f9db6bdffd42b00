// Package moving moves the head and the filament by hand: what persons press, homing,
// parking, motors off, and what the endstops say.
//
// It promises that a press is on its way to the printer at once, that presses which come
// while the printer is at one add up to the next, and that nothing of them is left when the
// printer is reset, halted or out of reach. What a line may do is judged by bounds each
// time one is said, as of a line that a person types.
package moving

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"diathermon/internal/core/bounds"
	"diathermon/internal/core/gcode"
	"diathermon/internal/core/jog"
	"diathermon/internal/core/machine"
	"diathermon/internal/core/run"
	"diathermon/internal/core/wire"
	"diathermon/internal/host/heating"
	"diathermon/internal/host/part"
	"diathermon/internal/host/position"
	"diathermon/internal/host/printing"
	"diathermon/internal/host/talk"
)

// ErrAtWork means that the head is at something that is not interrupted.
var ErrAtWork = errors.New("the head is at something else")

// ErrCold means that the nozzle is too cold for filament to be moved.
var ErrCold = errors.New("the nozzle is too cold for that")

// Now is where the head is going.
type Now struct {
	Going bool
	To    [3]float64 // mm, while it is free; where nothing is pressed, where the lines have led
	Homed [3]bool
	Free  bool   // it can be moved by hand
	Why   string // not
}

// Moving is the part.
type Moving struct {
	part.Plain
	loop    *part.Loop
	parking run.Parking
	talk    *talk.Talk
	where   *position.Position
	heat    *heating.Heating
	run     *printing.Printing
	other   Other

	pile    *jog.Pile
	busy    string // what goes on that is not a press, in words
	told    Now
	dropped int // counts what has made the pile worthless, so that a late answer is known for one
}

// New returns the part.
func New(p machine.Printer, parking run.Parking, loop *part.Loop, t *talk.Talk, where *position.Position, h *heating.Heating, r *printing.Printing) *Moving {
	return &Moving{loop: loop, parking: parking, talk: t, where: where, heat: h, run: r, pile: jog.New(jog.Ordinary(p.Size()))}
}

// Other is what else moves the head, and is not to be disturbed.
type Other interface {
	Doing() string // in words; empty: nothing
}

// Attend says what else moves the head.
func (m *Moving) Attend(o Other) { m.other = o }

// Hear forgets what was pressed when it is not known any more what the printer does.
func (m *Moving) Hear(event any) bool {
	switch event.(type) {
	case part.Forgotten, part.Halted, part.Cut, part.Reset:
		m.forget()
	}
	return false
}

func (m *Moving) forget() {
	m.pile.Forget()
	m.busy = ""
	m.dropped++
}

// Tick tells everyone where the head is going, if that has changed.
func (m *Moving) Tick() { m.tell() }

func (m *Moving) tell() {
	if now := m.Now(); now != m.told {
		m.told = now
		m.loop.Publish(now)
	}
}

// Now is where the head is going.
func (m *Moving) Now() Now {
	at := m.where.Point()
	now := Now{Going: m.Going(), Homed: at.Homed, Free: true}
	switch s := m.run.Situation(); {
	case !m.talk.Live():
		now.Free, now.Why = false, m.talk.Reason()
	case s.Run != "" && !s.Parked:
		now.Free, now.Why = false, fmt.Sprintf("%s is %s; %s", s.Run, s.State, s.WayOut)
	case m.other.Doing() != "":
		now.Free, now.Why = false, m.other.Doing()
	case m.pile.Going():
		now.To = m.pile.To()
	default:
		here := at.Machine()
		now.To = [3]float64(here[:3])
	}
	return now
}

// Going reports whether anything is under way that was asked for by hand.
func (m *Moving) Going() bool { return m.pile.Going() || m.busy != "" }

// Doing says what is under way that was asked for by hand, in words.
func (m *Moving) Doing() string {
	if !m.Going() {
		return ""
	}
	return "the head is being moved by hand"
}

// free says why nothing can be moved by hand now, or nil.
func (m *Moving) free() error {
	switch now := m.Now(); {
	case !m.talk.Live():
		return fmt.Errorf("%w: %s", talk.ErrNotLive, now.Why)
	case !now.Free:
		return fmt.Errorf("%w: %s", bounds.ErrBusy, now.Why)
	case m.busy != "":
		return fmt.Errorf("%w: it is %s", ErrAtWork, m.busy)
	}
	return nil
}

// Press takes a press and returns where the head is going. It may be called from anywhere.
func (m *Moving) Press(ctx context.Context, p jog.Press) (now Now, err error) {
	asked := m.loop.Ask(ctx, func() {
		if err = m.press(p); err == nil {
			m.next()
		}
		m.tell()
		now = m.Now()
	})
	return now, errors.Join(asked, err)
}

func (m *Moving) press(p jog.Press) error {
	if err := m.free(); err != nil {
		return err
	}
	if p.By[gcode.E] != 0 {
		if err := m.Cold(); err != nil {
			return err
		}
	}
	return m.pile.Press(p, m.where.Point().State)
}

// next says the next line of what was pressed, and lets the printer tell when it has ended
// it. What may not be said any more is dropped.
func (m *Moving) next() {
	line, ok := m.pile.Next(m.where.Point().State)
	if !ok {
		return
	}
	if err := m.typed(line); err != nil {
		m.loop.Message(wire.Wrong, fmt.Sprintf("%s is not said: %v", line, err))
		m.forget()
		return
	}
	dropped := m.dropped
	ended := func(_ []string, err error) {
		switch {
		case m.dropped != dropped: // it belongs to what was forgotten
			return
		case err != nil:
			m.forget()
		default:
			m.pile.Done()
			m.next()
		}
		if !m.pile.Going() {
			m.talk.Say("M114", nil) // where that has led
		}
		m.tell()
	}
	m.talk.Say(line, func(lines []string, err error) {
		if err != nil || m.dropped != dropped {
			ended(lines, err)
			return
		}
		m.talk.Say("M400", ended)
	})
}

// Drop lets what was pressed and not said yet go: the head stops when it has ended the
// line that it is at. It may be called from anywhere.
func (m *Moving) Drop(ctx context.Context) (now Now, err error) {
	asked := m.loop.Ask(ctx, func() {
		m.pile.Drop()
		m.tell()
		now = m.Now()
	})
	return now, asked
}

// Home homes axes, all if none is named, and waits until the printer has done so or ctx
// ends. It may be called from anywhere.
func (m *Moving) Home(ctx context.Context, axes []gcode.Axis) (Now, error) {
	line, what := "G28", "homing"
	for _, a := range axes {
		line += " " + string(gcode.Letters[a])
	}
	return m.do(ctx, what, func() ([]string, error) { return []string{line}, nil }, func() {
		if len(axes) == 0 || slices.Contains(axes, gcode.Z) {
			m.pile.Homed()
		}
	})
}

// Park lifts the nozzle and takes it to a corner. It may be called from anywhere.
func (m *Moving) Park(ctx context.Context) (Now, error) {
	return m.do(ctx, "parking", func() ([]string, error) {
		at := m.where.Point()
		if !at.Knows() {
			return nil, fmt.Errorf("%w: home it first", jog.ErrUnknown)
		}
		return m.parking.Park(*at), nil
	}, nil)
}

// MotorsOff lets the axes go; where the head is is not known from then on. It may be
// called from anywhere.
func (m *Moving) MotorsOff(ctx context.Context) (Now, error) {
	return m.do(ctx, "turning its motors off", func() ([]string, error) { return []string{"M84"}, nil }, nil)
}

// do says lines one after another, each once the one before it has ended, while nothing
// else is pressed.
func (m *Moving) do(ctx context.Context, what string, lines func() ([]string, error), then func()) (now Now, err error) {
	done := make(chan error, 1)
	asked := m.loop.Ask(ctx, func() {
		if err = m.free(); err == nil && m.pile.Going() {
			err = fmt.Errorf("%w: it is being moved; wait until it is there", ErrAtWork)
		}
		var all []string
		if err == nil {
			all, err = lines()
		}
		if err == nil && len(all) > 0 {
			m.busy = what
			m.say(all, m.dropped, func(err error) {
				if err == nil && then != nil {
					then()
				}
				done <- err
			})
			err = nil
		} else {
			done <- err
		}
		m.tell()
		now = m.Now()
	})
	if asked != nil || err != nil {
		return now, errors.Join(asked, err)
	}
	select {
	case err = <-done:
	case <-ctx.Done():
		return now, nil // it goes on, as everyone sees
	}
	asked = m.loop.Ask(context.WithoutCancel(ctx), func() { now = m.Now() })
	return now, errors.Join(err, asked)
}

// say says lines, waits until nothing moves, and asks where that has led; over hears how
// it ended.
func (m *Moving) say(lines []string, dropped int, over func(error)) {
	m.talk.SayEach(append(lines, "M400"), m.typed, func(_ []string, err error) {
		if err == nil {
			m.talk.Say("M114", nil)
		}
		if m.dropped == dropped {
			m.busy = ""
		}
		over(err)
		m.tell()
	})
}

// typed says why a line may not be said now, or nil.
func (m *Moving) typed(line string) error { return m.run.Situation().Typed(line) }

// Cold says why filament cannot be moved now, or nil.
func (m *Moving) Cold() error {
	if m.heat.Melts() {
		return nil
	}
	return fmt.Errorf("%w: filament moves from %.0f °C on; heat it first", ErrCold, run.Melting)
}

// An Endstop is a switch and what it says.
type Endstop struct {
	Name      string
	Triggered bool
	Says      string // as the firmware has it
}

// endstopsWait is how long the printer may take to tell of its endstops.
const endstopsWait = 5 * time.Second

// Endstops asks the printer what its endstops say (M119). It may be called from anywhere.
func (m *Moving) Endstops(ctx context.Context) ([]Endstop, error) {
	ctx, cancel := context.WithTimeout(ctx, endstopsWait)
	defer cancel()
	said, err := m.talk.Order(ctx, "M119", func() error { return m.typed("M119") })
	if err != nil {
		return nil, err
	}
	return endstops(said.Reply), nil
}

// endstops reads the answer to M119: a line for each, a name and what it says behind a
// colon.
func endstops(lines []string) []Endstop {
	var out []Endstop
	for _, line := range lines {
		name, says, ok := strings.Cut(line, ":")
		name, says = strings.TrimSpace(name), strings.TrimSpace(says)
		switch word := strings.ToLower(says); {
		case !ok || name == "" || strings.ContainsAny(name, " \t"):
		case word == "triggered" || word == "open" || word == "not triggered" || word == "h" || word == "l":
			out = append(out, Endstop{Name: name, Triggered: word == "triggered" || word == "h", Says: says})
		}
	}
	return out
}
