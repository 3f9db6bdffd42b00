package wire_test

import (
	"fmt"
	"reflect"
	"slices"
	"strings"
	"testing"
	"time"

	"diathermon/internal/core/wire"
)

func TestSortKnowsTheOpenFirmwaresReplies(t *testing.T) {
	for line, want := range map[string]wire.Reply{
		"ok":                                    {Kind: wire.OK, Number: -1, Slots: -1, Text: "ok"},
		"ok\r":                                  {Kind: wire.OK, Number: -1, Slots: -1, Text: "ok"},
		"ok N42 P15 B3":                         {Kind: wire.OK, Number: 42, Slots: 3, Text: "ok N42 P15 B3"},
		"ok T:21 /0":                            {Kind: wire.OK, Number: -1, Slots: -1, Text: "ok T:21 /0"},
		"okay then":                             {Kind: wire.Other, Number: -1, Slots: -1, Text: "okay then"},
		"Resend: 12":                            {Kind: wire.Resend, Number: 12, Slots: -1, Text: "Resend: 12"},
		"Resend:12":                             {Kind: wire.Resend, Number: 12, Slots: -1, Text: "Resend:12"},
		"rs 12":                                 {Kind: wire.Resend, Number: 12, Slots: -1, Text: "rs 12"},
		"rs N12":                                {Kind: wire.Resend, Number: 12, Slots: -1, Text: "rs N12"},
		"Resend: ":                              {Kind: wire.Resend, Number: -1, Slots: -1, Text: "Resend:"},
		"start":                                 {Kind: wire.Start, Number: -1, Slots: -1, Text: "start"},
		"echo:busy: processing":                 {Kind: wire.Busy, Number: -1, Slots: -1, Text: "echo:busy: processing"},
		"busy: heating":                         {Kind: wire.Busy, Number: -1, Slots: -1, Text: "busy: heating"},
		"//action:pause":                        {Kind: wire.Action, Number: -1, Slots: -1, Text: "pause"},
		"// action:out_of_filament":             {Kind: wire.Action, Number: -1, Slots: -1, Text: "out_of_filament"},
		"// a remark":                           {Kind: wire.Other, Number: -1, Slots: -1, Text: "// a remark"},
		"!! stopped":                            {Kind: wire.Fatal, Number: -1, Slots: -1, Text: "!! stopped"},
		"!! Move out of range":                  {Kind: wire.Error, Number: -1, Slots: -1, Text: "!! Move out of range"},
		"Error:Printer halted. kill() called!":  {Kind: wire.Fatal, Number: -1, Slots: -1, Text: "Error:Printer halted. kill() called!"},
		"Error:checksum mismatch, Last Line: 4": {Kind: wire.Error, Number: -1, Slots: -1, Text: "Error:checksum mismatch, Last Line: 4"},
		" T:21.5 /0.0 B:20.0 /0.0":              {Kind: wire.Report, Number: -1, Slots: -1, Text: " T:21.5 /0.0 B:20.0 /0.0"},
		"X:0.00 Y:1.00 Z:0.00 E:0.00":           {Kind: wire.Report, Number: -1, Slots: -1, Text: "X:0.00 Y:1.00 Z:0.00 E:0.00"},
		"Total time: 5":                         {Kind: wire.Other, Number: -1, Slots: -1, Text: "Total time: 5"},
		"":                                      {Kind: wire.Other, Number: -1, Slots: -1, Text: ""},
	} {
		if got := wire.Sort([]byte(line)); got != want {
			t.Errorf("Sort(%q) = %+v, want %+v", line, got, want)
		}
	}
}

func TestFirmwareIsRead(t *testing.T) {
	got := wire.ParseFirmware([]string{
		"FIRMWARE_NAME:Own build 2.1 (March) SOURCE_CODE_URL:example.org PROTOCOL_VERSION:1.0 MACHINE_TYPE:Vesper Mk 2 EXTRUDER_COUNT:2 UUID:5e1f",
		"Cap:AUTOREPORT_TEMP:1", "Cap:EEPROM:0", "Cap:nonsense", "area:{full:{}}",
	})
	want := wire.Firmware{Name: "Own build 2.1 (March)", Machine: "Vesper Mk 2", Extruders: 2, Capabilities: map[string]bool{"AUTOREPORT_TEMP": true, "EEPROM": false}}
	if !reflect.DeepEqual(got, want) {
		t.Errorf("got %+v, want %+v", got, want)
	}
	if p, ok := wire.ParsePosition("X:1.50 Y:-2.00 Z:0.30 E:12.00 Count X:120 Y:-160 Z:120"); !ok || p != [4]float64{1.5, -2, 0.3, 12} {
		t.Errorf("position is %v, %v", p, ok)
	}
	if _, ok := wire.ParsePosition("X is where?"); ok {
		t.Error("that is no position")
	}
}

// script is a conversation whose printer is written down.
type script struct {
	t    *testing.T
	conv *wire.Conversation
	now  time.Duration
}

// hear lets the printer say lines and returns what the host says to that.
func (s *script) hear(lines ...string) string {
	s.now += 10 * time.Millisecond
	s.conv.Receive(s.now, []byte(strings.Join(lines, "\n")+"\n"))
	return s.said()
}

// after lets time pass.
func (s *script) after(d time.Duration) string {
	s.now += d
	s.conv.Tick(s.now)
	return s.said()
}

func (s *script) said() string {
	out, _ := s.conv.Take()
	return string(out)
}

// greeted returns a script whose conversation is live; lines 0 and 1 are said.
func greeted(t *testing.T, cfg wire.Config, firmware ...string) *script {
	s := &script{t: t, conv: wire.New(cfg, 0)}
	s.hear("start")
	s.want(s.after(300*time.Millisecond), "\nN0 M110 N0*125\n")
	s.want(s.hear("ok"), "N1 M115*39\n")
	s.want(s.hear(append(firmware, "FIRMWARE_NAME:x", "ok")...), "M105*121\n")
	s.want(s.hear("Error:No Line Number with checksum, Last Line: 1", "Resend: 2", "ok"), "")
	if s.conv.State() != wire.Live {
		t.Fatalf("the state is %s", s.conv.State())
	}
	return s
}

// single says one line at a time.
var single = wire.Config{Single: true}

func (s *script) want(got, want string) {
	s.t.Helper()
	if got != want {
		s.t.Errorf("the host said %q, want %q", got, want)
	}
}

func (s *script) file(commands ...string) string {
	for _, c := range commands {
		s.conv.Send(s.now, wire.Request{Lane: wire.File, Command: c})
	}
	return s.said()
}

func TestTheNextLineWaitsForTheOK(t *testing.T) {
	s := greeted(t, single)
	s.want(s.file("G28", "G1 X1"), "N2 G28*17\n")
	s.want(s.hear("echo:busy: processing"), "")
	s.want(s.hear("T:20 /0", "something unknown"), "")
	s.want(s.hear("ok"), "N3 G1 X1*98\n")
}

func TestEachReplyNamesTheLineThatItAnswers(t *testing.T) {
	s := greeted(t, wire.Config{Buffer: 200, Slots: 4})
	replies := func(lines ...string) (numbers []int) {
		s.now += 10 * time.Millisecond
		s.conv.Receive(s.now, []byte(strings.Join(lines, "\n")+"\n"))
		_, events := s.conv.Take()
		for _, e := range events {
			if e.Kind == wire.Heard {
				numbers = append(numbers, e.Number)
			}
		}
		return numbers
	}
	s.want(s.file("G1 X1", "G1 X2", "G1 X3"), "N2 G1 X1*99\nN3 G1 X2*97\nN4 G1 X3*103\n")
	got := replies("ok", "Error:checksum mismatch, Last Line: 2", "Resend: 3", "ok", "Error:Line Number is not Last Line Number+1, Last Line: 2", "Resend: 3", "ok")
	if !slices.Equal(got[:2], []int{2, 3}) || got[3] != -1 || got[6] != -1 {
		t.Errorf("a refusal's replies are of lines %d, want the ok of 2, the error of 3, the oks of none", got)
	}
	s.want(s.after(100*time.Millisecond), "N3 G1 X2*97\n")
	if got := append(replies("echo:x", "ok"), replies("ok", "ok")...); !slices.Equal(got, []int{3, 3, 4, -1}) {
		t.Errorf("said again, the replies are of lines %d, want 3, 3 and 4, and the last of none", got)
	}
}

func TestAnOKThatNamesNoLineIsNotSure(t *testing.T) {
	s := greeted(t, single)
	s.want(s.file("G1 X1"), "N2 G1 X1*99\n")
	s.hear("ok") // it may have been one too many
	if s.conv.Sure() {
		t.Error("it is sure that the line was taken")
	}
	for range 5 {
		if out := s.after(time.Second); strings.Contains(out, "M105") {
			s.hear("ok T:20.0 /0.0")
		}
	}
	if !s.conv.Sure() {
		t.Error("the answer to a question does not tell")
	}
}

func TestALineAskedForAgainIsSaidOnce(t *testing.T) {
	s := greeted(t, single)
	s.file("G1 X1", "G1 X2")
	s.want(s.hear("Error:checksum mismatch, Last Line: 1", "Resend: 2", "ok"), "")
	s.want(s.after(30*time.Millisecond), "N2 G1 X1*99\n")
	s.want(s.hear("ok"), "N3 G1 X2*97\n")
}

func TestAResendOfTheLineAfterMeansTheOKWasLost(t *testing.T) {
	s := greeted(t, single)
	s.file("G1 X1", "G1 X2")
	s.hear("Error:Line Number is not Last Line Number+1, Last Line: 2", "Resend: 3", "ok")
	s.want(s.after(30*time.Millisecond), "N3 G1 X2*97\n")
}

func TestALostAnswerIsAskedForWithAHarmlessNumberedLine(t *testing.T) {
	s := greeted(t, single)
	s.file("G1 X1", "G1 X2")
	s.want(s.after(6*time.Second), "\nN3 M105*36\n")
	s.want(s.hear("ok T:20.0 /0.0 @:0"), "N4 G1 X2*102\n") // it had N2: its ok was lost
	s.want(s.after(6*time.Second), "\nN5 M105*34\n")
	s.hear("Error:Line Number is not Last Line Number+1, Last Line: 3", "Resend: 4", "ok")
	s.want(s.after(30*time.Millisecond), "N4 G1 X2*102\n") // it had not: N4 goes again
	s.want(s.hear("ok"), "N5 M105*34\n")
}

func TestALineLongAcknowledgedIsSaidAgainIfWanted(t *testing.T) {
	s := greeted(t, single)
	s.file("G1 X1", "G1 X2", "G1 X3")
	s.hear("ok")
	s.hear("ok")
	s.hear("Resend: 3", "ok")
	s.want(s.after(30*time.Millisecond), "N3 G1 X2*97\n")
	s.want(s.hear("ok"), "N4 G1 X3*103\n")
}

func TestALineWhoseMovesTakeLongIsWaitedFor(t *testing.T) {
	s := greeted(t, single)
	s.conv.Send(s.now, wire.Request{Lane: wire.File, Command: "G1 X200 F10", Takes: 20 * time.Minute})
	s.want(s.said(), "N2 G1 X200 F10*7\n")
	s.want(s.after(39*time.Minute), "")
	if s.conv.State() != wire.Live {
		t.Errorf("after 39 minutes of a move that takes 20 it is %s", s.conv.State())
	}
	s.want(s.after(2*time.Minute), "\nN3 M105*36\n")
	if got := s.after(time.Minute); !strings.HasPrefix(got, "\nN4 M118 q4.*") { // which can be told from an answer to the other
		t.Errorf("then it said %q", got)
	}
	s.hear("ok", "echo:q4.", "ok")
	s.want(s.file("G1 X1"), "N5 G1 X1*100\n")
}

func TestASlowCommandIsAskedAfterWithWhatIsAnsweredAtItsEnd(t *testing.T) {
	s := greeted(t, single)
	s.file("M190 S60")
	for range 5 { // it says that it waits
		s.want(s.after(8*time.Second), "")
		s.want(s.hear("T:20 /0 B:40 /60 W:?"), "")
	}
	s.want(s.after(9*time.Second), "")
	s.want(s.after(2*time.Second), "\nN3 M105*36\n")
	if got := s.after(10 * time.Second); !strings.HasPrefix(got, "\nN4 M118 q4.*") { // the first may be lost
		t.Errorf("then it said %q", got)
	}
	s.want(s.after(2*time.Minute), "") // no more fit
	if s.conv.State() != wire.Live {
		t.Errorf("while it waits for heat it is %s", s.conv.State())
	}
	s.hear("ok", "ok T:20.0 /0.0 B:60.0 /60.0", "echo:q4.", "ok")
	s.want(s.file("G1 X1"), "N5 G1 X1*100\n")
}

func TestAPrinterThatSaysWhenItIsBusyIsAskedOnceItDoesNot(t *testing.T) {
	s := greeted(t, single)
	s.file("G28")
	s.want(s.after(8*time.Second), "")
	s.want(s.hear("echo:busy: processing"), "")
	s.want(s.after(9*time.Second), "")
	s.want(s.after(2*time.Second), "\nN3 M105*36\n") // the ok was lost
	s.hear("ok T:20.0 /0.0 B:20.0 /0.0")
	s.want(s.file("G1 X1"), "N4 G1 X1*101\n")
}

func TestAPrinterWhoseCountCannotBeIsNamed(t *testing.T) {
	s := greeted(t, single)
	for range 10 {
		s.hear("Resend: 70", "ok")
		s.after(50 * time.Millisecond)
	}
	if s.conv.State() != wire.Dead {
		t.Errorf("the state is %s", s.conv.State())
	}
}

func TestTheWindowIsAsWideAsThePrinterSays(t *testing.T) {
	line := "G1 X100.000 Y100.000" // 30 bytes with its number and checksum
	many := strings.Split(strings.Repeat(line+"\n", 20), "\n")[:20]
	for name, c := range map[string]struct {
		cfg      wire.Config
		firmware []string
		want     int
	}{
		"nothing is known":           {wire.Config{}, nil, 1},
		"it tells its buffers":       {wire.Config{}, []string{"Cap:RX_BUFFER_SIZE:256", "Cap:BUFSIZE:4"}, 4 + 8},
		"its buffer is configured":   {wire.Config{Buffer: 128}, nil, 3},
		"configured goes before":     {wire.Config{Buffer: 128, Slots: 8}, []string{"Cap:RX_BUFFER_SIZE:4096", "Cap:BUFSIZE:32"}, 8 + 3},
		"a size that is never built": {wire.Config{}, []string{"Cap:RX_BUFFER_SIZE:928"}, 1},
		"one at a time":              {wire.Config{Single: true}, []string{"Cap:RX_BUFFER_SIZE:256", "Cap:BUFSIZE:4"}, 1},
	} {
		s := greeted(t, c.cfg, c.firmware...)
		if got := strings.Count(s.file(many...), "\n"); got != c.want {
			t.Errorf("%s: %d lines are under way, want %d", name, got, c.want)
		}
	}
}

func TestFreeSlotsAreLearnedFromExtendedOKs(t *testing.T) {
	s := greeted(t, wire.Config{Buffer: 64})
	line := strings.Repeat("G1 X100.000 Y100.000\n", 30)
	s.file(strings.Split(strings.TrimSpace(line), "\n")...)
	for n := 2; n < 5; n++ {
		s.hear(fmt.Sprintf("ok N%d P15 B3", n))
	}
	if got := strings.Count(s.hear("ok N5 P15 B3"), "\n"); got != 1 {
		t.Errorf("an ok let %d lines out, want 1", got)
	}
	if got := s.conv.Said() - 6; got != 1+3 {
		t.Errorf("%d lines are under way, want one in the buffer and three in its slots", got)
	}
}

func TestALossNarrowsTheWindowUntilTheCountIsCertain(t *testing.T) {
	s := greeted(t, wire.Config{Buffer: 1024})
	s.file(strings.Split(strings.Repeat("G1 X1\n", 200), "\n")[:200]...)
	s.hear("Error:checksum mismatch, Last Line: 1", "Resend: 2", "ok")
	out := s.after(50 * time.Millisecond)
	for range 32 {
		if strings.Count(out, "\n") != 1 {
			t.Fatalf("after a loss it said %q", out)
		}
		out = s.hear("ok")
	}
	for range 40 {
		if strings.Contains(out, "M105") {
			break
		}
		out = s.hear("ok")
	}
	if out = s.hear("ok T:20.0 /0.0 B:20.0 /0.0"); strings.Count(out, "\n") < 20 {
		t.Errorf("with the count certain again it said %q", out)
	}
}

func TestAFirmwareThatCarriesOutRestsOfLinesGetsOneAtATime(t *testing.T) {
	s := &script{t: t, conv: wire.New(wire.Config{Buffer: 1024}, 0)}
	s.hear("start")
	s.after(300 * time.Millisecond)
	s.hear("ok")
	s.want(s.hear("FIRMWARE_NAME:x", "ok"), "M105*121\n")
	s.hear("ok T:20.0 /0.0")
	s.want(s.file("G1 X1", "G1 X2"), "N2 G1 X1*99\n")
}

func TestAPauseThatThePrinterAsksForIsKept(t *testing.T) {
	s := greeted(t, single)
	s.conv.Receive(s.now, []byte("\x13"))
	s.want(s.file("G1 X1"), "")
	s.conv.Receive(s.now, []byte("\x11"))
	s.want(s.said(), "N2 G1 X1*99\n")
	s.conv.Receive(s.now, []byte("ok\n\x13"))
	s.want(s.file("G1 X2"), "")
	s.want(s.after(6*time.Second), "N3 G1 X2*97\n") // the word to go on was lost
}

func TestAnEarlierConversationIsTakenUpWhereItEnded(t *testing.T) {
	s := &script{t: t, conv: wire.New(wire.Config{Single: true, Earlier: wire.Earlier{
		Said: 12, Others: map[int]string{10: "M104 S200"}, Firmware: wire.Firmware{Name: "known"},
	}}, 0)}
	s.want(s.after(3*time.Second), "\nN1000012 M105*37\n")
	s.hear("Error:Line Number is not Last Line Number+1, Last Line: 9", "Resend: 10", "ok")
	s.want(s.after(300*time.Millisecond), "\nN1000012 M105*37\n")
	s.hear("Error:Line Number is not Last Line Number+1, Last Line: 9", "Resend: 10", "ok")
	s.want(s.after(300*time.Millisecond), "M105*121\n")
	s.now += 10 * time.Millisecond
	s.conv.Receive(s.now, []byte("ok T:20.0 /0.0\n"))
	_, events := s.conv.Take()
	if last := events[len(events)-1]; last.Kind != wire.Said || last.Text != "N10 M104 S200*86" {
		t.Errorf("the first thing said is %+v, want the line that had number 10", last)
	}
	if i := slices.IndexFunc(events, func(e wire.Event) bool { return e.Kind == wire.Greeted }); i < 0 || events[i].Number != 9 || events[i].Firmware.Name != "known" {
		t.Errorf("the events are %+v", events)
	}
	s.conv.Send(s.now, wire.Request{Command: "M117 later"}) // number 11 is the file's
	s.want(s.hear("ok"), "")
	s.want(s.file("G1 X1"), "N11 G1 X1*81\n")
	s.want(s.hear("ok"), "N12 M117 later*89\n")
}

func TestOfLinesThatNobodyRemembersOnlyThoseThatWereTakenCount(t *testing.T) {
	for asks, want := range map[int]string{
		12: "N12 M117 held*", // nothing of the file is said for a number that may never have been used
		40: "N40 M117 held*",
		11: "", // number 11 was used, and is the file's
	} {
		s := &script{t: t, conv: wire.New(wire.Config{Single: true, Earlier: wire.Earlier{Said: 12, More: 3000}}, 0)}
		s.after(3 * time.Second)
		s.conv.Hold(s.now, true)
		for range 2 {
			s.hear(fmt.Sprintf("Error:Line Number is not Last Line Number+1, Last Line: %d", asks-1), fmt.Sprintf("Resend: %d", asks), "ok")
			s.after(300 * time.Millisecond)
		}
		s.hear("ok T:20.0 /0.0")
		out := s.file("G1 X1")
		s.conv.Send(s.now, wire.Request{Command: "M117 held"})
		out += s.said()
		if want != "" && !strings.HasPrefix(out, want) || want == "" && !strings.HasPrefix(out, "N11 G1 X1*") {
			t.Errorf("a printer that wants line %d is told %q, want %q", asks, out, want)
		}
	}
}

func TestAPrinterThatLostItsPlaceIsGreetedAnew(t *testing.T) {
	for what, c := range map[string]struct {
		earlier wire.Earlier
		asks    int // for which line
		banner  bool
		lost    bool
	}{
		"it begins at 1":                                {wire.Earlier{Said: 500, Taken: 490}, 1, false, true},
		"it has its banner":                             {wire.Earlier{Said: 500, Taken: 490}, 495, true, true},
		"it has counted from the next greeting on":      {wire.Earlier{Said: 500, Taken: 490}, 3, false, true},
		"another program has counted":                   {wire.Earlier{Said: 500, Taken: 490}, 470, false, true},
		"it was asked before it said what it had taken": {wire.Earlier{Said: 500, Taken: 490}, 489, false, false},
		"it took what was under way":                    {wire.Earlier{Said: 500, Taken: 490}, 500, false, false},
		"nothing is known of what it took":              {wire.Earlier{Said: 500}, 3, false, false},
		"it counts further than anything that was said": {wire.Earlier{Said: 500, Taken: 490}, 501, false, true},
		"it has taken what nobody remembers":            {wire.Earlier{Said: 500, Taken: 490, More: 100}, 600, false, false},
		"it counts further than that, too":              {wire.Earlier{Said: 500, Taken: 490, More: 100}, 601, false, true},
	} {
		s := &script{t: t, conv: wire.New(wire.Config{Earlier: c.earlier}, 0)}
		s.after(3 * time.Second)
		told := false
		heard := func(lines ...string) {
			s.now += 10 * time.Millisecond
			s.conv.Receive(s.now, []byte(strings.Join(lines, "\n")+"\n"))
			out, events := s.conv.Take()
			told = told || slices.ContainsFunc(events, func(e wire.Event) bool { return e.Kind == wire.Restarted })
			if strings.Contains(string(out), "M110") && !told {
				t.Errorf("%s: its count was given a new beginning before that was told", what)
			}
		}
		if c.banner {
			heard("start")
		}
		for range 2 {
			heard(fmt.Sprintf("Error:Line Number is not Last Line Number+1, Last Line: %d", c.asks-1), fmt.Sprintf("Resend: %d", c.asks), "ok")
			s.after(300 * time.Millisecond)
		}
		if told != c.lost {
			t.Errorf("%s: that it has lost its place was told: %v", what, told)
		}
	}
}

// dialects is traffic as printers of different habits send it.
var dialects = []string{
	"start\necho:hello\nok\nFIRMWARE_NAME:x\nok\nError:No Line Number with checksum, Last Line: 1\nResend: 2\nok\nok\nResend: 2\nok\nok T:1 /2\n!! dead\nstart\n",
	"ok N0 P15 B3\nFIRMWARE_NAME:x\nCap:RX_BUFFER_SIZE:128\nCap:BUFSIZE:4\nok N1 P15 B3\nok P15 B3 T:20.1 /0.0 B:20.0 /0.0 @:0 B@:0\nok N2 P14 B3\nok N9 P14 B3\n",
	"ok\nok\nrs 99999999999999999999\nok N-5\nResend: 0\nok\n//action:pause\n\x00\xff\xfe\n",
	"wait\nwait\nskip 4\nok\nrs N5\nok 5\nok 6\nT0:20.0 /0.0 T1:21.0 /0.0 B:60.0 /60.0 C:30.0\n",
	"\x13ok\n\x11ok\nbusy: processing\necho:busy: processing\nX:1.00 Y:2.00 Z:3.00 E:4.00 Count X:80\nokT:20 /0\n",
	"Error:Printer halted. kill() called!\nstart\n",
}

func FuzzConversation(f *testing.F) {
	for i, d := range dialects {
		f.Add([]byte(d), uint8(i))
	}
	f.Fuzz(func(t *testing.T, said []byte, kind uint8) {
		cfg := wire.Config{Buffer: int(kind) * 4, Slots: int(kind) % 9, Wide: kind%2 == 0}
		if kind%3 == 0 {
			cfg.Earlier = wire.Earlier{Said: int(kind) + 1, Others: map[int]string{int(kind) / 2: "M105"}}
		}
		c := wire.New(cfg, 0)
		now, flight := time.Duration(0), 0
		meaning := map[int]string{}
		for i, b := range said {
			now += time.Duration(b) * time.Millisecond
			c.Tick(now)
			if i%7 == 0 {
				c.Send(now, wire.Request{Lane: wire.File, Command: "G1 X1"})
			}
			c.Receive(now, said[i:i+1])
			out, events := c.Take()
			flight += strings.Count(string(out), "\n")
			if len(events) > 4000 {
				t.Fatalf("%d events from one byte", len(events))
			}
			for _, e := range events {
				switch {
				case e.Kind == wire.Greeted || e.Kind == wire.Restarted || e.Kind == wire.Changed && e.State != wire.Live && e.State != wire.Silent:
					meaning = map[int]string{} // it counts anew
				case e.Kind == wire.Said && e.Number > 1 && c.State() == wire.Live:
					if before, known := meaning[e.Number]; known && before != e.Request.Command {
						t.Fatalf("number %d was %q and now is %q", e.Number, before, e.Request.Command)
					}
					meaning[e.Number] = e.Request.Command
				}
			}
		}
		if flight > 40*len(said)+64 {
			t.Errorf("%d lines were said to %d bytes", flight, len(said))
		}
	})
}

func FuzzSort(f *testing.F) {
	for _, d := range dialects {
		for line := range strings.Lines(d) {
			f.Add([]byte(line))
		}
	}
	f.Fuzz(func(t *testing.T, line []byte) {
		r := wire.Sort(line)
		if r.Number < -1 || r.Slots < -1 {
			t.Errorf("%q is %+v", line, r)
		}
		if again := wire.Sort([]byte(strings.TrimRight(string(line), " \t\r\n"))); again != r {
			t.Errorf("%q is %+v, and without its end %+v", line, r, again)
		}
		wire.ParsePosition(string(line))
		wire.ParseFirmware([]string{string(line)})
	})
}

func TestNothingOfAFileIsSaidBehindAWaitForHeat(t *testing.T) {
	for _, wait := range []string{"M109 S200", "M190 S60", "M109 R180", "M191 S40", "M116"} {
		s := greeted(t, wire.Config{Buffer: 128, Slots: 8})
		if got := s.file("G1 X1", wait, "G1 X2", "G1 X3"); strings.Count(got, "\n") != 2 || strings.Contains(got, "X2") {
			t.Errorf("at once the host said %q", got)
		}
		s.conv.Send(s.now, wire.Request{Lane: wire.Manual, Command: "M105", Tag: 1})
		if got := s.said(); strings.Contains(got, "X2") || !strings.Contains(got, "M105") {
			t.Errorf("while it waits for %s the host said %q", wait, got)
		}
		if got := s.hear("ok", "ok", "ok T:200"); strings.Count(got, "G1") != 2 {
			t.Errorf("behind %s the host said %q", wait, got)
		}
	}
}

func TestAFirmwareThatStopsIsDead(t *testing.T) {
	for _, said := range []string{"Error:Printer halted. kill() called!", "!! emergency stop"} {
		s := greeted(t, single)
		s.file("G1 X1", "G1 X2")
		s.want(s.hear(said, "ok"), "")
		if s.conv.State() != wire.Dead {
			t.Errorf("%q: the state is %s", said, s.conv.State())
		}
	}
}

func TestALineThatIsRepeatedAsItIsReadProvesNothing(t *testing.T) {
	s := greeted(t, single)
	s.want(s.file("G1 X1"), "N2 G1 X1*99\n")
	s.want(s.after(3*time.Second), "\nN3 M105*36\n")
	s.want(s.after(5*time.Second), "\nN4 M118 q4.*100\n")
	s.want(s.hear("echo:M118 q4."), "")
	s.want(s.file("G1 X2"), "")
	if got := s.after(40 * time.Second); strings.Contains(got, "X2") {
		t.Errorf("while the printer has carried nothing out the host said %q", got)
	}
	s.hear("echo:q4.")
	if got := s.after(40 * time.Second); !strings.Contains(got, "G1 X2*") {
		t.Errorf("once it has, the host said %q", got)
	}
}

func TestAnOkOutOfTurnIsBelievedWhenItAnswersItsQuestion(t *testing.T) {
	s := greeted(t, single)
	for n := range 4 { // a printer that names its lines
		s.file(fmt.Sprintf("G1 X%d", n))
		s.hear(fmt.Sprintf("ok N%d P15 B3", 2+n))
	}
	s.want(s.file("G1 X9"), "N6 G1 X9*111\n") // whose ok is lost
	s.want(s.after(3*time.Second), "\nN7 M105*32\n")
	s.want(s.hear("ok N7 P15 B3 T:20.0 /0.0 B:20.0 /0.0"), "")
	s.want(s.file("G1 X10"), "N8 G1 X10*89\n")
}

func TestAnOkWithoutANumberIsForTheLineThatItAnswers(t *testing.T) {
	for name, question := range map[string][2]string{
		"temperatures": {"M105", "ok T:204.6 /205.0 B:59.9 /60.0 @:0 B@:1"}, "a place": {"M114", "ok C: X:10.0000 Y:0.0000 Z:5.0000 E:0.0000"},
	} {
		s := greeted(t, single)
		for n := range 4 {
			s.file(fmt.Sprintf("G1 X%d", n))
			s.hear(fmt.Sprintf("ok N%d P15 B3", 2+n))
		}
		s.file(question[0])
		s.hear(question[1])
		if got := s.file("G1 X10"); !strings.HasPrefix(got, "N7 G1 X10*") {
			t.Errorf("%s: behind the file's own %s it said %q", name, question[0], got)
		}
	}
}
