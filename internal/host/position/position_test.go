package position_test

import (
	"testing"

	"diathermon/internal/core/gcode"
	"diathermon/internal/core/heat"
	"diathermon/internal/core/run"
	"diathermon/internal/core/wire"
	"diathermon/internal/host/part"
	"diathermon/internal/host/parttest"
	"diathermon/internal/host/position"
)

func TestWhereTheLinesLead(t *testing.T) {
	loop, _ := parttest.NewLoop(t)
	p := position.New(loop)
	took := func(command string) position.Took {
		p.Hear(&wire.Event{Kind: wire.Acked, Request: wire.Request{Command: command}})
		return p.Took()
	}
	for _, c := range []struct {
		command string
		want    position.Took
	}{
		{"M104 S200", position.Took{Heats: true}}, {"G1 X5 E2", position.Took{Pushed: 2}}, {"G92 E0", position.Took{}}, {"G1 E3", position.Took{Pushed: 3}}, {"G1 X7", position.Took{}},
		{"what is this?", position.Took{}}, {"M105", position.Took{}}, {"M190 R60", position.Took{Heats: true}}, {"M83", position.Took{}}, {"G1 E-1", position.Took{Pushed: -1}},
	} {
		if got := took(c.command); got != c.want {
			t.Errorf("%s: %+v, want %+v", c.command, got, c.want)
		}
	}
	if at := p.Point(); at.At[0] != 7 || at.Setpoints[heat.Bed] != 60 || at.Setpoints[heat.NozzleOf(0)] != 200 {
		t.Errorf("%+v", at)
	}
	p.Hear(parttest.Report("X:7.00 Y:0.00 Z:0.00 E:2.00 Count X:0 Y:0 Z:0"))
	if now := p.Now(); !now.Known || now.Where[0] != 7 || now.Homed[0] {
		t.Errorf("%+v", now)
	}
	p.Hear(parttest.Report(" T:20.00 /0.00 X:9.00 Y:0.00 Z:0.00 E:0.00"))
	if now := p.Now(); now.Where[0] != 7 {
		t.Errorf("a report of temperatures moved it to %+v", now)
	}
	p.Await()
	took("G1 X30")
	p.Set(run.Point{State: gcode.State{At: gcode.Position{8, 9, 1}}}) // where those before that have led
	took("G1 Z2")
	if at := p.Point().At; at != (gcode.Position{30, 9, 2}) {
		t.Errorf("what was taken meanwhile leads to %v", at)
	}
	p.Await()
	took("G1 X40")
	p.Forgo()
	p.Set(run.Point{State: gcode.State{At: gcode.Position{8, 9, 1}}})
	if at := p.Point().At; at != (gcode.Position{8, 9, 1}) {
		t.Errorf("what was taken before nothing was said leads to %v", at)
	}
	if p.Hear(part.Forgotten{}); p.Now().Known || p.Point().At[0] != 0 {
		t.Errorf("it remembers %+v", p.Now())
	}
}
