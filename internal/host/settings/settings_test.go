package settings_test

import (
	"log/slog"
	"testing"

	"diathermon/internal/core/motion"
	"diathermon/internal/core/run"
	"diathermon/internal/core/wire"
	"diathermon/internal/host/part"
	"diathermon/internal/host/parttest"
	"diathermon/internal/host/settings"
)

// talk is a line that answers when it is told to.
type talk struct {
	parttest.Line
	busy   bool
	answer func([]string, error)
}

func (t *talk) Quiet() bool { return !t.busy }
func (t *talk) Say(command string, answer func([]string, error)) {
	t.Said, t.answer = append(t.Said, command), answer
}

func heard(text string) *wire.Event {
	return &wire.Event{Kind: wire.Heard, Reply: wire.Reply{Kind: wire.Other, Text: text}}
}

func TestThePrinterIsAskedOnceWhatItsAxesCanDo(t *testing.T) {
	records := &parttest.Records{}
	loop := part.NewLoop(records, records, slog.New(slog.DiscardHandler), nil)
	line, printing := &talk{}, &parttest.Run{File: "cap.gcode", State: run.Running}
	var told []motion.Limits
	s := settings.New(loop, line, func(l motion.Limits) { told = append(told, l) })
	s.Attend(printing)
	if s.Tick(); len(line.Said) != 0 {
		t.Error("it asked in the middle of a run")
	}
	printing.File, line.busy = "", true
	if s.Tick(); len(line.Said) != 0 {
		t.Error("it asked while something was under way")
	}
	line.busy = false
	s.Tick()
	s.Tick()
	if len(line.Said) != 1 || line.Said[0] != "M503" {
		t.Fatalf("it said %q", line.Said)
	}
	for text, mine := range map[string]bool{
		"echo:; Maximum feedrates (units/s):": true, "echo:  M203 X180.00 Y170.00 Z8.00 E40.00": true, "echo:  M201 X1500 Y1400 Z90 E4000": true,
		"echo:  M204 P700.00 R900.00 T1100.00": true, "echo:  M205 B20000.00 S0.00 T0.00 X9.00 Y8.00 Z0.30 E4.00": true, "  M92 X80 Y80 Z400 E93": true, "echo:  M200 S0 D1.75": true, "echo:Filament runout": false,
	} {
		if s.Hear(heard(text)) != mine {
			t.Errorf("%q is for a person: %v", text, mine)
		}
	}
	line.answer(nil, nil)
	if len(told) != 1 || len(line.Said) != 2 || line.Said[1] != "M211" {
		t.Fatalf("told %+v, said %q", told, line.Said)
	}
	if size, filament := s.Size(); size != [3]float64{} || filament != 1.75 {
		t.Errorf("%v, %g mm", size, filament)
	}
	for _, text := range []string{"Soft endstops: On  Min: X0.00 Y0.00 Z0.00   Max: X0.00 Y230.00 Z240.00", "echo:Soft endstops: On  Min: X0.00 Y-3.00 Z0.00   Max: X231.00 Y230.50 Z240.00"} {
		s.Hear(heard(text))
	}
	if size, _ := s.Size(); size != [3]float64{231, 230.5, 240} {
		t.Errorf("its axes go to %v", size)
	}
	line.answer(nil, nil)
	if l := told[0]; !l.Told || l.Feed[0] != 180 || l.Acceleration[1] != 1400 || l.Print != 700 || l.Retract != 900 || l.Travel != 1100 || l.Deviation != 0 || l.Jerk[2] != 0.3 {
		t.Errorf("told %+v", l)
	}
	if s.Hear(heard("echo:  M203 X1 Y1")) {
		t.Error("what comes unasked is kept from a person")
	}
	s.Hear(&wire.Event{Kind: wire.Greeted})
	if size, _ := s.Size(); size != [3]float64{} {
		t.Error("what another printer has told holds still")
	}
	if s.Tick(); len(line.Said) != 3 {
		t.Error("another conversation was not asked")
	}
	line.answer(nil, nil)
	if len(told) != 1 {
		t.Error("a firmware that lists nothing is told of")
	}
}
