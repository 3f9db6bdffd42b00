package e2e

import (
	"bytes"
	"encoding/json"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"diathermon/internal/api"
	"diathermon/internal/simprinter"
)

// keeper is a person who has the keeper's token already.
func (b *bench) keeper() person {
	return person{t: b.t.(*testing.T), home: b.t.TempDir(), env: []string{"DIATHERMON_URL=" + b.service.URL, "DIATHERMON_TOKEN=" + b.service.Keeper}}
}

func TestTheCommandLineWarmsUpAndReadsTheLog(t *testing.T) {
	t.Parallel()
	b := start(t, quick()).live()
	p := b.keeper()
	b.mustSend("clip.gcode", coupon(t, 3), false)

	p.ok("There are no readings", "heatlog", "--from", "2020-01-01", "--to", "2020-01-02")
	p.ok("There has been no alarm", "heat", "--alarms")
	p.ok("PLA", "heat", "--warm-ups")
	p.ok(`"order": "together"`, "heat", "--warm-ups", "--json")
	p.ok("not known yet", "heat", "--models")
	p.ok("nozzle0: ", "heat", "--health")
	if warm := p.ok("bed", "heat", "--warm-up", "PLA", "--wait"); !strings.Contains(warm, "steady") && !strings.Contains(warm, "settling") && !strings.Contains(warm, "soaked") {
		t.Errorf("when it was warm it said %s", warm)
	}
	p.ok("known", "heat", "--models", "--json")
	p.fails(2, "one thing at a time", "heat", "--warm-up", "PLA", "--file", "clip.gcode")
	p.fails(2, "one thing at a time", "heat", "--models", "bed", "60")
	p.fails(5, "nothing", "heat", "--warm-up", "nothing")
	p.fails(5, "nothing.gcode", "heat", "--file", "nothing.gcode")
	p.ok("All heaters are off", "cool")
	p.ok(`"models"`, "cool", "--json")
	p.ok("Warming up, clip.gcode: nozzle0 205 °C, bed 60 °C", "heat", "--file", "clip.gcode")
	p.ok("bed: off", "cool", "bed")
	p.ok("60 °C", "heat", "bed", "60", "--wait")

	p.ok("Started: clip.gcode", "print", "clip.gcode", "--soak", "--soak-for", "1s")
	done := b.untilRun("finished")
	p.ok("run clip.gcode, finished", "heatlog", "--run", done.ID)
	if all := p.ok("setpoint: bed from", "heatlog", "--last", "1h"); !strings.Contains(all, "Lowest") || !strings.Contains(all, "nozzle0") {
		t.Errorf("the log says %s", all)
	}
	if bed := p.ok("bed", "heatlog", "--last", "1h", "--heater", "bed"); strings.Contains(bed, "nozzle0  ") {
		t.Errorf("of the bed alone it says %s", bed)
	}
	var chart api.HeatChart
	if err := json.Unmarshal([]byte(p.ok("", "heatlog", "--run", done.ID, "--json")), &chart); err != nil || len(chart.Traces) != 2 || len(chart.Runs) != 1 {
		t.Errorf("heatlog --json: %+v, %v", chart, err)
	}
	for name, begins := range map[string]string{"run.csv": "time,heater", "run.json": "{", "run.svg": "<?xml", "run.png": "\x89PNG"} {
		path := filepath.Join(p.home, name)
		p.ok(name+": ", "heatlog", "--run", done.ID, "--save", path)
		if got, err := os.ReadFile(path); err != nil || !bytes.HasPrefix(got, []byte(begins)) || len(got) < 1000 {
			t.Errorf("%s holds %d bytes and begins %.20q, %v", name, len(got), got, err)
		}
		p.fails(1, "is there already", "heatlog", "--run", done.ID, "--save", path)
	}
	p.fails(2, ".csv", "heatlog", "--save", filepath.Join(p.home, "run.gif"))
	p.fails(2, "give one of them", "heatlog", "--last", "1h", "--run", done.ID)
	p.fails(2, "no span", "heatlog", "--last", "soon")
	p.fails(2, "no time", "heatlog", "--from", "yesterday")
	p.fails(6, "ends before it begins", "heatlog", "--from", "2026-11-02", "--to", "2026-11-01")
	p.fails(5, "oven", "heatlog", "--heater", "oven")

	p.fails(5, "tuned", "heat", "--tuning")
	if tuned := p.ok("The bed at 60 °C: P ", "heat", "bed", "60", "--tune", "--cycles", "3"); !strings.Contains(tuned, "does not have them yet") {
		t.Errorf("after a tuning it says %s", tuned)
	}
	p.ok("P ", "heat", "--tuning")
	p.fails(2, "now or keep", "heat", "--apply-tuning", "later")
	p.ok("until it is restarted", "heat", "--apply-tuning", "now")
	p.ok("keeps them", "heat", "--apply-tuning", "keep")
	p.fails(6, "110", "heat", "bed", "200", "--tune")
}

func TestTheCommandLineShowsAlarmsAndBreaksTheStandIn(t *testing.T) {
	t.Parallel()
	printer := quick()
	printer.Warp, printer.Dialect.Trusting = 20, true
	b := start(t, printer).live()
	if err := b.device.Listen(); err != nil {
		t.Fatal(err)
	}
	p := b.keeper()
	control := func(line string) []string { return []string{"simulate", "--port", b.config.Device, "--control", line} }
	for line, says := range map[string]string{
		"break": "name a heater", "break oven dead": "name a heater", "break bed asleep": "cannot be \"asleep\"", "break bed weak": "from 0 to 1",
		"break bed weak much": "no share", "break bed weak 7": "no share", "break bed dead twice": "takes nothing more", "block maybe": "block on",
	} {
		p.fails(1, says, control(line)...)
	}
	p.ok("", control("break nozzle0 weak 0.9")...)
	p.ok("", control("mend nozzle0")...)
	p.ok("", control("block on")...)
	p.ok("", control("block off")...)
	p.ok("bed: 60 °C", "heat", "bed", "60")
	p.ok("", control("break bed unplugged")...)
	p.fails(6, "an alarm waits", "heat", "bed", "60", "--wait")
	p.ok("ALARM sensor", "heat")
	p.fails(6, "alarm", "heat", "bed", "60")
	p.fails(6, "alarm", "heat", "--warm-up", "PLA")
	p.fails(5, "alarm", "heat", "--acknowledge", "none")
	p.ok("waits for you", "heat", "--alarms")
	p.ok("", control("mend bed")...)
	b.until("the bed being read again", func(now api.Bench) bool { return *now.Heaters[1].Actual > 0 })
	for len(mustBench(b).Alarms) > 0 { // the sensor's return is a jump
		p.ok("Acknowledged (a fault: its plug was out): ", "heat", "--acknowledge", "all", "--fault", "its plug was out")
	}
	p.fails(2, "one of --nothing-wrong and --fault", "heat", "--acknowledge", "all", "--fault", "a", "--nothing-wrong", "b")
	p.fails(2, "name it with --acknowledge", "heat", "bed", "60", "--fault", "a")
	p.ok("No alarm waits.", "heat", "--acknowledge", "all")
	p.ok(": a fault: its plug was out", "heat", "--alarms")
	p.ok("acknowledged", "heat", "--alarms")
	p.ok(`"acknowledged"`, "heat", "--alarms", "--json")
	p.ok(`"verdict": "fault"`, "heat", "--alarms", "--json")
	p.ok("1 a fault", "heat", "--guards")
	p.ok("bed: 60 °C", "heat", "bed", "60")
}

func mustBench(b *bench) api.Bench { return b.until("the bench", func(api.Bench) bool { return true }) }

func TestAFirmwareThatStopsItselfAtABrokenSensorSaysWhy(t *testing.T) {
	t.Parallel()
	b := start(t, quick()).live()
	b.mustSend("part.gcode", coupon(t, 60), true)
	b.untilRun("running")
	b.device.Do(func(board *simprinter.Board) { board.Break(false, simprinter.HeaterFault{Kind: simprinter.Unplugged}) })
	now := b.until("a dead link", func(now api.Bench) bool { return now.Link.State == "dead" })
	if !strings.Contains(now.Link.Reason, "MINTEMP") {
		t.Errorf("the link is dead because %q", now.Link.Reason)
	}
	b.until("the run's interruption", func(now api.Bench) bool { return now.Run.State == "interrupted" })
}
