package run_test

import (
	"errors"
	"fmt"
	"math"
	"slices"
	"strings"
	"testing"
	"time"

	"diathermon/internal/core/gcode"
	"diathermon/internal/core/run"
	"diathermon/internal/simprinter"
)

// machine is a stand-in's board that is told commands one after another, and the
// point that they lead to.
type machine struct {
	t     *testing.T
	board *simprinter.Board
	now   time.Duration
	point run.Point
}

func newMachine(t *testing.T) *machine {
	m := &machine{t: t, board: simprinter.NewBoard(simprinter.Config{Record: true})}
	return m
}

// do lets the board carry out commands to their end.
func (m *machine) do(commands ...string) {
	m.t.Helper()
	var l gcode.Line
	for _, c := range append(commands, "M400") {
		done := len(m.board.Executed())
		m.board.Receive([]byte(c + "\n"))
		for end := m.now + time.Hour; len(m.board.Executed()) == done; {
			if m.now += 50 * time.Millisecond; m.now > end {
				m.t.Fatalf("%q is not done after an hour", c)
			}
			m.board.Advance(m.now)
		}
		if err := l.Parse([]byte(c)); err != nil {
			m.t.Fatalf("%q: %v", c, err)
		}
		m.point.Apply(&l)
	}
}

func (m *machine) place() [3]float64 {
	x, y, z := m.board.Place()
	return [3]float64{x, y, z}
}

var (
	parking = run.Ordinary([3]float64{230, 230, 240})
	part    = run.Part{Min: [3]float64{60, 60, 0.2}, Max: [3]float64{90, 90, 40}}
)

// programs leave the machine in the middle of a part, each in other modes, and
// say how its file goes on.
var programs = map[string]struct {
	before []string
	then   []string
}{
	"absolute":          {[]string{"G28", "M109 S200", "M106 S128", "G1 X70 Y80 Z4.2 E5 F2400"}, []string{"G1 X75 E5.4", "G1 Y70 E6"}},
	"relative":          {[]string{"G28", "M109 S200", "G1 X70 Y80 Z4 F3000", "G91", "G1 X2 E1"}, []string{"G1 X3 Y-1 E0.2", "G1 Z0.2"}},
	"relative extruder": {[]string{"G28", "M109 S200", "M83", "G1 X70 Y80 Z4 E2 F3000"}, []string{"G1 X75 E0.4"}},
	"inches":            {[]string{"G28", "M109 S200", "G20", "G1 X3 Y3 Z0.2 E0.1 F90"}, []string{"G1 X3.1 E0.12"}},
	"a shifted frame":   {[]string{"G28", "M109 S200", "G1 X70 Y80 Z10 E9 F3000", "G92 X0 Y0 Z1 E0"}, []string{"G1 X5 Y5 Z1.2 E0.3"}},
	"cold":              {[]string{"G28", "G1 X70 Y80 Z4.2 F2400"}, []string{"G1 X75", "G1 Y70"}},
	"near the top":      {[]string{"G28", "M109 S200", "G1 X70 Y80 Z236 E5 F2400"}, []string{"G1 X75 E5.4"}},
}

func TestAHeldRunComesBackExactly(t *testing.T) {
	for name, p := range programs {
		for _, moved := range [][]string{nil, {"G21", "G91", "G1 X-10 Y-12 F3000", "G1 Z-9 F300"}} { // by hand, meanwhile
			t.Run(fmt.Sprintf("%s, moved by %d lines", name, len(moved)), func(t *testing.T) {
				undisturbed, held := newMachine(t), newMachine(t)
				undisturbed.do(p.before...)
				held.do(p.before...)
				at, here := held.point.Clone(), held.place()
				hot := name != "cold"
				held.do(parking.Hold(at, hot, part)...)
				away := held.place()
				if away[2] < min(here[2]+10, 240)-0.01 || away[2] > 240 {
					t.Errorf("it waits at Z %.2f above %.2f", away[2], here[2])
				}
				if in := away[0] > 55 && away[0] < 95 && away[1] > 55 && away[1] < 95; in {
					t.Errorf("it waits above the part, at %v", away)
				}
				held.do("M104 S0", "G4 S60") // it may cool
				held.do(moved...)
				way := parking.Resume(at, held.point, hot, part)
				safely(t, way, held.point, away)
				held.do(way...)
				if back := held.place(); dist(back, here) > 0.001 {
					t.Errorf("it came back to %v, want %v", back, here)
				}
				got, want := held.point, undisturbed.point
				got.Setpoints, want.Setpoints = nil, nil
				if got.Modes != want.Modes || far(got.At, want.At) || far(got.Shift, want.Shift) && name != "cold" {
					t.Errorf("it goes on at %+v, want %+v", got.State, want.State)
				}
				undisturbed.do(p.then...)
				held.do(p.then...)
				if got, want := held.place(), undisturbed.place(); dist(got, want) > 0.001 {
					t.Errorf("the file leads to %v, want %v", got, want)
				}
				if got, want := pushed(held), pushed(undisturbed); math.Abs(got-want) > 0.001 {
					t.Errorf("the file laid %.4f mm of filament, want %.4f", got, want)
				}
			})
		}
	}
}

// safely fails if commands move the nozzle sideways below where it was parked, or push
// more filament out elsewhere than was drawn back.
func safely(t *testing.T, commands []string, at run.Point, parked [3]float64) {
	t.Helper()
	for _, c := range commands {
		var l gcode.Line
		if err := l.Parse([]byte(c)); err != nil {
			t.Fatal(err)
		}
		from := at.Machine()
		at.Apply(&l)
		to := at.Machine()
		aside := math.Hypot(to[0]-from[0], to[1]-from[1]) > 0.001
		if aside && min(from[2], to[2]) < parked[2]-0.01 {
			t.Errorf("%s goes sideways at Z %.2f, and was parked at %.2f", c, from[2], parked[2])
		}
		if l.Is('G', 1) && to[3]-from[3] > parking.Retract+0.1 && math.Hypot(to[0]-parked[0], to[1]-parked[1]) > 0.1 {
			t.Errorf("%s primes at %.1f %.1f, and was parked at %v", c, to[0], to[1], parked)
		}
	}
}

func far(a, b gcode.Position) bool {
	for i := range 3 { // the extruder's frame is moved by priming
		if math.Abs(a[i]-b[i]) > 1e-6 {
			return true
		}
	}
	return false
}

func dist(a, b [3]float64) float64 {
	return math.Hypot(math.Hypot(a[0]-b[0], a[1]-b[1]), a[2]-b[2])
}

func pushed(m *machine) float64 {
	sum := 0.0
	for _, s := range m.board.Segments() {
		sum += s.Filament
	}
	return sum
}

func TestAMachineOfUnknownPlaceIsLeftWhereItIs(t *testing.T) {
	at := run.Point{}
	if c := parking.Hold(at, true, part); len(c) > 0 {
		t.Errorf("hold moves it: %v", c)
	}
	if c := parking.Stop(at, true, part); len(c) > 0 {
		t.Errorf("stop moves it: %v", c)
	}
	if c := parking.Resume(at, at, false, part); len(c) > 0 {
		t.Errorf("resume moves it: %v", c)
	}
}

func TestAStoppedRunLeavesItsPart(t *testing.T) {
	for name, p := range programs {
		m := newMachine(t)
		m.do(p.before...)
		here := m.place()
		m.do(parking.Stop(m.point, name != "cold", part)...)
		if away := m.place(); away[2] < min(here[2]+10, 240)-0.01 || away[0] > 55 && away[0] < 95 && away[1] > 55 && away[1] < 95 {
			t.Errorf("%s: it stopped at %v and left to %v", name, here, away)
		}
	}
}

func TestARunIsPickedUpAboveItsPart(t *testing.T) {
	for name, p := range programs {
		if name == "cold" {
			continue
		}
		undisturbed, picked := newMachine(t), newMachine(t)
		undisturbed.do(p.before...)
		picked.do(p.before...)
		at, here := picked.point.Clone(), picked.place()
		picked.board.Reset()
		picked.point = run.Point{}
		plan, err := parking.PickUp(10, 2, at, here[2], part)
		if err != nil {
			t.Fatal(err)
		}
		commands := plan.Commands()
		if bed := slices.IndexFunc(commands, func(c string) bool { return strings.HasPrefix(c, "M190") }); bed > 0 {
			t.Errorf("%s: the bed is not heated first: %v", name, commands)
		}
		lowest := math.Inf(1)
		for _, c := range commands {
			picked.do(c)
			lowest = min(lowest, picked.place()[2])
		}
		if lowest < here[2]-0.001 {
			t.Errorf("%s: the nozzle went down to %.3f, into the part at %.3f", name, lowest, here[2])
		}
		if back := picked.place(); dist(back, here) > 0.001 {
			t.Errorf("%s: it came back to %v, want %v; %v", name, back, here, commands)
		}
		undisturbed.do(p.then...)
		picked.do(p.then...)
		if got, want := picked.place(), undisturbed.place(); dist(got, want) > 0.001 {
			t.Errorf("%s: the file leads to %v, want %v", name, got, want)
		}
	}
}

func TestWhatCannotBePickedUpIsNamed(t *testing.T) {
	m := newMachine(t)
	m.do(programs["absolute"].before...)
	if _, err := parking.PickUp(3, 0, m.point, 4, part); !errors.Is(err, run.ErrNothingLaid) {
		t.Errorf("before the first layer: %v", err)
	}
	if _, err := parking.PickUp(3, 1, m.point, 300, part); err == nil || !strings.Contains(err.Error(), "0 to 240") {
		t.Errorf("above the machine: %v", err)
	}
	m.do("M104 S0")
	if _, err := parking.PickUp(3, 1, m.point, 4, part); err == nil || !strings.Contains(err.Error(), "too cold") {
		t.Errorf("with a cold nozzle: %v", err)
	}
}
