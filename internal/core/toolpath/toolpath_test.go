package toolpath_test

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"math"
	"slices"
	"strings"
	"testing"
	"testing/iotest"
	"time"

	"diathermon/internal/core/bounds"
	"diathermon/internal/core/heat"
	"diathermon/internal/core/motion"
	"diathermon/internal/core/stock"
	"diathermon/internal/core/toolpath"
	"diathermon/internal/samples"
	"diathermon/internal/simprinter"
)

func scan(t testing.TB, program string) toolpath.Summary {
	t.Helper()
	s, err := toolpath.Scan(strings.NewReader(program), toolpath.Options{Limits: motion.Ordinary})
	if err != nil {
		t.Fatal(err)
	}
	return s
}

func TestAFileIsReadFromItsMoves(t *testing.T) {
	s := scan(t, `; layers: 99 says this comment, which nobody reads
M140 S60
M104 S150
M109 S205 T1
G28
G1 Z0.3 F600
G1 X10 Y10 F9000
G1 X10 Y60 E5 F1200 ; prime, above the first layer
G0 Z0.2 X20 Y20
G1 X40 Y20 E6
G0 Z5 X50
G0 Z0.2
G1 X60 Y30 E7
G0 Z0.4
G1 X20 Y30 E8
G1 E6 ; retract
M104 S0
`)
	if s.Lines != 17 || s.Commands != 16 || len(s.Marks) != 2 || s.First != 7 {
		t.Errorf("%d lines, %d commands, %d layers, first plastic at %d; want 17, 16, 2, 7", s.Lines, s.Commands, len(s.Marks), s.First)
	}
	if s.Marks[0].Z != 0.2 || s.Marks[1].Z != 0.4 || s.Marks[1].Command != 13 || s.LayerSteps != 0.2 {
		t.Errorf("marks are %+v", s.Marks)
	}
	if s.Layers != 2 {
		t.Errorf("%d layers", s.Layers)
	}
	if s.Extent.Min != [3]float64{10, 10, 0.2} || s.Extent.Max != [3]float64{60, 60, 0.4} {
		t.Errorf("extent is %+v", s.Extent)
	}
	if math.Abs(s.Filament-6) > 1e-9 {
		t.Errorf("filament is %v mm, want 6", s.Filament)
	}
	if s.Setpoints[heat.Bed] != 60 || s.Setpoints[heat.Nozzle] != 150 || s.Setpoints[heat.NozzleOf(1)] != 205 {
		t.Errorf("setpoints are %v", s.Setpoints)
	}
	want := []heat.Step{{Command: 1, Heater: heat.Bed, Setpoint: 60}, {Command: 2, Heater: heat.NozzleOf(0), Setpoint: 150}, {Command: 3, Heater: heat.NozzleOf(1), Setpoint: 205, Wait: true}}
	if !slices.Equal(s.Warming, want) { // what is set later is not its warm-up
		t.Errorf("its warm-up is %+v", s.Warming)
	}
	if grams := stock.Mass(1000, 1.75, 1.24); math.Abs(grams-2.9826) > 0.001 {
		t.Errorf("a metre weighs %v g", grams)
	}
}

func TestTheTimeIsThatOfTheMachine(t *testing.T) {
	var b bytes.Buffer
	if err := samples.Coupon(6).Write(&b); err != nil {
		t.Fatal(err)
	}
	program := b.String()
	computed := scan(t, program).Duration
	// The stand-in carries the same file out with its own planner, without heat.
	board := simprinter.NewBoard(simprinter.Config{ReceiveBuffer: 1 << 20})
	for line := range strings.Lines(program) {
		if strings.HasPrefix(line, "M190") || strings.HasPrefix(line, "M109") || strings.HasPrefix(line, "G28") {
			continue
		}
		board.Receive([]byte(line))
	}
	board.Receive([]byte("M400\n"))
	last := time.Duration(0)
	for board.Now() < time.Hour {
		board.Advance(board.Now() + 100*time.Millisecond)
		if len(board.Output()) > 0 {
			last = board.Now()
		} else if board.Now() > last+30*time.Second {
			break
		}
	}
	if ratio := computed.Seconds() / last.Seconds(); ratio < 0.85 || ratio > 1.15 {
		t.Errorf("computed %s, the stand-in took %s", computed, last)
	}
}

func TestWhatIsNotGCodeIsNamed(t *testing.T) {
	for name, c := range map[string]struct{ body, want string }{
		"empty":       {"", "empty"},
		"spaces":      {" \n\t\r\n", "empty"},
		"ASCII model": {"solid knob\nfacet normal 0 0 1\n", "STL"},
		"model":       {strings.Repeat("x", 80) + "\x10\x00\x00\x00" + strings.Repeat("\x00", 50), "binary"},
		"archive":     {"PK\x03\x04....", "ZIP"},
		"picture":     {"\x89PNG\r\n\x1a\n", "picture"},
		"page":        {"<!DOCTYPE html>", "web page"},
		"wide text":   {"\xff\xfeG\x001\x00", "UTF-16"},
	} {
		if err := toolpath.Sniff([]byte(c.body)); err == nil || !strings.Contains(err.Error(), c.want) {
			t.Errorf("%s: %v, want %q in it", name, err, c.want)
		}
	}
	for _, good := range []string{"G28\n", "\xef\xbb\xbf; with a mark\nG28", ";\n"} {
		if err := toolpath.Sniff([]byte(good)); err != nil {
			t.Errorf("%q: %v", good, err)
		}
	}
	for name, c := range map[string]struct{ body, want string }{
		"comments alone": {"; nothing\n; more\n", "no G-code"},
		"prose":          {strings.Repeat("It was a dark and stormy night.\n", 30), "not G-code"},
		"control":        {"G28\nG1 X\x015\n", "line 2"},
		"endless line":   {"G28\n" + strings.Repeat("x", 2<<20), "longer than"},
		"endless move":   {"G28\nG1 X99999999999999999999999999999999\n", "line 2"},
		"endless thread": {"G28\nG1 X1 E" + strings.Repeat("9", 49) + "\n", "line 2"},
		"endless wait":   {"G28\nG4 S99999999999999\n", "line 2"},
		"a long wait":    {"G28\nG4 S999999\n", "not possible"},
		"far away":       {"G91\n" + strings.Repeat("G1 X90000\n", 3), "line 3"},
		"much filament":  {"M83\n" + strings.Repeat("G1 E900000\n", 200), "filament"},
		"three years":    {"G28\n" + strings.Repeat("G4 S600000\n", 200), "days"},
		"an endless S":   {"G28\nM106 S9999999999999\n", "line 2"},
	} {
		if _, err := toolpath.Scan(strings.NewReader(c.body), toolpath.Options{Limits: motion.Ordinary}); err == nil || !strings.Contains(err.Error(), c.want) {
			t.Errorf("%s: %v, want %q in it", name, err, c.want)
		}
	}
	if s := scan(t, "G28\nSTART_OF_PART BED=60\nG1 X5\n"); s.Unread != 1 || len(s.Findings) != 1 || s.Findings[0].Line != 2 || s.Hidden != 60 || s.HiddenLine != 2 {
		t.Errorf("a line for an extended firmware is noted: %+v", s)
	}
	broken := errors.New("the cable")
	if _, err := toolpath.Scan(failing{broken}, toolpath.Options{Limits: motion.Ordinary}); !errors.Is(err, broken) {
		t.Errorf("a failing reader: %v", err)
	}
}

type failing struct{ err error }

func (f failing) Read([]byte) (int, error) { return 0, f.err }

func TestFindingsAreKeptWithinBounds(t *testing.T) {
	var b strings.Builder
	b.WriteString("G28\nM104 S200 #\nM104 S200 #\n")
	for i := range 500 {
		fmt.Fprintf(&b, "G1 X%d\nM105 odd%d !\nG1 X2\n", i%100, i)
	}
	b.WriteString("M112\n")
	s := scan(t, b.String())
	if len(s.Findings) > 50 || s.Unread != 502 {
		t.Errorf("%d findings of %d lines", len(s.Findings), s.Unread)
	}
	if f := s.Findings[0]; f.Level != bounds.Block || f.Line != 2 || f.Count != 2 || !strings.Contains(f.Title, "M104") {
		t.Errorf("the first is %+v", f)
	}
	if f := s.Findings[len(s.Findings)-1]; f.Level != bounds.Block || !strings.Contains(f.Title, "M112") {
		t.Errorf("the last is %+v", f)
	}
	rest := s.Findings[len(s.Findings)-2]
	if !strings.Contains(rest.Title, "more like these") || rest.Count < 400 {
		t.Errorf("those that were too many are %+v", rest)
	}
}

func TestHowManyLayersEverMemoryIsBounded(t *testing.T) {
	rises := func(n int) io.Reader { // each line begins a layer
		i := 0
		return iotest.DataErrReader(readFunc(func(p []byte) (int, error) {
			if i == n {
				return 0, io.EOF
			}
			i++
			return copy(p, fmt.Sprintf("G1 X%d Z%.3f E%d\n", i%100, float64(i)*0.02, i)), nil
		}))
	}
	s, err := toolpath.Scan(rises(300_000), toolpath.Options{Limits: motion.Ordinary})
	if err != nil {
		t.Fatal(err)
	}
	if len(s.Marks) > 10_000 || len(s.Marks) < 1000 || s.Layers != len(s.Marks) {
		t.Errorf("%d marks are kept, and %d layers told", len(s.Marks), s.Layers)
	}
	for i := 1; i < len(s.Marks); i++ {
		if a, b := s.Marks[i-1], s.Marks[i]; b.Command <= a.Command || b.Seconds < a.Seconds || b.Z <= a.Z {
			t.Fatalf("mark %d is %+v, behind %+v", i, b, a)
		}
	}
	if z := s.Marks[len(s.Marks)-1].Z; z < 5900 {
		t.Errorf("the last layer kept is at %.1f of 6000 mm", z)
	}
}

type readFunc func([]byte) (int, error)

func (f readFunc) Read(p []byte) (int, error) { return f(p) }

func TestTheDemosFilesAreRealisticInSize(t *testing.T) {
	layers := 0
	for _, part := range samples.Parts() {
		var b bytes.Buffer
		if err := part.Write(&b); err != nil {
			t.Fatal(err)
		}
		s := scan(t, b.String())
		layers = max(layers, len(s.Marks))
		if len(s.Marks) != part.Layers || s.Extent.Min[0] < 0 || s.Extent.Max[1] > 230 || s.Duration < 5*time.Minute || s.Unread > 0 || b.Len() < 500<<10 {
			t.Errorf("%s: %d layers of %d, %+v, %s, %d bytes", part.Name, len(s.Marks), part.Layers, s.Extent, s.Duration, b.Len())
		}
	}
	if layers < 300 {
		t.Errorf("the tallest part has %d layers", layers)
	}
}

func BenchmarkScan(b *testing.B) {
	var body bytes.Buffer
	if err := samples.Parts()[0].Write(&body); err != nil {
		b.Fatal(err)
	}
	b.SetBytes(int64(body.Len()))
	for b.Loop() {
		if _, err := toolpath.Scan(bytes.NewReader(body.Bytes()), toolpath.Options{Limits: motion.Ordinary}); err != nil {
			b.Fatal(err)
		}
	}
}
