package toolpath

import (
	"bufio"
	"bytes"
	"errors"
	"fmt"
	"hash/fnv"
	"io"
	"math"
	"slices"
	"time"

	"diathermon/internal/core/bounds"
	"diathermon/internal/core/gcode"
	"diathermon/internal/core/heat"
	"diathermon/internal/core/legible"
	"diathermon/internal/core/motion"
	"diathermon/internal/core/run"
)

// longestLine is the longest line, comment included, that a file may have. A
// slicer's picture in a comment has lines of some 80 bytes, its settings some
// thousands.
const longestLine = 1 << 20

// Options are what a file is read with.
type Options struct {
	Limits motion.Limits // of the printer
	Of     LimitsOf      // whose they are
	Stroke func(*Stroke) // is told of each stroke, if it is not nil; it may not keep it
}

// By tells Summaries apart that were computed with other limits.
func (o Options) By() string {
	h := fnv.New64a()
	fmt.Fprint(h, o.Limits, o.Of)
	return fmt.Sprintf("%016x", h.Sum64())
}

// Scan reads a file to its end. It fails with what is wrong in words if the
// reader does, if a line cannot be sent, or if most of the file is not G-code.
func Scan(r io.Reader, o Options) (Summary, error) {
	s := scanner{
		Summary: Summary{Version: Version, Setpoints: map[heat.Heater]float64{}, Extent: Box{Empty: true}, Part: Box{Empty: true}, Reach: Reach{Box: Box{Empty: true}}, Tools: 1, LimitsOf: o.Of, By: o.By()},
		layers:  layers{step: layerStep}, draw: o.Stroke, object: -1,
	}
	o.Limits.Ring = min(o.Limits.Ring, mostFlight-1)
	s.program = motion.NewProgram(o.Limits, s.spend)
	lines := bufio.NewScanner(r)
	lines.Buffer(make([]byte, 256<<10), longestLine)
	lines.Split(s.split)
	for lines.Scan() {
		s.Lines++
		if err := s.read(lines.Bytes()); err != nil {
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
	err := s.end()
	legible.Clean(&s.Summary) // what a file calls its material, its parts and its lines is its own
	return s.Summary, err
}

// split is bufio.ScanLines, and notes a last line without an end.
func (s *scanner) split(data []byte, atEOF bool) (int, []byte, error) {
	if i := bytes.IndexByte(data, '\n'); i >= 0 {
		return i + 1, data[:i], nil
	}
	if atEOF && len(data) > 0 {
		s.broken = true
		return len(data), data, nil
	}
	return 0, nil, nil
}

type scanner struct {
	Summary
	layers
	program  *motion.Program
	draw     func(*Stroke)
	line     gcode.Line
	stroke   Stroke
	firstOdd string                          // the first unread line, with its number
	broken   bool                            // the last line has no end
	laying   bool                            // the last command laid plastic
	spindle  int                             // line of a command that turns a spindle or lights a laser
	cold     bool                            // cold extrusion was found
	looked   bool                            // and looked for since a tool or a setpoint was last set
	warned   bool                            // moves before homing were found
	feature  int                             // of Features, that was drawn last
	drawn    struct{ speed, height float64 } // with which it was
	moves    int                             // so far
	flight   [mostFlight]flight
	object   int // of Objects, whose lines these are; -1: of none
	onBed    onBed
	filament filament
	waited   map[heat.Heater]float64 // °C that were waited for, by heater
	now      map[heat.Heater]float64
}

// read takes one line.
func (s *scanner) read(raw []byte) error {
	if s.line.Quick(raw) {
		s.Commands++
		return s.carry(raw)
	}
	if i := bytes.IndexByte(raw, ';'); i >= 0 {
		s.Hints.note(raw[i+1:])
	}
	command := gcode.Command(raw)
	if len(command) == 0 {
		return nil
	}
	s.Commands++
	s.mark(command)
	for _, b := range command {
		if b < ' ' && b != '\t' || b == 0x7f {
			return fmt.Errorf("found control character %#02x: the file is damaged, or not G-code", b)
		}
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
		s.unread(command)
		return nil
	}
	return s.carry(command)
}

// unread notes a line that is not plain.
func (s *scanner) unread(command []byte) {
	s.Unread++
	s.laying = false
	s.program.Named(string(command))
	if s.firstOdd == "" {
		s.firstOdd = fmt.Sprintf("line %d, %q", s.Lines, command[:min(len(command), 40)])
	}
	if g := gcode.GuessAt(command); g.Heat > s.Hidden {
		s.Hidden, s.HiddenLine = min(g.Heat, gcode.Most), s.Lines
	}
}

// carry carries out the line that was read.
func (s *scanner) carry(command []byte) error {
	if s.spent.All > longestPrint {
		return fmt.Errorf("until here it takes %.0f days, which no print does", s.spent.All/86400)
	}
	l := &s.line
	if s.object >= 0 {
		s.fixed(l)
	}
	if l.Letter != 'G' || l.Number > 3 {
		if err := s.other(l, command); err != nil {
			return err
		}
	}
	tag := s.moves % mostFlight
	s.flight[tag] = flight{s.order, nothing, s.tool(), s.Commands}
	known := !s.program.State.Frame.Unknown
	m := s.program.Take(l, tag)
	if m == nil {
		s.laying = false
		if known && s.program.State.Frame.Unknown {
			s.find(bounds.Finding{Level: bounds.Block, Title: fmt.Sprintf("%s %s of which only the printer knows where it is", l.Code(), l.Code().Look().Does), Do: "take the line out, or put the frame somewhere in the file"})
		}
		if l.Letter == 'G' {
			return s.possible(command)
		}
		return nil
	}
	s.moves++
	if err := s.moved(m, command); err != nil {
		return err
	}
	if s.laying {
		s.flight[tag].feature = s.feature
	}
	return nil
}

// flight is what is remembered of a move that the planner holds.
type flight struct {
	order   int // how many layers had begun before it
	feature int // that it draws
	tool    int // that is in use
	command int // that asks for it
}

const (
	mostFlight = 128 // moves that the planner may hold
	nothing    = -1  // the feature of a move that draws nothing
)

// spend is called by the planner in the order of moves.
func (s *scanner) spend(tag int, set, own motion.Time) {
	f := &s.flight[tag]
	s.time(f.order)
	s.Course.Pass(f.command, s.spent, s.own)
	s.spent.Add(set)
	s.own.Add(own)
	add(&s.Spent, f.tool, set.All)
	if f.feature == nothing {
		s.elsewhere += set.All
	} else {
		s.Features[f.feature].Seconds += set.All
	}
}

// other looks at a line that is no move.
func (s *scanner) other(l *gcode.Line, command []byte) error {
	code := l.Code()
	if run.Unplanned(code) && len(s.Waits) < mostWaits {
		s.Waits = append(s.Waits, Wait{s.Commands, code.String()})
	}
	switch {
	case l.Letter == 'T':
		s.Tools, s.looked = max(s.Tools, min(l.Number, 15)+1), false
	case l.Is('G', 4):
		if seconds := l.Dwell(); seconds < 0 || seconds > longestDwell {
			return fmt.Errorf("a wait of %g s is not possible: %q", seconds, command)
		}
	case l.Is('M', 116):
		for h, v := range s.now {
			s.waitedFor(h, v)
		}
	case l.Is('M', 82), l.Is('M', 83), l.Is('G', 90), l.Is('G', 91):
		s.filament.mode(l)
	case l.Is('M', 42):
		s.pin(l)
	case l.Is('M', 3), l.Is('M', 4):
		if s.spindle == 0 {
			s.spindle = s.Lines
		}
	case code.Traits() == 0:
		s.find(bounds.Finding{Level: bounds.Note, Title: fmt.Sprintf("%s is a command that this host does not know; the firmware may not either", code), Do: "see that yours does"})
	}
	s.setpoints(l)
	return nil
}

// moved accounts for a move.
func (s *scanner) moved(m *gcode.Move, command []byte) error {
	if err := s.possible(command); err != nil {
		return err
	}
	straight := m.Straight()
	dx, dy, dz := m.To[0]-m.From[0], m.To[1]-m.From[1], m.To[2]-m.From[2]
	length := math.Sqrt(dx*dx + dy*dy + dz*dz)
	if !straight {
		length = m.Length()
	}
	if !(length <= longestMove) {
		return fmt.Errorf("a move of %g mm is more than any machine can do: %q", length, command)
	}
	low, high := s.machineBox(m, straight)
	state := &s.program.State
	for axis := gcode.X; axis <= gcode.Z; axis++ {
		if m.From[axis] == m.To[axis] && straight {
			continue
		}
		if !state.Homed[axis] {
			s.unhomed(state, axis)
			if state.Relative { // from wherever it is
				continue
			}
		}
		s.Reach.add(low[axis], high[axis], axis, s.Lines)
	}
	pushed := m.Extrusion()
	s.push(pushed)
	s.laying = pushed > 0 && (dx != 0 || dy != 0 || !straight)
	if pushed != 0 && (dx != 0 || dy != 0) {
		if pushed < 0 && !state.RelativeExtruder {
			s.filament.draw()
		} else if pushed > 0 && state.RelativeExtruder != s.filament.relative {
			s.filament.differ(s.Lines)
		}
	}
	if m.Arc {
		s.bowed(m)
	}
	if s.laying {
		s.lay(m, &low, &high, pushed, length)
	}
	if s.draw != nil {
		s.show(m)
	}
	return nil
}

// machineBox is where a move leads in the machine's own frame, whatever has moved that of the
// lines, in the widest way in which they can be read.
func (s *scanner) machineBox(m *gcode.Move, straight bool) (low, high [3]float64) {
	low, high = [3]float64(m.From[:3]), [3]float64(m.To[:3])
	if !straight {
		low, high = m.Box()
	}
	state := &s.program.State
	for axis := range 3 {
		if low[axis] > high[axis] {
			low[axis], high[axis] = high[axis], low[axis]
		}
		low[axis] += state.Shift[axis] + state.Frame.Least[axis]
		high[axis] += state.Shift[axis] + state.Frame.Most[axis]
	}
	return low, high
}

// lay accounts for a move that draws plastic.
func (s *scanner) lay(m *gcode.Move, low, high *[3]float64, pushed, length float64) {
	if s.First == 0 {
		s.First = s.Commands
	}
	box := &s.Part
	if s.begun <= 1 {
		box = &s.Extent
	}
	box.add(low, high)
	if s.object >= 0 {
		o := &s.Objects[s.object]
		o.Extent.add(low, high)
		o.Filament += pushed
	}
	if !s.looked {
		s.looked = true
		s.tooCold()
	}
	s.layers.lay(m, s.Commands, s.Filament-pushed)
	s.onBed.lay(m, s.order, s.Commands-1)
	if m.Feed > s.Fastest {
		s.Fastest = m.Feed
	}
	if s.program.Fan > s.Fan {
		s.Fan = s.program.Fan
	}
	if flow := pushed * m.Feed; flow > s.Flow*length {
		s.Flow = flow / length
	}
	s.filament.lay(m, &s.line, pushed, length)
	f := s.featureOf(m.Feed)
	f.Length, f.Filament = f.Length+length, f.Filament+pushed
}

// show hands on a move, an arc or a curve by its chords.
func (s *scanner) show(m *gcode.Move) {
	state := &s.program.State
	k := &s.stroke
	k.Feed, k.Command, k.Layer, k.Height = m.Feed, s.Commands, max(s.begun-1, 0), s.height
	k.Fan, k.Nozzle, k.Tool = state.Fan, s.now[heat.NozzleOf(state.Tool)], state.Tool
	each := func(m *gcode.Move) {
		k.From, k.To = m.From, m.To
		for axis := gcode.X; axis <= gcode.Z; axis++ {
			k.From[axis] += state.Shift[axis]
			k.To[axis] += state.Shift[axis]
		}
		s.draw(k)
	}
	if m.Straight() {
		each(m)
		return
	}
	for _, chord := range motion.Chords(nil, *m) {
		each(&chord)
	}
}

// most is how far from the origin each axis can be, mm.
var most = gcode.Position{farthest, farthest, farthest, mostFilament}

// beyond is an axis on which no machine can be where the lines so far lead, or -1.
func (s *scanner) beyond() int {
	at, shift := &s.program.At, &s.program.Shift
	for axis := range most {
		if !(math.Abs(at[axis]) <= most[axis] && math.Abs(at[axis]+shift[axis]) <= most[axis]) {
			return axis
		}
	}
	return -1
}

// possible says why no machine can be where the lines so far lead, or nil.
func (s *scanner) possible(command []byte) error {
	axis := s.beyond()
	switch {
	case axis < 0:
		return nil
	case axis == int(gcode.E):
		return fmt.Errorf("%g m of filament are more than any print takes: %q", s.program.At[axis]/1000, command)
	}
	return fmt.Errorf("%c %g mm is farther than any machine reaches: %q", gcode.Letters[axis], s.program.At[axis]+s.program.Shift[axis], command)
}

// setpoints notes the temperatures a line asks for.
func (s *scanner) setpoints(l *gcode.Line) {
	if l.Letter != 'M' && l.Letter != 'G' {
		return
	}
	tool := s.program.Tool
	for _, a := range bounds.Asked(l, tool) {
		if a.Heater == "" {
			a.Heater = heat.NozzleOf(tool)
		}
		s.Setpoints[a.Heater] = max(s.Setpoints[a.Heater], a.Setpoint)
	}
	h, v, ok := run.Setpoint(l, tool)
	if !ok {
		return
	}
	if s.now == nil {
		s.now = map[heat.Heater]float64{}
	}
	if was, given := s.now[h]; (!given || was != v) && len(s.Given) < mostGiven {
		s.Given = append(s.Given, Given{Line: s.Lines, Layer: s.begun, Heater: h, Setpoint: v})
	}
	s.now[h], s.looked = v, false
	if run.Waits(l) {
		s.waitedFor(h, v)
	}
	if s.First == 0 && len(s.Warming) < mostSteps {
		s.Warming = append(s.Warming, heat.Step{Command: s.Commands, Heater: h, Setpoint: v, Wait: run.Waits(l)})
	}
}

// end judges the whole file.
func (s *scanner) end() error {
	if s.Commands == 0 {
		return ErrNoCommands
	}
	if s.Unread*2 > s.Commands {
		return fmt.Errorf("most lines are not G-code; the first is %s", s.firstOdd)
	}
	if s.spindle > 0 && s.Filament <= 0 {
		return fmt.Errorf("line %d turns a spindle or lights a laser, and nothing pushes filament: this is for a mill or a cutter, not for a 3D printer", s.spindle)
	}
	s.program.Flush()
	s.filament.judge(s)
	s.time(math.MaxInt)
	s.leaves()
	s.Duration = time.Duration(s.spent.All * float64(time.Second))
	s.Course.Ends(s.spent, s.own)
	s.Travelling = time.Duration(s.elsewhere * float64(time.Second))
	if s.Marks = s.marks; s.Part.Empty {
		s.Part = s.Extent
	} else {
		s.Extent.add(&s.Part.Min, &s.Part.Max)
	}
	s.onBed.judge()
	s.Second = s.onBed.second
	s.Layers, s.LayerSteps = len(s.Marks), commonest(s.Marks)
	slices.SortFunc(s.Features, func(a, b Feature) int {
		if a.Height != b.Height {
			return int(math.Copysign(1, a.Height-b.Height))
		}
		return int(a.Speed - b.Speed)
	})
	s.Hints.settle()
	return nil
}
