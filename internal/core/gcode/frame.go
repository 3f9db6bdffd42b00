package gcode

// A Frame is what other commands than G92 may have done to where lines lead: firmwares carry
// them out differently, or not at all, so that it is a range and no number. The machine is
// within it of where lines and G92 have it. The zero Frame is that of a firmware that nobody
// has told anything.
//
// What moves a frame:
//
//	G92            At and Shift of a State, which every firmware knows alike
//	G92.1 …        takes that back, or is read as G92: both
//	G10 L2, L20    puts a numbered frame somewhere
//	G10 P          gives a tool its offset
//	G53            what follows, or the next move, is in the machine's own frame
//	G54 … G59      chooses a frame; one that no line has put somewhere is only known to the printer
//	M206, M218     move the home position, or a tool, for good
//	M428           takes the place for home
//	M290           moves everything a little
//	units, G91     are part of every number's reading
type Frame struct {
	Least, Most [3]float64 // mm that the machine may be away, on X, Y and Z
	Put         uint16     // numbered frames that lines have put somewhere, a bit each
	Unknown     bool       // a frame is in use that only the printer knows
}

// may widens the range by what a line says of an axis, whichever way a firmware takes it.
func (f *Frame) may(axis Axis, mm float64) {
	f.Least[axis] += min(mm, -mm)
	f.Most[axis] += max(mm, -mm)
}

// words widens it by every axis that a line names.
func (f *Frame) words(l *Line, unit float64) (some bool) {
	for axis := X; axis <= Z; axis++ {
		if v, ok := l.Value(Letters[axis]); ok {
			f.may(axis, v*unit)
			some = true
		}
	}
	return some
}

// numbered is the bit of a numbered frame: G54 is 1.
func numbered(n int) uint16 { return 1 << (n & 15) }

// reframe follows a line that may move the frame.
func (s *State) reframe(l *Line) {
	f, unit := &s.Frame, s.unit()
	switch {
	case l.Is('G', 92): // with a sub-number
		for axis := range s.Shift[:3] {
			f.may(Axis(axis), s.Shift[axis])
			f.may(Axis(axis), s.At[axis])
		}
	case l.Is('G', 10):
		p, _ := l.Value('P')
		if how, has := l.Value('L'); has && how == 20 {
			for axis := X; axis <= Z; axis++ {
				if v, ok := l.Value(Letters[axis]); ok {
					f.may(axis, s.At[axis]+s.Shift[axis]-v*unit)
				}
			}
			f.Put |= numbered(int(p))
		} else if f.words(l, unit) {
			f.Put |= numbered(int(p))
		}
	case l.Is('G', 53):
		for axis := range s.Shift[:3] {
			f.may(Axis(axis), s.Shift[axis])
		}
	case l.Letter == 'G': // G54 to G59
		if n := l.Number - 53; l.Number > 54 && f.Put&numbered(n) == 0 {
			f.Unknown = true
		}
	case l.Is('M', 290):
		f.words(l, unit)
		if v, ok := l.Value('S'); ok {
			f.may(Z, v*unit)
		}
	case l.Is('M', 428):
		f.Unknown = true
	default: // M206, M218
		f.words(l, unit)
	}
}
