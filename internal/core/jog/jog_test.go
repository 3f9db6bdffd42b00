package jog_test

import (
	"errors"
	"fmt"
	"math"
	"math/rand/v2"
	"testing"
	"time"

	"diathermon/internal/core/gcode"
	"diathermon/internal/core/jog"
	"diathermon/internal/simprinter"
)

var size = [3]float64{230, 230, 240}

// printer is a stand-in's board that carries lines out, and the state they lead to.
type printer struct {
	t     *testing.T
	board *simprinter.Board
	now   time.Duration
	state gcode.State
}

func (p *printer) do(commands ...string) {
	p.t.Helper()
	for _, c := range append(commands, "M400") {
		done := len(p.board.Executed())
		p.board.Receive([]byte(c + "\n"))
		for end := p.now + time.Hour; len(p.board.Executed()) == done; p.board.Advance(p.now) {
			if p.now += 100 * time.Millisecond; p.now > end {
				p.t.Fatalf("%q is not done after an hour", c)
			}
		}
		var l gcode.Line
		if err := l.Parse([]byte(c)); err != nil {
			p.t.Fatalf("%q: %v", c, err)
		}
		p.state.Apply(&l)
	}
}

// TestPressesAddUp: whatever is pressed, in whatever mode the printer was left, and
// however slow it is, its head ends at the sum of what was taken, and inside the volume.
func TestPressesAddUp(t *testing.T) {
	modes := []string{"G91", "G20", "M83", "G92 X10 Y3.5", "G92 Z2", "G90", "G21", "G92 E7"}
	for seed := range uint64(300) {
		r := rand.New(rand.NewPCG(seed, 1))
		p := &printer{t: t, board: simprinter.NewBoard(simprinter.Config{Record: true})}
		p.do("G28", "G1 X100 Y100 Z20 F6000")
		for range r.IntN(4) {
			p.do(modes[r.IntN(len(modes))])
		}
		pile := jog.New(jog.Ordinary(size))
		want := [3]float64{100, 100, 20}
		said, waits := 0, ""
		for range 60 {
			switch r.IntN(5) {
			case 0, 1, 2:
				axis := r.IntN(3)
				press := jog.Press{Speed: float64(r.IntN(100))}
				if r.IntN(6) == 0 {
					to := math.Round((r.Float64()*300-30)*1000) / 1000
					press.To[axis] = &to
				} else {
					press.By[axis] = []float64{0.1, 1, 10, 50, 0.025}[r.IntN(5)] * float64(1-2*r.IntN(2))
				}
				to := want[axis] + press.By[axis]
				if press.To[axis] != nil {
					to = *press.To[axis]
				}
				err := pile.Press(press, p.state)
				if out := to < -1e-9 || to > size[axis]+1e-9; out != errors.Is(err, jog.ErrVolume) || err != nil && !out {
					t.Fatalf("seed %d: %+v from %v: %v", seed, press, want, err)
				}
				if err == nil {
					want[axis] = to
				}
			case 3:
				if waits != "" { // the printer has ended the line
					p.do(waits)
					pile.Done()
					waits = ""
				}
			case 4:
				if line, ok := pile.Next(p.state); ok {
					if waits != "" {
						t.Fatalf("seed %d: two lines under way", seed)
					}
					waits = line
					said++
				}
			}
		}
		for range 10 {
			if waits != "" {
				p.do(waits)
				pile.Done()
			}
			waits, _ = pile.Next(p.state)
		}
		if pile.Going() {
			t.Fatalf("seed %d: it goes on and on", seed)
		}
		x, y, z := p.board.Place()
		for axis, got := range [3]float64{x, y, z} {
			if math.Abs(got-want[axis]) > 1e-3 || math.Abs(pile.To()[axis]-want[axis]) > 1e-9 {
				t.Fatalf("seed %d: the head is at %v %v %v, and %v was pressed", seed, x, y, z, want)
			}
		}
	}
}

func TestAPressThatCannotBe(t *testing.T) {
	homed := gcode.State{Homed: [3]bool{true, true, true}, At: gcode.Position{10, 10, 10, 0}}
	at := func(v float64) *float64 { return &v }
	for what, c := range map[string]struct {
		press jog.Press
		at    gcode.State
		want  error
	}{
		"nothing":                    {jog.Press{}, homed, jog.ErrPress},
		"a speed alone":              {jog.Press{Speed: 5}, homed, jog.ErrPress},
		"no number":                  {jog.Press{By: [4]float64{math.NaN()}}, homed, jog.ErrPress},
		"without an end":             {jog.Press{By: [4]float64{0, math.Inf(1)}}, homed, jog.ErrPress},
		"to no number":               {jog.Press{To: [3]*float64{at(math.NaN())}}, homed, jog.ErrPress},
		"a speed below nothing":      {jog.Press{By: [4]float64{1}, Speed: -1}, homed, jog.ErrPress},
		"by and to":                  {jog.Press{By: [4]float64{1}, To: [3]*float64{at(5)}}, homed, jog.ErrPress},
		"past the end":               {jog.Press{By: [4]float64{221}}, homed, jog.ErrVolume},
		"below the bed":              {jog.Press{By: [4]float64{0, 0, -10.001}}, homed, jog.ErrVolume},
		"one axis past the end":      {jog.Press{By: [4]float64{1, -11}}, homed, jog.ErrVolume},
		"too much filament":          {jog.Press{By: [4]float64{0, 0, 0, -101}}, homed, jog.ErrPress},
		"X, not homed":               {jog.Press{By: [4]float64{1}}, gcode.State{}, jog.ErrUnknown},
		"down, not homed":            {jog.Press{By: [4]float64{0, 0, -1}}, gcode.State{}, jog.ErrUnknown},
		"up to somewhere, not homed": {jog.Press{To: [3]*float64{nil, nil, at(5)}}, gcode.State{}, jog.ErrUnknown},
		"far up, not homed":          {jog.Press{By: [4]float64{0, 0, 10.5}}, gcode.State{}, jog.ErrUnknown},
		"filament, not homed":        {jog.Press{By: [4]float64{0, 0, 0, 5}}, gcode.State{}, nil},
		"to the bed's very corner":   {jog.Press{To: [3]*float64{at(0), at(230), at(240)}}, homed, nil},
	} {
		p := jog.New(jog.Ordinary(size))
		if err := p.Press(c.press, c.at); !errors.Is(err, c.want) || c.want == nil && err != nil {
			t.Errorf("%s: %v", what, err)
		}
		if line, ok := p.Next(c.at); ok != (c.want == nil) {
			t.Errorf("%s: it says %q", what, line)
		}
	}
}

// TestZGoesUpALittleBeforeHoming, so that a nozzle is freed, and no farther, however often
// it is pressed and whatever is lost meanwhile.
func TestZGoesUpALittleBeforeHoming(t *testing.T) {
	p := jog.New(jog.Ordinary(size))
	taken := 0
	for i := range 40 {
		if p.Press(jog.Press{By: [4]float64{0, 0, 1}}, gcode.State{}) == nil {
			taken++
		}
		if i%3 == 0 {
			p.Next(gcode.State{})
			p.Done()
		}
		if i%5 == 0 {
			p.Forget()
		}
	}
	if taken != 10 {
		t.Errorf("it went up by %d mm", taken)
	}
	p.Homed()
	if err := p.Press(jog.Press{By: [4]float64{0, 0, 1}}, gcode.State{}); err != nil {
		t.Error(err)
	}
}

func TestLettingGoStopsWithinAStep(t *testing.T) {
	at := gcode.State{Homed: [3]bool{true, true, true}}
	p := jog.New(jog.Ordinary(size))
	for range 30 {
		if err := p.Press(jog.Press{By: [4]float64{1, 0, 0, 1}}, at); err != nil {
			t.Fatal(err)
		}
		p.Next(at)
	}
	p.Drop()
	if fmt.Sprint(p.To()) != "[1 0 0]" {
		t.Errorf("it goes on to %v", p.To())
	}
	p.Done()
	if line, ok := p.Next(at); ok || p.Going() {
		t.Errorf("then it says %q", line)
	}
}
