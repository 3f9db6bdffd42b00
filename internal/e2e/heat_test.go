package e2e

import (
	"bytes"
	"encoding/csv"
	"encoding/json"
	"encoding/xml"
	"image/png"
	"io"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"

	"diathermon/internal/api"
	"diathermon/internal/api/ops"
	"diathermon/internal/client"
	"diathermon/internal/simprinter"
)

// export fetches a window as a file.
func (b *bench) export(w ops.Window, format string) []byte {
	b.t.Helper()
	var out bytes.Buffer
	if err := client.Fetch(b.t.Context(), b.Client, ops.ExportHeat, ops.Export{Window: w, Format: format}, &out); err != nil {
		b.t.Fatal(err)
	}
	return out.Bytes()
}

func TestAnyWindowOfTheLogIsFoundDrawnAndExported(t *testing.T) {
	t.Parallel()
	b := start(t, quick()).live()
	b.mustSend("part.gcode", coupon(t, 8), true)
	done := b.untilRun("finished")
	w := ops.Window{Run: done.ID}

	var all api.HeatLog
	if err := json.Unmarshal(b.export(w, "json"), &all); err != nil || len(all.Readings) < 100 {
		t.Fatalf("as JSON: %d readings, %v", len(all.Readings), err)
	}
	rows, err := csv.NewReader(bytes.NewReader(b.export(w, "csv"))).ReadAll()
	if err != nil || len(rows) != len(all.Readings)+1 || !slices.Equal(rows[0], []string{"time", "heater", "actual_c", "setpoint_c", "duty"}) {
		t.Errorf("as CSV: %d rows, %v, want one for each of %d readings and a head", len(rows), err, len(all.Readings))
	}
	picture, err := png.Decode(bytes.NewReader(b.export(w, "png")))
	if err != nil || picture.Bounds().Dx() < 1000 {
		t.Errorf("as a picture: %v", err)
	}
	svg := b.export(w, "svg")
	for d := xml.NewDecoder(bytes.NewReader(svg)); ; {
		if _, err := d.Token(); err == io.EOF {
			break
		} else if err != nil {
			t.Fatalf("the SVG: %v", err)
		}
	}
	if !bytes.Contains(svg, []byte("nozzle0")) || !bytes.Contains(svg, []byte("part.gcode")) {
		t.Error("the SVG names neither heater nor run")
	}

	highest := map[string]float64{}
	for _, r := range all.Readings {
		highest[r.Heater] = max(highest[r.Heater], r.Actual)
	}
	for _, points := range []int{10, 5000} {
		chart, err := client.Call(t.Context(), b.Client, ops.GetHeatChart, ops.Chart{Window: w, Points: points})
		if err != nil || len(chart.Traces) != 2 || len(chart.Runs) != 1 || chart.Runs[0].ID != done.ID {
			t.Fatalf("a chart of %d points: %+v, %v", points, chart, err)
		}
		for _, trace := range chart.Traces {
			top := 0.0
			for _, v := range trace.High {
				if v != nil {
					top = max(top, *v)
				}
			}
			if d := top - highest[trace.Heater]; d > 0.01 || d < -0.01 {
				t.Errorf("in %d points the %s reaches %g, want %g", points, trace.Heater, top, highest[trace.Heater])
			}
			if points == 10 && len(trace.At) > 22 {
				t.Errorf("%d points for 10", len(trace.At))
			}
		}
		if !slices.ContainsFunc(chart.Marks, func(m api.HeatMark) bool { return m.Kind == "setpoint" && m.Heater == "nozzle0" }) {
			t.Errorf("the marks are %+v", chart.Marks)
		}
	}

	b.service.Close() // the log is the same when the host is back
	b.up()
	var again api.HeatLog
	if err := json.Unmarshal(b.export(w, "json"), &again); err != nil || len(again.Readings) != len(all.Readings) || !again.Readings[0].At.Equal(all.Readings[0].At) {
		t.Errorf("after a restart there are %d readings of %d, %v", len(again.Readings), len(all.Readings), err)
	}

	now := time.Now()
	within := ops.Window{From: done.Created.Add(-time.Hour), To: done.Created.Add(time.Millisecond), Heater: []string{"bed"}}
	if chart, err := client.Call(t.Context(), b.Client, ops.GetHeatChart, ops.Chart{Window: within, Points: 50}); err != nil || !chart.From.Equal(within.From) || !chart.To.Equal(within.To) || len(chart.Traces) != 1 || chart.Traces[0].Heater != "bed" {
		t.Errorf("a window of its own: %+v, %v", chart, err)
	}
	for what, c := range map[string]struct {
		w      ops.Window
		format string
		status int
	}{
		"a window that ends before it begins": {ops.Window{From: now, To: now.Add(-time.Hour)}, "csv", 422},
		"a heater of none":                    {ops.Window{Heater: []string{"oven"}}, "csv", 404},
		"a format of none":                    {ops.Window{}, "gif", 422},
		"a run of none":                       {ops.Window{Run: "5e1f0000-0000-4000-8000-000000000001"}, "svg", 404},
		"times before there were computers":   {ops.Window{From: now.AddDate(-900, 0, 0), To: now}, "csv", 422},
	} {
		if err := client.Fetch(t.Context(), b.Client, ops.ExportHeat, ops.Export{Window: c.w, Format: c.format}, io.Discard); status(err) != c.status {
			t.Errorf("%s: %v, want status %d", what, err, c.status)
		}
	}
	if _, err := client.Call(t.Context(), b.Client, ops.GetHeatChart, ops.Chart{Window: ops.Window{}, Points: 1_000_000}); status(err) != 422 {
		t.Errorf("a million points: %v", err)
	}
	if chart, err := client.Call(t.Context(), b.Client, ops.GetHeatChart, ops.Chart{Window: ops.Window{From: now.AddDate(-40, 0, 0), To: now}, Points: 1500}); err != nil || len(chart.Traces) != 2 {
		t.Errorf("forty years: %v", err)
	}
}

func TestWarmUpsBringAllHeatersToTheirSetpoints(t *testing.T) {
	t.Parallel()
	b := start(t, quick()).live()
	kept, err := client.Ask(t.Context(), b.Client, ops.ListWarmUps)
	if err != nil || len(kept.WarmUps) < 5 || kept.WarmUps[0].Name != "PLA" {
		t.Fatalf("the ready-made ones are %+v, %v", kept, err)
	}
	own := api.WarmUp{Name: "dust caps", Setpoints: map[string]float64{"nozzle0": 190, "bed": 50}, Order: "bed-first", Soak: true, SoakSeconds: 1}
	if _, err := client.Call(t.Context(), b.Client, ops.PutWarmUp, ops.ForName(own.Name, own)); err != nil {
		t.Fatal(err)
	}
	begun, err := client.Call(t.Context(), b.Client, ops.BeginWarmUp, ops.Body(api.BeginWarmUp{Name: own.Name}))
	if err != nil || begun.WarmUp.Name != own.Name || begun.Done {
		t.Fatalf("it began as %+v, %v", begun, err)
	}
	first := b.until("the bed being heated first", func(now api.Bench) bool { return now.Heaters[1].Setpoint == 50 })
	if first.Heaters[0].Setpoint != 0 && *first.Heaters[1].Actual < 47 {
		t.Errorf("the nozzle was heated with the bed at %g °C", *first.Heaters[1].Actual)
	}
	warm := b.until("everything warm and soaked", func(now api.Bench) bool { return now.WarmUp != nil && now.WarmUp.Done })
	if *warm.Heaters[0].Actual < 187 || *warm.Heaters[1].Actual < 47 || warm.Heaters[1].Soak == nil || !warm.Heaters[1].Soak.Done {
		t.Errorf("when it was done the heaters were %+v", warm.Heaters)
	}
	if err := client.Do(t.Context(), b.Client, ops.Cool, ops.Nothing{}); err != nil {
		t.Fatal(err)
	}
	b.until("everything off", func(now api.Bench) bool {
		return now.Heaters[0].Setpoint == 0 && now.Heaters[1].Setpoint == 0 && now.WarmUp == nil
	})

	b.mustSend("part.gcode", coupon(t, 3), false)
	if begun, err = client.Call(t.Context(), b.Client, ops.BeginWarmUp, ops.Body(api.BeginWarmUp{File: "part.gcode"})); err != nil || begun.WarmUp.Setpoints["nozzle0"] != 205 || begun.WarmUp.Setpoints["bed"] != 60 {
		t.Errorf("for a file it began as %+v, %v", begun, err)
	}
	run, err := client.Call(t.Context(), b.Client, ops.StartRun, ops.Body(api.StartRun{File: "part.gcode", Soak: true, SoakSeconds: 2}))
	if err != nil || run.State != "warming" || !strings.Contains(run.Reason, "soaks") {
		t.Errorf("with a soak before it the run is %+v, %v", run, err)
	}
	if _, err := client.Call(t.Context(), b.Client, ops.BeginWarmUp, ops.Body(api.BeginWarmUp{Name: "PLA"})); status(err) != 409 {
		t.Errorf("a warm-up in the middle of a run: %v", err)
	}
	if err := client.Do(t.Context(), b.Client, ops.Cool, ops.Nothing{}); status(err) != 409 {
		t.Errorf("cooling in the middle of a run: %v", err)
	}
	b.untilRun("finished")

	if err := client.Do(t.Context(), b.Client, ops.DeleteWarmUp, ops.Name{Name: own.Name}); err != nil {
		t.Error(err)
	}
	if err := client.Do(t.Context(), b.Client, ops.DeleteWarmUp, ops.Name{Name: own.Name}); status(err) != 404 {
		t.Errorf("deleting it twice: %v", err)
	}
	for what, w := range map[string]api.WarmUp{
		"too hot":         {Name: "x", Setpoints: map[string]float64{"bed": 400}, Order: "together"},
		"below zero":      {Name: "x", Setpoints: map[string]float64{"bed": -3}, Order: "together"},
		"without heaters": {Name: "x", Setpoints: map[string]float64{}, Order: "together"},
		"for no bed":      {Name: "x", Setpoints: map[string]float64{"nozzle0": 200}, Order: "together", Soak: true},
		"for a second":    {Name: "x", Setpoints: map[string]float64{"nozzle1": 200}, Order: "together"},
		"in no order":     {Name: "x", Setpoints: map[string]float64{"bed": 60}, Order: "backwards"},
	} {
		if _, err := client.Call(t.Context(), b.Client, ops.PutWarmUp, ops.ForName(w.Name, w)); status(err) != 422 {
			t.Errorf("a warm-up %s: %v", what, err)
		}
	}
	for what, begin := range map[string]api.BeginWarmUp{"of none": {Name: "nothing"}, "of no file": {File: "nothing.gcode"}} {
		if _, err := client.Call(t.Context(), b.Client, ops.BeginWarmUp, ops.Body(begin)); status(err) != 404 {
			t.Errorf("a warm-up %s: %v", what, err)
		}
	}
	if _, err := client.Call(t.Context(), b.Client, ops.BeginWarmUp, ops.Body(api.BeginWarmUp{})); status(err) != 422 {
		t.Errorf("a warm-up without a word: %v", err)
	}
}

func TestAnAlarmHoldsTheRunAndWaitsForAPerson(t *testing.T) {
	t.Parallel()
	printer := quick()
	printer.Warp, printer.Dialect.Trusting = 20, true
	b := start(t, printer).live()
	b.mustSend("part.gcode", coupon(t, 60), true)
	b.until("some layers", func(now api.Bench) bool { return now.Run.State == "running" && now.Run.Progress.Layer > 2 })
	b.device.Do(func(board *simprinter.Board) { board.Break(false, simprinter.HeaterFault{Kind: simprinter.Unplugged}) })
	now := b.until("an alarm, the run held and everything cooling", func(now api.Bench) bool {
		return len(now.Alarms) > 0 && now.Run.State == "held" && now.Heaters[0].Setpoint == 0 && now.Heaters[1].Setpoint == 0
	})
	alarm := now.Alarms[0]
	if alarm.Heater != "nozzle0" || alarm.Guard != "sensor" || alarm.Action != "cool" || !strings.Contains(alarm.Text, "wire") || now.Heaters[0].State != "alarm" {
		t.Errorf("the alarm is %+v and the nozzle %+v", alarm, now.Heaters[0])
	}
	if _, err := client.Call(t.Context(), b.Client, ops.ResumeRun, ops.ID{ID: now.Run.ID}); status(err) != 409 || !strings.Contains(err.Error(), "alarm") {
		t.Errorf("resuming: %v", err)
	}
	if _, err := client.Call(t.Context(), b.Client, ops.SetHeat, ops.ForHeater("nozzle0", api.SetHeat{Setpoint: 200})); status(err) != 409 {
		t.Errorf("heating it: %v", err)
	}
	b.service.Close() // it is still there when the host is back
	b.up()
	waiting, err := client.Call(t.Context(), b.Client, ops.ListAlarms, ops.Alarms{Waiting: true})
	if err != nil || len(waiting.Alarms) == 0 || waiting.Alarms[len(waiting.Alarms)-1].ID != alarm.ID {
		t.Fatalf("after a restart the alarms are %+v, %v", waiting, err)
	}
	b.device.Do(func(board *simprinter.Board) { board.Break(false, simprinter.HeaterFault{}) })
	for _, a := range waiting.Alarms {
		if seen, err := client.Call(t.Context(), b.Client, ops.AcknowledgeAlarm, ops.Acknowledging{ID: a.ID, Body: &api.Acknowledgement{Verdict: "sound", Reason: "a trial"}}); err != nil || seen.Acknowledged == nil || seen.By == "" || seen.Verdict != "sound" {
			t.Errorf("acknowledged: %+v, %v", seen, err)
		}
	}
	guards, err := client.Ask(t.Context(), b.Client, ops.ListGuards)
	if i := slices.IndexFunc(guards.Guards, func(g api.Guard) bool { return g.Heater == "nozzle0" && g.Guard == "sensor" }); err != nil || i < 0 || guards.Guards[i].Claimed == 0 || guards.Guards[i].Sound == 0 || guards.Guards[i].Faults != 0 {
		t.Errorf("of what they claimed and were told the guards say %+v, %v", guards, err)
	}
	if _, err := client.Call(t.Context(), b.Client, ops.AcknowledgeAlarm, ops.Acknowledging{ID: alarm.ID, Body: &api.Acknowledgement{}}); status(err) != 404 {
		t.Errorf("acknowledging it twice: %v", err)
	}
	all, err := client.Call(t.Context(), b.Client, ops.ListAlarms, ops.Alarms{Waiting: false})
	if err != nil || len(all.Alarms) == 0 || all.Alarms[len(all.Alarms)-1].Acknowledged == nil || all.Alarms[len(all.Alarms)-1].Reason != "a trial" {
		t.Errorf("in the log the alarms are %+v, %v", all, err)
	}
}

func TestAnOlderLogOfRowsBecomesChunks(t *testing.T) {
	t.Parallel()
	b := start(t, simprinter.Config{})
	b.service.Close()
	db, err := pgx.Connect(t.Context(), b.config.Database)
	if err != nil {
		t.Fatal(err)
	}
	for _, query := range []string{
		"DELETE FROM goose_db_version WHERE version_id >= 3",
		"DROP TABLE queue",
		"ALTER TABLE runs DROP COLUMN by, DROP COLUMN entry, DROP COLUMN overruled",
		"ALTER TABLE warm_ups DROP COLUMN spool",
		"DROP TABLE performances",
		"DROP TABLE passkeys",
		"DROP TABLE accounts",
		"ALTER TABLE tokens DROP COLUMN session, DROP COLUMN account, DROP COLUMN maker, DROP COLUMN used, DROP COLUMN used_from",
		"ALTER TABLE files RENAME COLUMN digest TO sha256",
		"ALTER TABLE runs RENAME COLUMN digest TO sha256",
		"ALTER TABLE files DROP COLUMN marks, DROP COLUMN sender, DROP COLUMN tags, DROP COLUMN course",
		"CREATE TABLE readings (at timestamptz NOT NULL, heater text NOT NULL, actual real NOT NULL, setpoint real, duty real)",
		"INSERT INTO readings SELECT t, 'bed', 21.25, NULL, 0.5 FROM generate_series('2026-11-20 10:30'::timestamptz, '2026-11-20 13:29:59', '1 second') t",
		"INSERT INTO readings VALUES ('2026-11-20 11:00:00.5', 'nozzle0', 205.1, 205, NULL)",
		"INSERT INTO readings VALUES ('2026-11-20 12:00', 'chamber', 41.5, 40, NULL)", // which the printer does not have any more
	} {
		if _, err := db.Exec(t.Context(), query); err != nil {
			t.Fatal(query, err)
		}
	}
	db.Close(t.Context())
	b.up()
	day := ops.Window{From: time.Date(2026, 11, 20, 0, 0, 0, 0, time.UTC), To: time.Date(2026, 11, 21, 0, 0, 0, 0, time.UTC)}
	log, err := client.Call(t.Context(), b.Client, ops.GetHeat, ops.Window{From: day.From, To: day.To})
	if err != nil || len(log.Readings) != 3*3600+2 {
		t.Fatalf("%d readings, %v, want %d", len(log.Readings), err, 3*3600+2)
	}
	if chart, err := client.Call(t.Context(), b.Client, ops.GetHeatChart, ops.Chart{Window: day, Points: 1000}); err != nil || len(chart.Traces) != 3 || chart.Traces[2].Heater != "chamber" || *chart.Traces[2].High[0] != 41.5 {
		t.Errorf("the chart of that day: %+v, %v", chart.Traces, err)
	}
	if chart, err := client.Call(t.Context(), b.Client, ops.GetHeatChart, ops.Chart{Window: ops.Window{From: day.To}, Points: 1000}); err != nil || len(chart.Traces) != 2 {
		t.Errorf("the chart of the days after: %+v, %v", chart.Traces, err)
	}
	for _, r := range log.Readings {
		if r.Heater == "bed" && (r.Actual != 21.25 || r.Setpoint != nil || *r.Duty != 0.5) || r.Heater == "nozzle0" && (r.Actual != 205.1 || *r.Setpoint != 205 || r.Duty != nil) {
			t.Fatalf("a reading became %+v", r)
		}
	}
}

func TestTheFirmwareTunesAHeaterAndKeepsIt(t *testing.T) {
	t.Parallel()
	b := start(t, quick()).live()
	if _, err := client.Ask(t.Context(), b.Client, ops.GetTuning); status(err) != 404 {
		t.Errorf("before any tuning: %v", err)
	}
	for what, c := range map[string]struct {
		heater string
		tune   api.Tune
		status int
	}{
		"of no heater": {"oven", api.Tune{Setpoint: 60, Cycles: 5}, 404}, "past the limit": {"bed", api.Tune{Setpoint: 200, Cycles: 5}, 422},
		"of one cycle": {"bed", api.Tune{Setpoint: 60, Cycles: 1}, 422}, "at nothing": {"bed", api.Tune{Cycles: 5}, 422},
	} {
		if _, err := client.Call(t.Context(), b.Client, ops.TuneHeater, ops.ForHeater(c.heater, c.tune)); status(err) != c.status {
			t.Errorf("a tuning %s: %v, want status %d", what, err, c.status)
		}
	}
	b.mustSend("part.gcode", coupon(t, 2), false)
	if _, err := client.Call(t.Context(), b.Client, ops.TuneHeater, ops.ForHeater("nozzle0", api.Tune{Setpoint: 205, Cycles: 5})); err != nil {
		t.Fatal(err)
	}
	if _, err := client.Call(t.Context(), b.Client, ops.TuneHeater, ops.ForHeater("bed", api.Tune{Setpoint: 60, Cycles: 5})); status(err) != 409 {
		t.Errorf("two at a time: %v", err)
	}
	if _, err := client.Call(t.Context(), b.Client, ops.ApplyTuning, ops.Body(api.ApplyTuning{Save: true})); status(err) != 404 {
		t.Errorf("applied before its end: %v", err)
	}
	var done api.Tuning
	b.until("the tuning's end", func(api.Bench) bool {
		var err error
		if done, err = client.Ask(t.Context(), b.Client, ops.GetTuning); err != nil {
			t.Fatal(err)
		}
		return done.Ended != nil
	})
	if done.Failed != "" || !done.Found || done.P <= 0 || done.I <= 0 || done.D <= 0 || done.Cycle != 5 {
		t.Fatalf("it came to %+v", done)
	}
	constants := func() string {
		said, err := client.Call(t.Context(), b.Client, ops.Say, ops.Body(api.SayLine{Line: "M301"}))
		if err != nil {
			t.Fatal(err)
		}
		return strings.Join(said.Reply, " ")
	}
	before := constants()
	if _, err := client.Call(t.Context(), b.Client, ops.ApplyTuning, ops.Body(api.ApplyTuning{Save: true})); err != nil {
		t.Fatal(err)
	}
	b.until("the firmware having it", func(api.Bench) bool {
		now, err := client.Ask(t.Context(), b.Client, ops.GetTuning)
		return err == nil && now.Applied && now.Saved
	})
	after := constants()
	if after == before || !strings.Contains(after, "p:") {
		t.Errorf("the constants were %q and are %q", before, after)
	}
	then, err := client.Ask(t.Context(), b.Client, ops.GetBench)
	if err != nil {
		t.Fatal(err)
	}
	b.restart()
	b.until("a restarted printer", func(now api.Bench) bool { return now.Link.State == "live" && now.Link.Since.After(then.Link.Since) })
	if kept := constants(); kept != after {
		t.Errorf("after a restart they are %q, want %q", kept, after)
	}
}
