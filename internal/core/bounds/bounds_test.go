package bounds_test

import (
	"errors"
	"fmt"
	"math"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"
	"time"

	"diathermon/internal/core/bounds"
	"diathermon/internal/core/gcode"
	"diathermon/internal/core/heat"
	"diathermon/internal/core/machine"
	"diathermon/internal/core/motion"
	"diathermon/internal/core/preflight"
	"diathermon/internal/core/toolpath"
	"diathermon/internal/simprinter"
)

// Limits below those of the stand-in's firmware, so that it would carry out what the
// host lets pass.
var vesper = bounds.Machine{Size: [3]float64{230, 230, 240}, Limits: heat.Limits{Nozzle: 260, Bed: 90}}

// idle is a homed printer with nothing to do.
func idle() bounds.Situation {
	s := bounds.Situation{Machine: vesper}
	s.At.Homed = [3]bool{true, true, true}
	return s
}

func printing() bounds.Situation {
	s := idle()
	s.Run, s.State, s.WayOut = "knob.gcode", "running", "hold it, stop it, or wait until it ends"
	return s
}

func parked() bounds.Situation {
	s := printing()
	s.State, s.Parked = "held", true
	return s
}

func TestTypedLinesAreBounded(t *testing.T) {
	for _, c := range []struct {
		line                   string
		idle, printing, parked error
	}{
		{"M105", nil, nil, nil},
		{"M104 S260", nil, nil, nil},
		{"M104 S261", bounds.ErrSetpoint, bounds.ErrSetpoint, bounds.ErrSetpoint},
		{"m104 s261", bounds.ErrSetpoint, bounds.ErrSetpoint, bounds.ErrSetpoint},
		{"M104S261", bounds.ErrSetpoint, bounds.ErrSetpoint, bounds.ErrSetpoint},
		{"M104 S261 R20", bounds.ErrSetpoint, bounds.ErrSetpoint, bounds.ErrSetpoint},
		{"G10 P0 R270 S20", bounds.ErrSetpoint, bounds.ErrSetpoint, bounds.ErrSetpoint},
		{"M104 R261 S20", bounds.ErrSetpoint, bounds.ErrSetpoint, bounds.ErrSetpoint},
		{"M104 S200 B300", bounds.ErrSetpoint, bounds.ErrSetpoint, bounds.ErrSetpoint},
		{"M104 T7 S261", bounds.ErrSetpoint, bounds.ErrSetpoint, bounds.ErrSetpoint},
		{"M190 R91", bounds.ErrSetpoint, bounds.ErrSetpoint, bounds.ErrSetpoint},
		{"M141 S40", bounds.ErrSetpoint, bounds.ErrSetpoint, bounds.ErrSetpoint},
		{"M303 E0 S270 C8", bounds.ErrSetpoint, bounds.ErrSetpoint, bounds.ErrSetpoint},
		{"M303 E-1 S95", bounds.ErrSetpoint, bounds.ErrSetpoint, bounds.ErrSetpoint},
		{"M303 H1 S210", bounds.ErrSetpoint, bounds.ErrSetpoint, bounds.ErrSetpoint},
		{"G10 P0 S270 R20", bounds.ErrSetpoint, bounds.ErrSetpoint, bounds.ErrSetpoint},
		{"M568 P0 R270", bounds.ErrSetpoint, bounds.ErrSetpoint, bounds.ErrSetpoint},
		{"M221 S99999", bounds.ErrLine, bounds.ErrLine, bounds.ErrLine},
		{"M220 S99999", bounds.ErrLine, bounds.ErrLine, bounds.ErrLine},
		{"M220 S0", bounds.ErrLine, bounds.ErrLine, bounds.ErrLine},
		{"M900 K1000", bounds.ErrLine, bounds.ErrLine, bounds.ErrLine},
		{"M200 D0.1", bounds.ErrLine, bounds.ErrLine, bounds.ErrLine},
		{"M207 S900", bounds.ErrLine, bounds.ErrLine, bounds.ErrLine},
		{"M290 Z-3", bounds.ErrLine, bounds.ErrLine, bounds.ErrLine},
		{"M92 E0", bounds.ErrLine, bounds.ErrLine, bounds.ErrLine},
		{"M149 F", bounds.ErrLine, bounds.ErrLine, bounds.ErrLine},
		{"M104 S300 #", bounds.ErrLine, bounds.ErrLine, bounds.ErrLine},
		{"M104 S20 #", bounds.ErrLine, bounds.ErrLine, bounds.ErrLine},
		{"M104 \"x S300", bounds.ErrLine, bounds.ErrLine, bounds.ErrLine},
		{"M104 S3E2", bounds.ErrLine, bounds.ErrLine, bounds.ErrLine},
		{"M104 S0x12C", bounds.ErrLine, bounds.ErrLine, bounds.ErrLine},
		{"M105 M104 S300", bounds.ErrLine, bounds.ErrLine, bounds.ErrLine},
		{"M1 04 S300", bounds.ErrLine, bounds.ErrLine, bounds.ErrLine},
		{"M1 change the filament", nil, bounds.ErrBusy, nil},
		{"LOAD_M104 KEY=S300", bounds.ErrLine, bounds.ErrLine, bounds.ErrLine},
		{"SET_HOTEND TARGET=300", bounds.ErrLine, bounds.ErrLine, bounds.ErrLine},
		{"hello", bounds.ErrLine, bounds.ErrLine, bounds.ErrLine},
		{"X300", bounds.ErrLine, bounds.ErrLine, bounds.ErrLine},
		{"M105 ~", nil, bounds.ErrLine, bounds.ErrLine},
		{"M117 half way", nil, nil, nil},
		{"M117 5 minutes left", nil, nil, nil},
		{"M117 G28 first", bounds.ErrLine, bounds.ErrLine, bounds.ErrLine},
		{"M117 12m28s left of G1", nil, nil, nil},
		{"G1 X10 F3000", nil, bounds.ErrBusy, nil},
		{"G1 X300 F3000", bounds.ErrLine, bounds.ErrLine, bounds.ErrLine},
		{"G1 Z-3", bounds.ErrLine, bounds.ErrLine, bounds.ErrLine},
		{"G1 Z50 F600 #", bounds.ErrLine, bounds.ErrLine, bounds.ErrLine},
		{"G92 X200 ~", bounds.ErrLine, bounds.ErrLine, bounds.ErrLine},
		{"G91 #", bounds.ErrLine, bounds.ErrLine, bounds.ErrLine},
		{"M84 X #", bounds.ErrLine, bounds.ErrLine, bounds.ErrLine},
		{"T1 #", bounds.ErrLine, bounds.ErrLine, bounds.ErrLine},
		{"M110 N5 #", bounds.ErrLine, bounds.ErrLine, bounds.ErrLine},
		{"M110 N5", bounds.ErrLine, bounds.ErrLine, bounds.ErrLine},
		{"M28 x.g", bounds.ErrLine, bounds.ErrLine, bounds.ErrLine},
		{"M500 !", bounds.ErrLine, bounds.ErrLine, bounds.ErrLine},
		{"M500", nil, bounds.ErrBusy, nil},
		{"G28", nil, bounds.ErrBusy, bounds.ErrBusy},
		{"G92 E0", nil, bounds.ErrBusy, nil},
		{"G92 X0", nil, bounds.ErrBusy, bounds.ErrBusy},
		{"M5012", nil, bounds.ErrBusy, bounds.ErrBusy},
		{"G1 X99999999999999999999", bounds.ErrLine, bounds.ErrLine, bounds.ErrLine},
	} {
		for what, s := range map[string]struct {
			bounds.Situation
			want error
		}{"idle": {idle(), c.idle}, "printing": {printing(), c.printing}, "parked": {parked(), c.parked}} {
			if err := s.Typed(c.line); !errors.Is(err, s.want) || (err == nil) != (s.want == nil) {
				t.Errorf("%s: %q: %v, want %v", what, c.line, err, s.want)
			}
		}
	}
}

func TestAMoveWhosePlaceIsNotKnownIsNoLongerThanItsAxis(t *testing.T) {
	s := bounds.Situation{Machine: vesper}
	if err := s.Typed("G1 Z500"); !errors.Is(err, bounds.ErrLine) {
		t.Errorf("500 mm of a Z of 240: %v", err)
	}
	if err := s.Typed("G1 Z10"); err != nil {
		t.Errorf("10 mm: %v", err)
	}
	s.At.Relative, s.At.Homed, s.At.At[gcode.X] = true, [3]bool{true, true, true}, 220
	if err := s.Typed("G1 X20"); !errors.Is(err, bounds.ErrLine) {
		t.Errorf("20 mm on from 220 of 230: %v", err)
	}
	s.At.Relative, s.At.Shift[gcode.X] = false, 200
	if err := s.Typed("G0 X40"); !errors.Is(err, bounds.ErrLine) {
		t.Errorf("40 mm in a frame that begins at 200: %v", err)
	}
}

// plain are commands with a bound, each beyond it, and what a stand-in that carried
// them out would show.
var plain = []string{"M104 S285", "M109 S285", "M140 S115", "M190 R115", "G1 X600 F6000", "G0 Y-90", "G1 Z800", "M110 N77", "M104 T0 S281"}

// modest are commands within their bounds, which must not grow by what is added.
var modest = []string{"M104 S30", "M140 S20", "M104 S0", "M104 T0 S200"}

const junk = "#~,*'\"!?/=:<>_|&%$@^`{}[]()+-. \t\x80\xe2\x80\xa8\xef\xbb\xbf0179xEeGMTNSsPnm"

// decorate spoils a command in the ways that people, editors and slicers do.
func decorate(rng *rand.Rand, line string) string {
	for range 1 + rng.IntN(4) {
		at := rng.IntN(len(line) + 1)
		piece := make([]byte, 1+rng.IntN(3))
		for i := range piece {
			piece[i] = junk[rng.IntN(len(junk))]
		}
		switch rng.IntN(8) {
		case 0, 1, 2:
			line = line[:at] + string(piece) + line[at:]
		case 3:
			line += " " + string(piece)
		case 4:
			line = string(piece) + " " + line
		case 5:
			if rng.IntN(2) == 0 {
				line = strings.ToLower(line)
			}
		case 6:
			line += []string{" S20", " X5", " ; S20", "*", " M105", " N5", " (", "E0", " KEY=1", "=1", " E1", " e 9", " X12C", " x fff"}[rng.IntN(14)]
		case 7:
			line = []string{"M105 ", "X", "N12 ", "SET_", "M117 ", "G4 P0 ", "% ", "(x)"}[rng.IntN(8)] + line
		}
	}
	return line
}

// harm says what a firmware that is as lenient as one can be has made of a command.
// One that homes first knows its place.
func harm(command string, policy int64) string {
	b := simprinter.NewBoard(simprinter.Config{Seed: policy, Dialect: simprinter.Dialect{Lenient: true}, ReceiveBuffer: 512})
	b.Receive(gcode.AppendNumbered(nil, 0, []byte("M110 N0")))
	b.Receive([]byte("G28\n"))
	b.Advance(30 * time.Second)
	b.Receive(gcode.AppendNumbered(nil, 1, []byte(command)))
	b.Advance(30*time.Second + 100*time.Millisecond)
	nozzle, bed := b.Setpoints()
	if nozzle > vesper.Limits.Nozzle || bed > vesper.Limits.Bed {
		return fmt.Sprintf("setpoints %g and %g °C", nozzle, bed)
	}
	if b.Last() > 1 {
		return fmt.Sprintf("a count of %d", b.Last())
	}
	b.Advance(2 * time.Minute)
	x, y, z := b.Place()
	for i, v := range []float64{x, y, z} {
		if v < -bounds.Slack || v > vesper.Size[i]+bounds.Slack {
			return fmt.Sprintf("a nozzle at %.1f, %.1f, %.1f", x, y, z)
		}
	}
	return ""
}

// inAFile reports whether a file with the line in it could be started.
func inAFile(line string) bool {
	summary, err := toolpath.Scan(strings.NewReader("G28\nG1 X10 Y10 F3000\nG1 X20 E1\n"+line+"\nG1 X30 E2\n"), toolpath.Options{Limits: motion.Ordinary})
	if err != nil {
		return false
	}
	checks := preflight.Look(preflight.Facts{LinkLive: true, File: summary, Printer: machine.Printer{Width: 230, Depth: 230, Height: 240, Tools: 1, Limits: vesper.Limits}}).Checks
	return len(checks) == 0 || checks[0].Level != bounds.Block
}

// moves tells the commands whose bound in a file is that of what they draw.
func moves(line string) bool { return line[0] == 'G' }

func check(t *testing.T, plainly, line string) {
	command := gcode.Command([]byte(line))
	if len(command) == 0 || len(command) > gcode.MaxLine || strings.ContainsAny(string(command), "\t\r\n\x00") {
		return
	}
	typed, filed := idle().Typed(string(command)) == nil, !moves(plainly) && inAFile(line)
	if !typed && !filed {
		return
	}
	for policy := range int64(30) {
		if found := harm(string(command), policy); found != "" {
			t.Errorf("%q, from %q, passed (typed %v, in a file %v) and led to %s", command, plainly, typed, filed, found)
			return
		}
	}
}

// TestNoDecorationPassesABound tries many spoilt lines on a firmware that carries out
// whatever it can find in them, in many ways of reading.
func TestNoDecorationPassesABound(t *testing.T) {
	rng := rand.New(rand.NewPCG(10, 1))
	passed := 0
	tries := 4_000
	if testing.Short() {
		tries = 1_000
	}
	for range tries {
		line := slices.Concat(plain, modest)[rng.IntN(len(plain)+len(modest))]
		spoilt := decorate(rng, line)
		if idle().Typed(string(gcode.Command([]byte(spoilt)))) == nil {
			passed++
		}
		if check(t, line, spoilt); t.Failed() {
			return
		}
	}
	if passed == 0 {
		t.Error("no line passed at all: this test tests nothing")
	}
	for _, line := range plain { // and the firmware would have done it
		done := false
		for policy := range int64(30) {
			done = done || harm(line, policy) != ""
		}
		if !done {
			t.Errorf("%q does no harm to the stand-in: this test tests nothing", line)
		}
	}
}

func FuzzDecorated(f *testing.F) {
	for _, seed := range []string{"M104 S300 #", "M104,S300", "M104*S300", "M104 \"x S300", "M104S300~", "M104 S300\u2028", "m 1 0 4 s 3 0 0", "X_M104 Y=S300", "M1.04e2S300", "M104 S1 e9", "M104 S0 X12C"} {
		f.Add(seed)
	}
	f.Fuzz(func(t *testing.T, line string) { check(t, "M104 S285", line) })
}

func TestWhatAFileHoldsIsFoundWithItsLine(t *testing.T) {
	for line, want := range map[string]bounds.Level{
		"M104 S200":                              "",
		"G1 X5 Y6 E.2":                           "",
		"G1X5Y6E.2F1200":                         "",
		"M117 ETA 0h12m28s, M104 next":           "",
		"M115 U3.13.2":                           "",
		"M862.3 P \"Vesper\"":                    "",
		"M84 X Y E":                              "",
		"M486 AKnob (left)":                      "",
		"EXCLUDE_OBJECT_START NAME=bolt_M24_G1":  bounds.Note,
		"PRINT_START BED=60 EXTRUDER=210":        bounds.Note,
		"TIMELAPSE_TAKE_FRAME":                   bounds.Note,
		`RESPOND TYPE=echo MSG="half way"`:       bounds.Note,
		"RUN_M500 NOW=1":                         bounds.Block,
		"M105 #":                                 bounds.Warn,
		"just a remark":                          bounds.Warn,
		"M104 S200 #":                            bounds.Block,
		"G1 X5 // aside":                         bounds.Block,
		"G1 X5 E1e-05":                           bounds.Block,
		"M9999 #":                                bounds.Block,
		"X10 Y20":                                bounds.Block,
		"M112":                                   bounds.Block,
		"M110 N0":                                bounds.Block,
		"M28 x.g":                                bounds.Block,
		"M997":                                   bounds.Block,
		"M502":                                   bounds.Block,
		"M999":                                   bounds.Block,
		"M149 K":                                 bounds.Block,
		"M149 C":                                 "",
		"M500":                                   bounds.Warn,
		"M92 E400":                               bounds.Warn,
		"M117 then G28 again":                    bounds.Block,
		"M118 " + strings.Repeat("far too ", 12): bounds.Warn,
	} {
		var l gcode.Line
		command := []byte(line)
		err := l.Parse(command)
		found, is := bounds.Filed(command, &l, err)
		if is != (want != "") || found.Level != want || is && (found.Title == "" || found.Do == "") {
			t.Errorf("%q: %+v, want %q", line, found, want)
		}
	}
}

func TestAVolumeIsLeftAtItsEdges(t *testing.T) {
	for _, c := range []struct {
		axis      gcode.Axis
		low, high float64
		outside   bool
	}{
		{gcode.X, 0, 220, false}, {gcode.X, -0.5, 220.5, false}, {gcode.X, -0.6, 10, true}, {gcode.Y, 10, 220.6, true},
		{gcode.Z, 0, 250, false}, {gcode.X, -3, -3, true}, {gcode.Y, math.Inf(-1), 0, true}, {gcode.Y, 0, math.Inf(1), true},
	} {
		size := 220.0
		if c.axis == gcode.Z {
			size = 250
		}
		if got := bounds.Outside(c.axis, c.low, c.high, size); got != c.outside {
			t.Errorf("%c from %g to %g of %g: outside %t, want %t", "XYZE"[c.axis], c.low, c.high, size, got, c.outside)
		}
	}
}
