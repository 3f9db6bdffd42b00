package gcode

import "fmt"

// A Factor is a parameter that multiplies, from then on, what other lines move or heat, or
// bounds it: no line that follows means what it says without it. It has bounds of its own,
// which hold for typed lines, files and routines alike.
type Factor struct {
	Code      Code
	Letters   string
	Low, High float64
	Unit      Unit
	Off       bool    // 0 goes, too: it switches it off
	Start     float64 // what it is after a start; 0: the printer's own
	Means     string
}

// Factors are all that the catalogue has.
var Factors = []Factor{
	{Code{'M', 220, 0}, "S", 10, 500, Percent, false, 100, "every feed"},
	{Code{'M', 221, 0}, "S", 10, 200, Percent, false, 100, "all filament"},
	{Code{'M', 900, 0}, "KL", 0, 4, Seconds, true, 0, "filament ahead of what is laid faster"},
	{Code{'M', 572, 0}, "S", 0, 4, Seconds, true, 0, "filament ahead of what is laid faster"},
	{Code{'M', 200, 0}, "D", 1, 4, Millimetres, true, 0, "all filament, where E is a volume"},
	{Code{'M', 207, 0}, "SW", 0, 30, Millimetres, true, 0, "what G10 draws back"},
	{Code{'M', 207, 0}, "Z", 0, 10, Millimetres, true, 0, "what G10 lifts"},
	{Code{'M', 208, 0}, "SW", -5, 5, Millimetres, true, 0, "what G11 pushes besides"},
	{Code{'M', 201, 0}, "XYZE", 1, 1e5, Acceleration, false, 0, "every acceleration"},
	{Code{'M', 203, 0}, "XYZE", 0.1, 6e4, Speed, false, 0, "every speed"}, // some firmwares count mm/min
	{Code{'M', 204, 0}, "SPRT", 1, 1e5, Acceleration, false, 0, "every acceleration"},
	{Code{'M', 205, 0}, "XYZE", 0, 100, Speed, true, 0, "the speed of corners"},
	{Code{'M', 205, 0}, "J", 0, 1, Millimetres, true, 0, "the speed of corners"},
	{Code{'M', 566, 0}, "XYZE", 0, 6000, Feed, true, 0, "the speed of corners"},
	{Code{'M', 92, 0}, "XYZE", 1, 1e5, Steps, false, 0, "how far a millimetre is"},
	{Code{'M', 290, 0}, "XYZS", -1, 1, Millimetres, true, 0, "where everything is"},
	{Code{'M', 425, 0}, "XYZ", 0, 5, Millimetres, true, 0, "what is moved at each turn"},
	{Code{'M', 303, 0}, "C", 1, 50, Count, false, 0, "how often it heats"},
	{Code{'M', 906, 0}, "XYZE", 1, 3000, Milliamperes, false, 0, "the heat of the motors"},
	{Code{'M', 907, 0}, "XYZES", 1, 3000, Milliamperes, false, 0, "the heat of the motors"},
}

// factors are the same by command, which hardly any line is.
var factors = func() map[Code][]Factor {
	out := map[Code][]Factor{}
	for _, f := range Factors {
		out[f.Code] = append(out[f.Code], f)
	}
	return out
}()

// Factors are those of a command.
func (c Code) Factors() []Factor { return factors[Code{c.Letter, c.Number, 0}] }

// Holds says why a value is none of a factor's, or nil.
func (f Factor) Holds(letter byte, low, high float64) error {
	if f.Off && low == 0 && high == 0 || low >= f.Low && high <= f.High {
		return nil
	}
	is := fmt.Sprintf("%g", low)
	if low != high {
		is = fmt.Sprintf("%g to %g", low, high)
	}
	return fmt.Errorf("%c%s of %s multiplies or bounds %s: %g to %g %s go", letter, is, f.Code, f.Means, f.Low, f.High, f.Unit)
}

// Within says which of a line's factors is beyond its bounds, or nil.
func (l *Line) Within() error {
	for _, f := range l.Code().Factors() {
		for _, letter := range []byte(f.Letters) {
			if v, given := l.Value(letter); given {
				if err := f.Holds(letter, v, v); err != nil {
					return err
				}
			}
		}
	}
	return nil
}
