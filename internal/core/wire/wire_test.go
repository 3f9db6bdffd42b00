package wire_test

import (
	"reflect"
	"strings"
	"testing"
	"time"

	"diathermon/internal/core/wire"
)

func TestSortKnowsTheOpenFirmwaresReplies(t *testing.T) {
	for line, want := range map[string]wire.Reply{
		"ok":                                    {Kind: wire.OK, Number: -1, Text: "ok"},
		"ok\r":                                  {Kind: wire.OK, Number: -1, Text: "ok"},
		"ok N42 P15 B3":                         {Kind: wire.OK, Number: 42, Text: "ok N42 P15 B3"},
		"ok T:21 /0":                            {Kind: wire.OK, Number: -1, Text: "ok T:21 /0"},
		"okay then":                             {Kind: wire.Other, Number: -1, Text: "okay then"},
		"Resend: 12":                            {Kind: wire.Resend, Number: 12, Text: "Resend: 12"},
		"Resend:12":                             {Kind: wire.Resend, Number: 12, Text: "Resend:12"},
		"rs 12":                                 {Kind: wire.Resend, Number: 12, Text: "rs 12"},
		"rs N12":                                {Kind: wire.Resend, Number: 12, Text: "rs N12"},
		"Resend: ":                              {Kind: wire.Resend, Number: -1, Text: "Resend:"},
		"start":                                 {Kind: wire.Start, Number: -1, Text: "start"},
		"echo:busy: processing":                 {Kind: wire.Busy, Number: -1, Text: "echo:busy: processing"},
		"busy: heating":                         {Kind: wire.Busy, Number: -1, Text: "busy: heating"},
		"//action:pause":                        {Kind: wire.Action, Number: -1, Text: "pause"},
		"// action:out_of_filament":             {Kind: wire.Action, Number: -1, Text: "out_of_filament"},
		"// a remark":                           {Kind: wire.Other, Number: -1, Text: "// a remark"},
		"!! stopped":                            {Kind: wire.Fatal, Number: -1, Text: "!! stopped"},
		"Error:Printer halted. kill() called!":  {Kind: wire.Fatal, Number: -1, Text: "Error:Printer halted. kill() called!"},
		"Error:checksum mismatch, Last Line: 4": {Kind: wire.Error, Number: -1, Text: "Error:checksum mismatch, Last Line: 4"},
		" T:21.5 /0.0 B:20.0 /0.0":              {Kind: wire.Report, Number: -1, Text: " T:21.5 /0.0 B:20.0 /0.0"},
		"X:0.00 Y:1.00 Z:0.00 E:0.00":           {Kind: wire.Report, Number: -1, Text: "X:0.00 Y:1.00 Z:0.00 E:0.00"},
		"Total time: 5":                         {Kind: wire.Other, Number: -1, Text: "Total time: 5"},
		"":                                      {Kind: wire.Other, Number: -1, Text: ""},
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
func greeted(t *testing.T) *script {
	s := &script{t: t, conv: wire.New(wire.Config{}, 0)}
	s.hear("start")
	s.want(s.after(300*time.Millisecond), "\nN0 M110 N0*125\n")
	s.want(s.hear("ok"), "N1 M115*39\n")
	s.want(s.hear("FIRMWARE_NAME:x", "ok"), "")
	if s.conv.State() != wire.Live {
		t.Fatalf("the state is %s", s.conv.State())
	}
	return s
}

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
	s := greeted(t)
	s.want(s.file("G28", "G1 X1"), "N2 G28*17\n")
	s.want(s.hear("echo:busy: processing"), "")
	s.want(s.hear("T:20 /0", "something unknown"), "")
	s.want(s.hear("ok"), "N3 G1 X1*98\n")
}

func TestALineAskedForAgainIsSaidOnce(t *testing.T) {
	s := greeted(t)
	s.file("G1 X1", "G1 X2")
	s.want(s.hear("Error:checksum mismatch, Last Line: 1", "Resend: 2", "ok"), "")
	s.want(s.after(30*time.Millisecond), "N2 G1 X1*99\n")
	s.want(s.hear("ok"), "N3 G1 X2*97\n")
}

func TestAResendOfTheLineAfterMeansTheOKWasLost(t *testing.T) {
	s := greeted(t)
	s.file("G1 X1", "G1 X2")
	s.hear("Error:Line Number is not Last Line Number+1, Last Line: 2", "Resend: 3", "ok")
	s.want(s.after(30*time.Millisecond), "N3 G1 X2*97\n")
}

func TestALostAnswerIsAskedForWithAHarmlessNumberedLine(t *testing.T) {
	s := greeted(t)
	s.file("G1 X1", "G1 X2")
	s.want(s.after(6*time.Second), "N3 M105*36\n")
	s.want(s.hear("ok T:20.0 /0.0 @:0"), "N4 G1 X2*102\n") // it had N2: its ok was lost
	s.want(s.after(6*time.Second), "N5 M105*34\n")
	s.hear("Error:Line Number is not Last Line Number+1, Last Line: 3", "Resend: 4", "ok")
	s.want(s.after(30*time.Millisecond), "N4 G1 X2*102\n") // it had not: N4 goes again
	s.want(s.hear("ok"), "N5 M105*34\n")
}

func TestALineLongAcknowledgedIsSaidAgainIfWanted(t *testing.T) {
	s := greeted(t)
	s.file("G1 X1", "G1 X2", "G1 X3")
	s.hear("ok")
	s.hear("ok")
	s.hear("Resend: 3", "ok")
	s.want(s.after(30*time.Millisecond), "N3 G1 X2*97\n")
	s.want(s.hear("ok"), "N4 G1 X3*103\n")
}

func TestASlowCommandIsNotAskedAfter(t *testing.T) {
	s := greeted(t)
	s.file("M190 S60")
	s.want(s.after(60*time.Second), "")
	s.want(s.hear("T:20 /0 B:40 /60 W:?"), "")
	s.want(s.after(170*time.Second), "")
	s.want(s.after(20*time.Second), "N3 M105*36\n")
}

func TestAPrinterWhoseCountIsAheadIsJoined(t *testing.T) {
	s := greeted(t)
	s.hear("Resend: 7", "ok")
	s.after(30 * time.Millisecond)
	s.want(s.file("G1 X1"), "N7 G1 X1*102\n")
}

func FuzzConversation(f *testing.F) {
	f.Add([]byte("start\necho:hello\nok\nFIRMWARE_NAME:x\nok\nok\nResend: 2\nok\nok T:1 /2\n!! dead\nstart\n"))
	f.Add([]byte("ok\nok\nrs 99999999999999999999\nok N-5\nResend: 0\nok\n//action:pause\n\x00\xff\xfe\n"))
	f.Fuzz(func(t *testing.T, said []byte) {
		c := wire.New(wire.Config{}, 0)
		now, flight := time.Duration(0), 0
		for i, b := range said {
			now += time.Duration(b) * time.Millisecond
			c.Tick(now)
			if i%7 == 0 {
				c.Send(now, wire.Request{Lane: wire.File, Command: "G1 X1"})
			}
			c.Receive(now, said[i:i+1])
			out, events := c.Take()
			flight += strings.Count(string(out), "\n")
			if len(events) > 1000 {
				t.Fatalf("%d events from one byte", len(events))
			}
		}
		if flight > 3*len(said)+16 {
			t.Errorf("%d lines were said to %d bytes", flight, len(said))
		}
	})
}
