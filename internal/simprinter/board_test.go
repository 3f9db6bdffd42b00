package simprinter_test

import (
	"fmt"
	"math"
	"strings"
	"testing"
	"time"

	"diathermon/internal/simprinter"
)

// numbered frames a line as the trade does, written out here once more so that
// no code is shared with the host.
func numbered(n int, command string) string {
	body := fmt.Sprintf("N%d %s", n, command)
	sum := 0
	for _, c := range []byte(body) {
		sum ^= int(c)
	}
	return fmt.Sprintf("%s*%d\n", body, sum)
}

// say gives the board a line and returns what it answers within that time.
func say(b *simprinter.Board, line string, within time.Duration) string {
	b.Output()
	b.Receive([]byte(line))
	var out strings.Builder
	for end := b.Now() + within; b.Now() < end; {
		b.Advance(b.Now() + 50*time.Millisecond)
		out.Write(b.Output())
	}
	return out.String()
}

func TestTheBoardGreets(t *testing.T) {
	b := simprinter.NewBoard(simprinter.Vesper())
	if got := string(b.Output()); !strings.HasPrefix(got, "start\n") || !strings.Contains(got, "Vesper") {
		t.Errorf("it said %q", got)
	}
}

func TestLineNumbersAndChecksumsAreChecked(t *testing.T) {
	b := simprinter.NewBoard(simprinter.Vesper())
	for _, c := range []struct{ line, want string }{
		{numbered(0, "M110 N0"), "ok\n"},
		{numbered(1, "M107"), "ok\n"},
		{"N2 M107*1\n", "Error:checksum mismatch, Last Line: 1\nResend: 2\nok\n"},
		{"N2 M107\n", "Error:No Checksum with line number, Last Line: 1\nResend: 2\nok\n"},
		{numbered(3, "M107"), "Error:Line Number is not Last Line Number+1, Last Line: 1\nResend: 2\nok\n"},
		{numbered(2, "M107"), "ok\n"},
		{numbered(2, "M107"), "Error:Line Number is not Last Line Number+1, Last Line: 2\nResend: 3\nok\n"},
		{"M107\n", "ok\n"},
		{"M118 hello there\n", "echo:hello there\nok\n"},
		{"M987\n", "echo:Unknown command: \"M987\"\nok\n"},
		{numbered(99, "M110 N99"), "ok\n"},
		{numbered(100, "M107"), "ok\n"},
	} {
		if got := say(b, c.line, time.Second); got != c.want {
			t.Errorf("%q was answered %q, want %q", c.line, got, c.want)
		}
	}
}

func TestTheReceiveBufferOverflows(t *testing.T) {
	b := simprinter.NewBoard(simprinter.Vesper())
	say(b, "M190 S60\n", time.Second) // it is busy: nothing more is executed
	b.Receive([]byte(strings.Repeat("M107\n", 100)))
	if b.Overflows() == 0 {
		t.Error("500 bytes fitted 4 slots and 128 bytes")
	}
}

func TestMovesTakeTheirTime(t *testing.T) {
	b := simprinter.NewBoard(simprinter.Config{Record: true})
	got := say(b, "G28\nG1 X100 F3000\nM400\nM114\n", time.Minute)
	if !strings.Contains(got, "X:100.00 Y:0.00 Z:0.00") {
		t.Errorf("it answered %q", got)
	}
	at := map[string]time.Duration{}
	for _, e := range b.Executed() {
		at[e.Line] = e.At
	}
	// 100 mm at 50 mm/s, 1500 mm/s²: 2 s and one ramp of a thirtieth, after the wait for company.
	if took := at["M400"] - at["G28"]; took < 2*time.Second || took > 2300*time.Millisecond {
		t.Errorf("100 mm took %s", took)
	}
	if homing := at["G28"]; homing < 4*time.Second || homing > 6*time.Second {
		t.Errorf("homing took %s", homing)
	}
}

func TestThePlannersQueueIsBounded(t *testing.T) {
	b := simprinter.NewBoard(simprinter.Config{PlannerSlots: 4, CommandSlots: 1})
	var taken int
	for i := range 20 {
		taken += strings.Count(say(b, fmt.Sprintf("G1 X%d F60\n", 10*(i+1)), 200*time.Millisecond), "ok")
	}
	if taken < 4 || taken > 6 {
		t.Errorf("%d slow moves were taken at once, want what the planner holds", taken)
	}
}

func TestHeatersAreHonest(t *testing.T) {
	b := simprinter.NewBoard(simprinter.Vesper())
	got := say(b, "M140 S60\nM104 S205\nM155 S1\n", 10*time.Minute)
	var first, peak time.Duration
	var highest float64
	n := 0
	for line := range strings.Lines(got) {
		var temperature, target, bed float64
		if _, err := fmt.Sscanf(strings.TrimSpace(line), "T:%f /%f B:%f", &temperature, &target, &bed); err != nil {
			continue
		}
		n++
		if first == 0 && temperature >= 203 {
			first = time.Duration(n) * time.Second
		}
		if temperature > highest {
			highest, peak = temperature, time.Duration(n)*time.Second
		}
	}
	if n < 590 || n > 601 {
		t.Errorf("%d reports in ten minutes at one a second", n)
	}
	if first < 40*time.Second || first > 4*time.Minute || highest > 212 {
		t.Errorf("the nozzle was there after %s and at most %v °C after %s", first, highest, peak)
	}
	nozzle, bed := b.Temperatures()
	if math.Abs(nozzle-205) > 2 || math.Abs(bed-60) > 1.5 {
		t.Errorf("after ten minutes the nozzle has %v °C and the bed %v", nozzle, bed)
	}
	say(b, "M104 S0\nM140 S0\n", 5*time.Minute)
	if cooler, _ := b.Temperatures(); cooler > nozzle-60 || cooler < 21 {
		t.Errorf("five minutes without power leave the nozzle at %v °C", cooler)
	}
}

func TestWaitsAnswerWithBusyLinesAndCanBeBrokenOff(t *testing.T) {
	b := simprinter.NewBoard(simprinter.Vesper())
	got := say(b, "M190 S60\n", 20*time.Second)
	if n := strings.Count(got, "busy: processing"); n < 8 || n > 10 || strings.Contains(got, "ok") {
		t.Errorf("20 s of waiting said %d busy lines: %q", n, got)
	}
	if n := strings.Count(got, "W:?"); n < 18 {
		t.Errorf("and %d reports", n)
	}
	if got := say(b, "M108\n", time.Second); strings.Count(got, "ok") != 2 {
		t.Errorf("breaking off was answered %q", got)
	}
}

func TestAHaltStopsTheBoardAtOnce(t *testing.T) {
	b := simprinter.NewBoard(simprinter.Vesper())
	say(b, "M104 S200\nM190 S60\n", time.Second)
	if got := say(b, "M112\n", time.Second); !strings.Contains(got, "kill()") {
		t.Errorf("it said %q", got)
	}
	if got := say(b, "M105\n", 5*time.Second); got != "" {
		t.Errorf("a halted board says %q", got)
	}
	b.Reset()
	if got := say(b, "M105\n", time.Second); !strings.Contains(got, "T:") || strings.Contains(got, "/200") {
		t.Errorf("after a reset it says %q", got)
	}
}
