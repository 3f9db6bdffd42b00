package toolpath

import (
	"diathermon/internal/core/bounds"
	"diathermon/internal/core/gcode"
)

// filament looks whether E means what the file says that it means: counted from the
// beginning, or from the line before. Read the other way a file pushes hundreds of metres, or
// next to nothing.
type filament struct {
	laid      int     // moves that push while they go somewhere, or draw back
	thick     int     // of which push more than any nozzle lays
	way       float64 // mm of all these
	back      int     // of which draw back where E counts from the beginning
	relative  bool    // as firmwares read it that keep E apart from G90 and G91
	mixed     int     // moves that lay and that the two kinds of firmware read differently
	mixedLine int     // the first
	most      float64 // mm of filament a second, of a move of some length
}

const (
	few        = 10
	thickest   = 1.0   // mm of filament for a millimetre of way: a bead of 2.4 mm²
	thinnest   = 0.002 // the same at the least: a hair
	enoughWay  = 1000. // mm
	enoughLaid = 20
	farEnough  = 1.0 // mm: the flow of a shorter move says nothing
)

// mode follows what says how E is read.
func (f *filament) mode(l *gcode.Line) {
	if l.Letter == 'M' {
		f.relative = l.Number == 83
	}
}

// lay takes a move that pushes filament, mm, on its way.
func (f *filament) lay(m *gcode.Move, l *gcode.Line, pushed, length float64) {
	f.laid++
	f.way += length
	if length >= farEnough {
		f.most = max(f.most, pushed*m.Feed/length)
	}
	if length > 0 && pushed/length > thickest {
		f.thick++
	}
}

// draw takes a move that draws filament back on its way.
func (f *filament) draw() { f.laid, f.back = f.laid+1, f.back+1 }

// differ takes a move with an E that the firmwares read differently.
func (f *filament) differ(line int) {
	if f.mixed++; f.mixedLine == 0 {
		f.mixedLine = line
	}
}

// judge says what is wrong with the file's filament, at its end.
func (f *filament) judge(s *scanner) {
	s.Melts = f.most
	find := func(level bounds.Level, line int, title, do string) {
		s.Findings = Found(s.Findings, bounds.Finding{Level: level, Overrule: level == bounds.Block, Title: title, Do: do}, max(line, 1))
	}
	switch {
	case f.mixed > 0:
		level := bounds.Block
		if f.mixed <= few { // a priming line: both readings push it
			level = bounds.Warn
		}
		find(level, f.mixedLine, "it lays plastic behind G90 or G91 without saying how E is read, which firmwares do differently", "put M82 or M83 behind G90 and G91, or slice it again")
	case f.laid < enoughLaid:
	case 3*f.back > f.laid || f.back > 0 && f.way > enoughWay && s.Filament < thinnest*f.way:
		find(bounds.Block, s.First, "E goes up and down as if it were counted from line to line, and is counted from the beginning", "put M83 before it, or slice it again")
	case 4*f.thick > f.laid:
		find(bounds.Block, s.First, "it pushes far more filament than any nozzle lays: E looks as if it were counted from the beginning, and is counted from line to line", "put M82 before it, or slice it again")
	}
}
