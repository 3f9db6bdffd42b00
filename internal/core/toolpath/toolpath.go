// Package toolpath reads a whole file of G-code and tells what its moves will
// do: layers, extents, filament, time and temperatures. Everything is computed
// from the moves; comments are never read.
//
// It leaves to preflight what of that is acceptable.
package toolpath

import (
	"bufio"
	"bytes"
	"errors"
	"fmt"
	"io"
	"math"
	"time"

	"diathermon/internal/core/gcode"
	"diathermon/internal/core/heat"
	"diathermon/internal/core/motion"
	"diathermon/internal/core/run"
)

// longestLine is the longest line, comment included, that a file may have. A
// slicer's picture in a comment has lines of some 80 bytes, its settings some
// thousands.
const longestLine = 1 << 20

// firstFeed is the speed, in mm/s, at which firmwares move until a file names
// one.
const firstFeed = 25

// Box is an extent in millimetres; Empty until something is in it.
type Box struct {
	Min, Max [3]float64
	Empty    bool
}

func (b *Box) add(p gcode.Position) {
	for i := range 3 {
		if b.Empty || p[i] < b.Min[i] {
			b.Min[i] = p[i]
		}
		if b.Empty || p[i] > b.Max[i] {
			b.Max[i] = p[i]
		}
	}
	b.Empty = false
}

// Summary is what a file amounts to.
type Summary struct {
	Lines      int                     // lines in the file
	Commands   int                     // lines that the printer receives
	Marks      []run.Mark              // where each layer begins
	First      int                     // the first command that lays plastic, from 1; 0 if none does
	Extent     Box                     // of everything that lays plastic
	Filament   float64                 // mm pushed, retractions taken off
	Duration   time.Duration           // of the moves, without warming
	Setpoints  map[heat.Heater]float64 // the highest setpoint asked of each heater
	Warming    []heat.Step             // the setpoints it gives before it lays plastic
	Tools      int                     // highest tool used, plus one
	Unread     int                     // lines that are not plain G-code, sent as they are
	FirstOdd   string                  // the first of them, with its line number
	LayerSteps float64                 // the commonest distance between layers, mm
}

// A File is a stored file and what it amounts to.
type File struct {
	Name   string
	Size   int64
	SHA256 string // in hexadecimal
	Stored time.Time
	Summary
}

// mostSteps bounds Summary.Warming.
const mostSteps = 64

// ErrNoCommands means that nothing in a file is for the printer.
var ErrNoCommands = errors.New("there is no G-code in it: slice the model and send the slicer's output")

// Scan reads a file to its end. It fails with what is wrong in words if the
// reader does, if a line cannot be sent, or if most of the file is not G-code.
func Scan(r io.Reader, limits motion.Limits) (Summary, error) {
	s := scanner{Summary: Summary{Setpoints: map[heat.Heater]float64{}, Extent: Box{Empty: true}, Tools: 1}}
	s.planner = motion.Planner{Limits: limits, Done: s.spend}
	lines := bufio.NewScanner(r)
	lines.Buffer(make([]byte, 64<<10), longestLine)
	for lines.Scan() {
		s.Lines++
		command := gcode.Command(lines.Bytes())
		if len(command) == 0 {
			continue
		}
		if err := s.command(command); err != nil {
			return s.Summary, fmt.Errorf("line %d: %w", s.Lines, err)
		}
		if s.Commands >= 20 && s.Commands < 200 && s.Unread*2 > s.Commands {
			break
		}
	}
	if errors.Is(lines.Err(), bufio.ErrTooLong) {
		return s.Summary, fmt.Errorf("line %d is longer than %d bytes: this is not G-code", s.Lines+1, longestLine)
	}
	if err := lines.Err(); err != nil {
		return s.Summary, err
	}
	if s.Commands == 0 {
		return s.Summary, ErrNoCommands
	}
	if s.Unread*2 > s.Commands {
		return s.Summary, fmt.Errorf("most lines are not G-code; the first is %s", s.FirstOdd)
	}
	s.planner.Flush()
	s.Duration = time.Duration(s.spent * float64(time.Second))
	s.LayerSteps = commonest(s.Marks)
	return s.Summary, nil
}

type scanner struct {
	Summary
	line    gcode.Line
	state   gcode.State
	planner motion.Planner
	spent   float64 // seconds of all moves the planner is done with
	pending []int   // marks whose time is not known yet: their indices, by tag order
}

// spend is called by the planner in the order of moves. Tag is the number of
// marks that had begun when the move was added.
func (s *scanner) spend(tag int, seconds float64) {
	for len(s.pending) > 0 && s.pending[0] < tag {
		s.Marks[s.pending[0]].Seconds = s.spent
		s.pending = s.pending[1:]
	}
	s.spent += seconds
}

func (s *scanner) command(command []byte) error {
	s.Commands++
	for _, b := range command {
		if b < ' ' && b != '\t' {
			return fmt.Errorf("found control character %#02x: the file is damaged, or not G-code", b)
		}
	}
	if err := s.line.Parse(command); err != nil {
		s.Unread++
		if s.FirstOdd == "" {
			s.FirstOdd = fmt.Sprintf("line %d, %q", s.Lines, command[:min(len(command), 40)])
		}
		return nil
	}
	l := &s.line
	switch l.Letter {
	case 'M':
		s.setpoint(l)
	case 'T':
		s.Tools = max(s.Tools, min(l.Number, 15)+1)
	case 'G':
		if l.Number == 4 {
			seconds, _ := l.Value('S')
			ms, _ := l.Value('P')
			s.planner.Wait(seconds+ms/1000, len(s.Marks))
		}
	}
	m, moves := s.state.Apply(l)
	if !moves {
		return nil
	}
	if math.IsInf(m.Length(), 0) || m.Length() > 1e6 {
		return fmt.Errorf("a move of %g mm is more than any machine can do: %q", m.Length(), command)
	}
	if m.Feed == 0 {
		m.Feed = firstFeed
	}
	pushed := m.Extrusion()
	s.Filament += pushed
	flat := m.From[gcode.X] != m.To[gcode.X] || m.From[gcode.Y] != m.To[gcode.Y] || m.Arc
	if pushed > 0 && flat {
		s.lay(m)
	}
	s.planner.Add(m, len(s.Marks))
	return nil
}

// lay accounts for a move that draws plastic.
func (s *scanner) lay(m gcode.Move) {
	if s.First == 0 {
		s.First = s.Commands
	}
	s.Extent.add(m.From)
	s.Extent.add(m.To)
	if m.Arc {
		radius := math.Hypot(m.From[gcode.X]-m.Centre[0], m.From[gcode.Y]-m.Centre[1])
		if sweep := m.Sweep(); sweep > math.Pi { // wide arcs reach beyond their ends
			s.Extent.add(gcode.Position{m.Centre[0] - radius, m.Centre[1] - radius, m.To[gcode.Z]})
			s.Extent.add(gcode.Position{m.Centre[0] + radius, m.Centre[1] + radius, m.To[gcode.Z]})
		}
	}
	n := len(s.Marks)
	switch mark := (run.Mark{Command: s.Commands - 1, Z: m.To[gcode.Z]}); {
	case n == 0 || mark.Z > s.Marks[n-1].Z+0.01:
		s.Marks = append(s.Marks, mark)
		s.pending = append(s.pending, n)
	case n == 1 && mark.Z < s.Marks[0].Z-0.01: // what came before was a priming line above the first layer
		s.Marks[0] = mark
		s.pending = []int{0}
	}
}

// setpoint notes the temperatures a line asks for.
func (s *scanner) setpoint(l *gcode.Line) {
	h, v, ok := run.Setpoint(l, s.state.Tool)
	if ok {
		s.Setpoints[h] = max(s.Setpoints[h], v)
	}
	if ok && s.First == 0 && len(s.Warming) < mostSteps {
		s.Warming = append(s.Warming, heat.Step{Command: s.Commands, Heater: h, Setpoint: v, Wait: run.Waits(l)})
	}
}

// commonest is the distance between layers that occurs most, to a hundredth of
// a millimetre.
func commonest(marks []run.Mark) float64 {
	counts := map[int]int{}
	best := 0
	for i := 1; i < len(marks); i++ {
		step := int(math.Round((marks[i].Z - marks[i-1].Z) * 100))
		counts[step]++
		if counts[step] > counts[best] {
			best = step
		}
	}
	return float64(best) / 100
}

// Sniff says in words what the beginning of a file is if it is plainly not
// G-code, or nil. It wants the first 512 bytes, or all of a shorter file.
func Sniff(head []byte) error {
	body := bytes.TrimLeft(bytes.TrimPrefix(head, []byte("\xef\xbb\xbf")), " \t\r\n")
	if len(body) == 0 {
		return errors.New("the file is empty")
	}
	for _, k := range known {
		if bytes.HasPrefix(body, []byte(k.magic)) {
			return errors.New(k.what)
		}
	}
	if n := bytes.IndexByte(head, 0); n >= 0 {
		if len(head) >= 84 {
			return errors.New("this is binary data, perhaps a model (STL): slice it first and send the slicer's G-code as text")
		}
		return fmt.Errorf("this is binary data (a zero byte at %d): G-code is text", n)
	}
	return nil
}

var known = []struct{ magic, what string }{
	{"solid ", "this is a model (STL), not G-code: slice it first"},
	{"solid\n", "this is a model (STL), not G-code: slice it first"},
	{"PK\x03\x04", "this is a ZIP archive or a 3MF model, not G-code: slice it, or unpack it, first"},
	{"\x89PNG", "this is a picture (PNG), not G-code"},
	{"\xff\xd8\xff", "this is a picture (JPEG), not G-code"},
	{"GIF8", "this is a picture (GIF), not G-code"},
	{"%PDF", "this is a PDF document, not G-code"},
	{"\x1f\x8b", "this is a gzip archive: unpack it first"},
	{"<?xml", "this is an XML file, perhaps a model: slice it first"},
	{"<html", "this is a web page, not G-code"},
	{"<!DOCTYPE", "this is a web page, not G-code"},
	{"<!doctype", "this is a web page, not G-code"},
	{"GCDE", "this is G-code in a packed binary form: let the slicer write plain text G-code"},
	{"\xff\xfe", "this is text in UTF-16: let the slicer write plain text"},
	{"ply\n", "this is a model (PLY), not G-code: slice it first"},
	{"{", "this is JSON, not G-code"},
}
