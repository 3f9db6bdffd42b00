package toolpath_test

import (
	"bytes"
	"errors"
	"math"
	"strings"
	"testing"
	"time"

	"diathermon/internal/core/heat"
	"diathermon/internal/core/motion"
	"diathermon/internal/core/stock"
	"diathermon/internal/core/toolpath"
	"diathermon/internal/samples"
	"diathermon/internal/simprinter"
)

func scan(t testing.TB, program string) toolpath.Summary {
	t.Helper()
	s, err := toolpath.Scan(strings.NewReader(program), motion.Ordinary)
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
	if s.Extent.Min != [3]float64{10, 10, 0.2} || s.Extent.Max != [3]float64{60, 60, 0.4} {
		t.Errorf("extent is %+v", s.Extent)
	}
	if math.Abs(s.Filament-6) > 1e-9 {
		t.Errorf("filament is %v mm, want 6", s.Filament)
	}
	if s.Setpoints[heat.Bed] != 60 || s.Setpoints[heat.Nozzle] != 150 || s.Setpoints[heat.NozzleOf(1)] != 205 {
		t.Errorf("setpoints are %v", s.Setpoints)
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
	} {
		if _, err := toolpath.Scan(strings.NewReader(c.body), motion.Ordinary); err == nil || !strings.Contains(err.Error(), c.want) {
			t.Errorf("%s: %v, want %q in it", name, err, c.want)
		}
	}
	if s := scan(t, "G28\nSTART_OF_PART BED=60\nG1 X5\n"); s.Unread != 1 || !strings.Contains(s.FirstOdd, "line 2") {
		t.Errorf("a line for an extended firmware is noted: %d, %s", s.Unread, s.FirstOdd)
	}
	broken := errors.New("the cable")
	if _, err := toolpath.Scan(failing{broken}, motion.Ordinary); !errors.Is(err, broken) {
		t.Errorf("a failing reader: %v", err)
	}
}

type failing struct{ err error }

func (f failing) Read([]byte) (int, error) { return 0, f.err }

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
		if _, err := toolpath.Scan(bytes.NewReader(body.Bytes()), motion.Ordinary); err != nil {
			b.Fatal(err)
		}
	}
}
