// Package settings asks the printer, once it answers and nothing else is to be done,
// what it is set to and how far its axes go, and takes from the answers what its axes can
// do and how large it is.
//
// It leaves to others what follows from that.
package settings

import (
	"slices"
	"strings"

	"diathermon/internal/core/gcode"
	"diathermon/internal/core/motion"
	"diathermon/internal/core/run"
	"diathermon/internal/core/wire"
	"diathermon/internal/host/part"
)

// list is the command by which a firmware lists its settings: as commands that would
// set them, one a line, with remarks between.
const list = "M503"

// ends is the command by which it tells where it lets its axes end.
const ends = "M211"

// A Talk is the conversation.
type Talk interface {
	part.Line
	Quiet() bool // nothing is under way
}

// A Run is the run that goes on.
type Run interface {
	Brief() (file string, state run.State) // empty: none goes on
}

// Settings is the part.
type Settings struct {
	part.Plain
	loop *part.Loop
	talk Talk
	run  Run
	told func(motion.Limits)

	asked, asking bool
	found         motion.Limits
	lines         int // that said something of motion

	listed  map[gcode.Code][]string // what sets each limit of motion: as the printer has listed it, and as persons have said it since
	changed map[gcode.Code]bool     // limits that a file's lines have set since

	size     [3]float64 // mm that the axes go to; 0: not told
	filament float64    // mm; 0: not told
}

// New returns the part, which tells what the printer has told; told may not wait. Nil:
// the printer is not asked.
func New(loop *part.Loop, t Talk, told func(motion.Limits)) *Settings {
	return &Settings{loop: loop, talk: t, told: told}
}

// Size is how far the printer says that its axes go, mm, and of which diameter it takes
// its filament to be; 0 where it does not tell.
func (s *Settings) Size() (axes [3]float64, filament float64) { return s.size, s.filament }

// Accelerations are those of moves that extrude and of those that do not, mm/s², as the
// printer has listed them; 0 where it has not.
func (s *Settings) Accelerations() (print, travel float64) {
	if !s.found.Told {
		return 0, 0
	}
	return s.found.Print, s.found.Travel
}

// limits are the commands that set what the axes can do, until they are set otherwise.
var limits = []gcode.Code{
	{Letter: 'M', Number: 201},
	{Letter: 'M', Number: 203},
	{Letter: 'M', Number: 204},
	{Letter: 'M', Number: 205},
	{Letter: 'M', Number: 566},
}

// mostListed are kept of what sets one limit.
const mostListed = 8

// note keeps what sets a limit for good.
func (s *Settings) note(command string) {
	code := gcode.CodeOf([]byte(command))
	if !slices.Contains(limits, code) {
		return
	}
	if s.listed == nil {
		s.listed = map[gcode.Code][]string{}
	}
	if lines := append(s.listed[code], command); len(lines) <= mostListed {
		s.listed[code] = lines
	}
}

// Typed takes a line that a person is about to say: what it sets is the printer's own from
// then on.
func (s *Settings) Typed(command string) {
	var l gcode.Line
	if l.Parse([]byte(command)) == nil && slices.Contains(limits, l.Code()) {
		s.note(command)
		s.found.Set(&l)
	}
}

// Back are the lines that give the printer its own limits again, where lines of a file have
// set others. They are to be said.
func (s *Settings) Back() (out []string) {
	for _, code := range limits {
		if s.changed[code] {
			out = append(out, s.listed[code]...)
		}
	}
	s.changed = nil
	return out
}

// Attend says whose run it is that is not to be disturbed.
func (s *Settings) Attend(r Run) { s.run = r }

// Hear reads the answer, which is not meant for a person.
func (s *Settings) Hear(event any) bool {
	e, ok := event.(*wire.Event)
	switch {
	case !ok:
	case e.Kind == wire.Greeted || e.Kind == wire.Restarted:
		if e.Kind == wire.Restarted || e.Number < 0 { // otherwise it has what it had
			s.listed, s.changed = nil, nil
		}
		s.asked, s.asking, s.size, s.filament, s.found = false, false, [3]float64{}, 0, motion.Limits{}
	case e.Kind == wire.Acked && e.Request.Lane == wire.File:
		if code := gcode.CodeOf([]byte(e.Request.Command)); len(s.listed[code]) > 0 { // no others are listed
			if s.changed == nil {
				s.changed = map[gcode.Code]bool{}
			}
			s.changed[code] = true
		}
	case s.asking && e.Kind == wire.Heard && !e.Own && e.Reply.Kind == wire.Other:
		return s.read(e.Reply.Text)
	}
	return false
}

// read takes one line of the answer.
func (s *Settings) read(text string) bool {
	text = strings.TrimSpace(strings.TrimPrefix(text, "echo:"))
	if strings.HasPrefix(text, ";") {
		return true
	}
	if size, ok := wire.ParseEnds(text); ok {
		s.size = size
		return true
	}
	var l gcode.Line
	if l.Parse(gcode.Command([]byte(text))) != nil || l.Letter == 0 {
		return strings.HasPrefix(text, "Unknown command")
	}
	if s.found.Set(&l) {
		s.lines++
		if code := l.Code(); !s.changed[code] && len(s.listed[code]) == 0 { // what a file has set is no printer's own
			s.note(string(gcode.Command([]byte(text))))
		}
	}
	if d, has := l.Value('D'); has && l.Code().Is('M', 200) && d >= 1 && d <= 4 {
		s.filament = d
	}
	return true
}

// Tick asks once, while nothing else is to be done.
func (s *Settings) Tick() {
	if s.told == nil || s.asked || !s.talk.Live() || !s.talk.Quiet() {
		return
	}
	if file, _ := s.run.Brief(); file != "" {
		return
	}
	s.asked, s.asking, s.found, s.lines = true, true, motion.Ordinary, 0
	s.talk.Say(list, func(_ []string, err error) {
		if err != nil {
			s.asking = false
			return
		}
		if file, _ := s.run.Brief(); file == "" {
			s.talk.Say(ends, func([]string, error) { s.asking = false })
		} else {
			s.asking = false
		}
		if s.lines == 0 {
			return
		}
		s.found.Told = true
		s.loop.Decide("the printer has told what its axes can do")
		s.told(s.found)
	})
}
