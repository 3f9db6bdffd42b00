// Package toolpath reads a whole file of G-code and tells what its moves will
// do: layers, extents, filament, time and temperatures. Everything is computed
// from the moves; comments are never read.
//
// What a file holds that a person should know of before it is printed is told with
// its lines. Whatever the file, memory stays bounded.
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

	"diathermon/internal/core/bounds"
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

// Bounds of what a file may ask of any machine. Beyond them it is refused with its
// line: nothing that is computed from it would mean anything.
const (
	farthest     = 1e5           // mm from the origin
	mostFilament = 1e8           // mm, which is a hundred kilometres
	longestMove  = 1e6           // mm
	longestDwell = 7 * 24 * 3600 // s
	longestPrint = 1e8           // s, which is three years
)

// Box is an extent in millimetres; Empty until something is in it.
type Box struct {
	Min, Max [3]float64
	Empty    bool
}

func (b *Box) add(low, high [3]float64) {
	for i := range 3 {
		if b.Empty || low[i] < b.Min[i] {
			b.Min[i] = low[i]
		}
		if b.Empty || high[i] > b.Max[i] {
			b.Max[i] = high[i]
		}
	}
	b.Empty = false
}

// Version is that of the computation: a Summary with another was computed otherwise,
// and is to be computed anew.
const Version = 2

// Summary is what a file amounts to.
type Summary struct {
	Version    int
	Lines      int                     // lines in the file
	Commands   int                     // lines that the printer receives
	Marks      []run.Mark              `json:"-"` // where each layer begins; left out of listings
	Layers     int                     // how many there are
	First      int                     // the first command that lays plastic, from 1; 0 if none does
	Extent     Box                     // of everything that lays plastic
	Filament   float64                 // mm pushed, retractions taken off
	Duration   time.Duration           // of the moves, without warming
	Setpoints  map[heat.Heater]float64 // the highest setpoint that could be meant for each heater
	Warming    []heat.Step             // the setpoints it gives before it lays plastic
	Tools      int                     // highest tool used, plus one
	Unread     int                     // lines that are not plain G-code, sent as they are
	Findings   []Finding               // about its lines, the gravest kept where there are many
	Hidden     float64                 // the highest number, °C or not, that a named command gives with a key that speaks of heat
	HiddenLine int                     // where
	LayerSteps float64                 // the commonest distance between layers, mm
}

// A Finding is something that a file holds, and where.
type Finding struct {
	bounds.Finding
	Line  int // the first that it is about
	Count int // how many there are
}

// A File is a stored file and what it amounts to.
type File struct {
	Name   string
	Size   int64
	SHA256 string // in hexadecimal
	Stored time.Time
	Summary
}

// Bounds of what is kept of a file.
const (
	mostSteps    = 64   // of Summary.Warming
	mostFindings = 20   // of each level
	mostMarks    = 8192 // of Summary.Marks; a file with more layers has them drawn together
)

// layerStep is the rise, in mm, that begins a layer.
const layerStep = 0.01

// ErrNoCommands means that nothing in a file is for the printer.
var ErrNoCommands = errors.New("there is no G-code in it: slice the model and send the slicer's output")

// Scan reads a file to its end. It fails with what is wrong in words if the
// reader does, if a line cannot be sent, or if most of the file is not G-code.
func Scan(r io.Reader, limits motion.Limits) (Summary, error) {
	s := scanner{Summary: Summary{Version: Version, Setpoints: map[heat.Heater]float64{}, Extent: Box{Empty: true}, Tools: 1}, step: layerStep}
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
		return s.Summary, fmt.Errorf("most lines are not G-code; the first is %s", s.firstOdd)
	}
	s.planner.Flush()
	s.time(math.MaxInt)
	s.Duration = time.Duration(s.spent * float64(time.Second))
	s.Layers, s.LayerSteps = len(s.Marks), commonest(s.Marks)
	return s.Summary, nil
}

type scanner struct {
	Summary
	line     gcode.Line
	state    gcode.State
	planner  motion.Planner
	firstOdd string  // the first unread line, with its number
	spent    float64 // seconds of all moves the planner is done with

	begun   int     // layers that have begun
	order   int     // and those that turned out to be none
	highest float64 // Z of the last of them, mm
	step    float64 // rise that begins one, mm
	pending []layer // whose time is not known yet
}

// layer is one that has begun.
type layer struct {
	run.Mark
	order int // how many had begun before it
}

// spend is called by the planner in the order of moves. Tag is the number of layers
// that had begun when the move was added.
func (s *scanner) spend(tag int, seconds float64) {
	s.time(tag)
	s.spent += seconds
}

// time moves the layers that began before a move with that tag to the marks.
func (s *scanner) time(tag int) {
	done := 0
	for ; done < len(s.pending) && s.pending[done].order < tag; done++ {
		m := s.pending[done].Mark
		m.Seconds = s.spent
		s.Marks = append(s.Marks, m)
	}
	if done > 0 {
		s.pending = append(s.pending[:0], s.pending[done:]...)
	}
	if len(s.Marks) > mostMarks {
		s.thin()
	}
}

// thin draws layers together until half of them are left: their rise is less than
// any slicer's, or there is no end to them.
func (s *scanner) thin() {
	for len(s.Marks) > mostMarks/2 {
		s.step *= 2
		kept := s.Marks[:1]
		for _, m := range s.Marks[1:] {
			if m.Z > kept[len(kept)-1].Z+s.step {
				kept = append(kept, m)
			}
		}
		s.Marks = kept
	}
}

func (s *scanner) command(command []byte) error {
	s.Commands++
	for _, b := range command {
		if b < ' ' && b != '\t' || b == 0x7f {
			return fmt.Errorf("found control character %#02x: the file is damaged, or not G-code", b)
		}
	}
	if s.spent > longestPrint {
		return fmt.Errorf("until here it takes %.0f days, which no print does", s.spent/86400)
	}
	l := &s.line
	plain := l.Parse(command)
	if errors.Is(plain, gcode.ErrImpossible) {
		return plain
	}
	if f, found := bounds.Filed(command, l, plain); found {
		s.find(f)
	}
	if plain != nil {
		s.Unread++
		if s.firstOdd == "" {
			s.firstOdd = fmt.Sprintf("line %d, %q", s.Lines, command[:min(len(command), 40)])
		}
		if g := gcode.GuessAt(command); g.Heat > s.Hidden {
			s.Hidden, s.HiddenLine = min(g.Heat, gcode.Most), s.Lines
		}
		return nil
	}
	switch l.Letter {
	case 'T':
		s.Tools = max(s.Tools, min(l.Number, 15)+1)
	case 'G':
		if l.Number == 4 {
			seconds := l.Dwell()
			if seconds < 0 || seconds > longestDwell {
				return fmt.Errorf("a wait of %g s is not possible: %q", seconds, command)
			}
			s.planner.Wait(seconds, s.order)
		}
	}
	s.setpoints(l)
	m, moves := s.state.Apply(l)
	if err := s.possible(command); err != nil || !moves {
		return err
	}
	if length := m.Length(); !(length <= longestMove) {
		return fmt.Errorf("a move of %g mm is more than any machine can do: %q", length, command)
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
	s.planner.Add(m, s.order)
	return nil
}

// possible says why no machine can be where the lines so far lead, or nil.
func (s *scanner) possible(command []byte) error {
	at := s.state.Machine()
	for axis := gcode.X; axis <= gcode.Z; axis++ {
		if v := at[axis]; !(math.Abs(v) <= farthest) || !(math.Abs(s.state.At[axis]) <= farthest) {
			return fmt.Errorf("%c %g mm is farther than any machine reaches: %q", gcode.Letters[axis], v, command)
		}
	}
	if e := at[gcode.E]; !(math.Abs(e) <= mostFilament) || !(math.Abs(s.state.At[gcode.E]) <= mostFilament) {
		return fmt.Errorf("%g m of filament are more than any print takes: %q", e/1000, command)
	}
	return nil
}

// find keeps a finding, and counts those like it.
func (s *scanner) find(f bounds.Finding) {
	kept := 0
	for i := range s.Findings {
		if s.Findings[i].Finding == f {
			s.Findings[i].Count++
			return
		}
		if s.Findings[i].Level == f.Level {
			kept++
		}
	}
	if kept >= mostFindings {
		f = bounds.Finding{Level: f.Level, Title: "there are more like these", Do: "look through the file"}
		if kept > mostFindings {
			for i := range s.Findings {
				if s.Findings[i].Finding == f {
					s.Findings[i].Count++
				}
			}
			return
		}
	}
	s.Findings = append(s.Findings, Finding{f, s.Lines, 1})
}

// lay accounts for a move that draws plastic.
func (s *scanner) lay(m gcode.Move) {
	if s.First == 0 {
		s.First = s.Commands
	}
	s.Extent.add(m.Box())
	z := m.To[gcode.Z]
	if s.begun == 1 && z < s.highest-layerStep { // what came before was a priming line above the first layer
		s.begun, s.Marks, s.pending = 0, nil, nil
	}
	if s.begun == 0 || z > s.highest+s.step {
		s.pending = append(s.pending, layer{run.Mark{Command: s.Commands - 1, Z: z}, s.order})
		s.begun, s.order, s.highest = s.begun+1, s.order+1, z
	}
}

// setpoints notes the temperatures a line asks for.
func (s *scanner) setpoints(l *gcode.Line) {
	for _, a := range bounds.Asked(l, s.state.Tool) {
		if a.Heater == "" {
			a.Heater = heat.NozzleOf(s.state.Tool)
		}
		s.Setpoints[a.Heater] = max(s.Setpoints[a.Heater], a.Setpoint)
	}
	if h, v, ok := run.Setpoint(l, s.state.Tool); ok && s.First == 0 && len(s.Warming) < mostSteps {
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
