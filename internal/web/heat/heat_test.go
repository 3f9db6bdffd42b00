package heat_test

import (
	"context"
	"encoding/csv"
	"fmt"
	"log/slog"
	"math"
	"net/http"
	"slices"
	"strings"
	"testing"
	"time"

	"diathermon/internal/api"
	"diathermon/internal/core/bounds"
	"diathermon/internal/core/heat"
	"diathermon/internal/core/machine"
	"diathermon/internal/core/run"
	"diathermon/internal/core/toolpath"
	"diathermon/internal/hindsight"
	"diathermon/internal/host/heating"
	area "diathermon/internal/web/heat"
	"diathermon/internal/web/runs"
	"diathermon/internal/web/webtest"
)

var begun = time.Date(2026, 3, 1, 20, 0, 0, 0, time.UTC)

// oven is the heaters' side of a host, and what is kept of them, in memory.
type oven struct {
	asked   []string // windows of the log
	samples []heat.Sample
	spans   []heat.Span
	set     map[heat.Heater]float64
	warmUp  *heat.WarmUp
	kept    []heat.WarmUp
	tuning  *heating.TuningNow
	past    []heat.Episode
	bound   map[heat.GuardName]heat.Action
	looked  []time.Duration
	refuse  error
}

func (o *oven) Guards(context.Context) ([]heating.GuardNow, error) {
	return []heating.GuardNow{
		{Heater: heat.Bed, Guard: heat.Runaway, Does: heat.HaltAll, May: heat.Tell, Next: heat.HoldRun, Left: 90 * time.Minute, Standing: heat.Standing{Quiet: 8.5 * 3600, Closest: 0.42, ClosestAt: begun}, Blind: "no duty is told"},
		{Heater: heat.Bed, Guard: heat.TooHot, Does: heat.HaltAll, May: heat.HaltAll, Next: heat.HaltAll, Certain: true},
	}, nil
}
func (o *oven) Bound(_ context.Context, h heat.Heater, g heat.GuardName, most heat.Action) (heating.GuardNow, error) {
	if g == heat.TooHot {
		return heating.GuardNow{}, fmt.Errorf("%w: it is certain", heating.ErrGuard)
	}
	o.bound[g] = most
	return heating.GuardNow{Heater: h, Guard: g, May: most, Standing: heat.Standing{Fixed: most}}, nil
}

// looks is the oven's hindsight.
type looks struct{ *oven }

func (l looks) Look(from, to time.Time) error {
	l.looked = append(l.looked, to.Sub(from))
	return l.refuse
}
func (l looks) State() hindsight.State {
	if len(l.looked) == 0 {
		return hindsight.State{}
	}
	return hindsight.State{From: begun, To: begun.Add(4 * time.Hour), At: begun.Add(time.Hour), Alarms: []heat.Alarm{{At: begun, Heater: heat.Bed, Guard: heat.Jump, Action: heat.Tell, Text: "it jumped"}}, More: 2}
}

func (o *oven) State(context.Context) (heating.Now, error) {
	now := heating.Now{Heaters: []heating.HeaterNow{{Sample: heat.Sample{Reading: heat.Reading{Heater: heat.Bed}}, State: heat.Off}}}
	if o.warmUp != nil {
		now.WarmUp = &heating.WarmUpNow{WarmUp: *o.warmUp, Left: -1}
	}
	return now, nil
}
func (o *oven) Behaviour(context.Context) (heating.Behaviour, error) {
	return heating.Behaviour{Alarms: heating.Alarms{{ID: "a1", Guard: heat.Silence}}}, nil
}
func (o *oven) Set(_ context.Context, h heat.Heater, setpoint float64) (bool, error) {
	o.set[h] = setpoint
	return o.refuse == nil, o.refuse
}
func (o *oven) Cool(context.Context) error { return o.refuse }
func (o *oven) WarmUp(_ context.Context, w heat.WarmUp) error {
	if o.refuse == nil {
		o.warmUp = &w
	}
	return o.refuse
}
func (o *oven) GiveUpWarmUp(context.Context) error { return nil }
func (o *oven) Acknowledge(_ context.Context, id, _ string, was heat.Verdict, reason string) (heat.Alarm, error) {
	if id != "a1" {
		return heat.Alarm{}, fmt.Errorf("%w: %q", heating.ErrNoAlarm, id)
	}
	return heat.Alarm{ID: id, Acknowledged: begun, Verdict: was, Reason: reason}, nil
}
func (o *oven) Tune(context.Context, heat.Heater, float64, int) error { return o.refuse }
func (o *oven) Tuning(context.Context) (*heating.TuningNow, error)    { return o.tuning, nil }
func (o *oven) ApplyTuning(context.Context, bool) error               { return o.refuse }
func (o *oven) Heaters() []heat.Heater                                { return []heat.Heater{heat.Bed, "nozzle1"} }
func (o *oven) Alarms(context.Context, bool, int) ([]heat.Alarm, error) {
	return []heat.Alarm{{ID: "old"}}, nil
}
func (o *oven) WarmUps(context.Context) ([]heat.WarmUp, error) { return o.kept, nil }
func (o *oven) PutWarmUp(_ context.Context, w heat.WarmUp) error {
	o.kept = append(o.kept, w)
	return nil
}
func (o *oven) DeleteWarmUp(context.Context, string) error { return heat.ErrNoWarmUp }
func (o *oven) RunsWithin(context.Context, time.Time, time.Time) ([]run.Record, error) {
	return []run.Record{{ID: "r1", File: "cap.gcode", State: run.Finished, Created: begun}}, nil
}
func (o *oven) Marks(context.Context, time.Time, time.Time, int) ([]heat.Mark, error) {
	return nil, nil
}
func (o *oven) Run(_ context.Context, id string) (run.Record, error) {
	if id != "r1" {
		return run.Record{}, run.ErrUnknown
	}
	return run.Record{File: "cap.gcode", Created: begun, Ended: begun.Add(time.Hour)}, nil
}
func (o *oven) File(_ context.Context, name string) (toolpath.File, error) {
	return toolpath.File{Name: name, Summary: toolpath.Summary{Setpoints: map[heat.Heater]float64{heat.Bed: 60}}}, nil
}
func (o *oven) Episodes(context.Context, heat.Heater, time.Time) ([]heat.Episode, error) {
	return o.past, nil
}
func (o *oven) Readings(_ context.Context, hs []heat.Heater, from, to time.Time, limit int) ([]heat.Sample, error) {
	o.asked = append(o.asked, fmt.Sprint(hs, to.Sub(from)))
	var out []heat.Sample
	for _, s := range o.samples {
		if !s.At.Before(from) && s.At.Before(to) && len(out) < limit {
			out = append(out, s)
		}
	}
	return out, nil
}
func (o *oven) Chart(_ context.Context, h heat.Heater, _, _ time.Time, _ int) ([]heat.Span, error) {
	if h != heat.Bed {
		return nil, nil
	}
	return o.spans, nil
}

func mount(t *testing.T) (*oven, *webtest.Caller) {
	o := &oven{set: map[heat.Heater]float64{}, bound: map[heat.GuardName]heat.Action{}}
	vesper := machine.Printer{Name: "Vesper", Tools: 1, Limits: heat.Limits{Nozzle: 285, Bed: 110}}
	return o, webtest.Mount(t, "", runs.Area{}, area.Area{
		Printer: vesper, Host: o, Log: o, Hindsight: looks{o}, Past: o, Kept: o, WarmUps: o, Files: o, Settle: func(context.Context) {}, PartOff: 35, Logger: slog.New(slog.DiscardHandler),
	})
}

func TestAWindowIsWhatWasAskedFor(t *testing.T) {
	o, c := mount(t)
	for query, want := range map[string]string{
		"":                                  "[nozzle0 bed nozzle1] 15m0s", // what it has and what it had
		"?heater=bed":                       "[bed] 15m0s",
		"?heater=bed&heater=bed":            "[bed] 15m0s",
		"?run=r1":                           "[nozzle0 bed nozzle1] 1h0m0s",
		"?run=r1&from=2026-03-01T20:30:00Z": "[nozzle0 bed nozzle1] 30m0s",
		"?from=2026-03-01T20:00:00Z&to=2026-03-01T20:00:01Z": "[nozzle0 bed nozzle1] 1s",
	} {
		if c.Call("GET", "/v1/heat"+query, "", nil); o.asked[len(o.asked)-1] != want {
			t.Errorf("%s asks for %s, want %s", query, o.asked[len(o.asked)-1], want)
		}
	}
	c.Refused("GET", "/v1/heat?from=2026-03-01T20:00:00Z&to=2026-03-01T20:00:00Z", "", 422, "this window ends before it begins")
	c.Refused("GET", "/v1/heat?from=1960-03-01T20:00:00Z", "", 422, "there are no readings at such times")
	c.Refused("GET", "/v1/heat?heater=oven", "", 404, "there is no such heater")
	c.Refused("GET", "/v1/heat?run=r2", "", 404, "there is no such run")
}

func TestALongWindowSaysThatThereIsMore(t *testing.T) {
	o, c := mount(t)
	for i := range 20_001 {
		o.samples = append(o.samples, heat.Sample{At: begun.Add(time.Duration(i) * time.Millisecond), Reading: heat.Reading{Heater: heat.Bed, Actual: 20}})
	}
	var log api.HeatLog
	if c.Call("GET", "/v1/heat?run=r1", "", &log); len(log.Readings) != 20_000 || !log.More {
		t.Errorf("%d readings, and more: %v", len(log.Readings), log.More)
	}
	o.samples = o.samples[1:]
	if c.Call("GET", "/v1/heat?run=r1", "", &log); len(log.Readings) != 20_000 || log.More {
		t.Errorf("of just as many: %d readings, and more: %v", len(log.Readings), log.More)
	}
}

func TestWhatIsNotKnownIsNoNumber(t *testing.T) {
	o, c := mount(t)
	o.spans = []heat.Span{{Begins: begun, Count: 2, Low: 20, High: 22.0004, Mean: 21, Setpoint: math.NaN(), Duty: 0.5}, {Begins: begun.Add(time.Minute)}}
	var chart api.HeatChart
	c.Call("GET", "/v1/heat/chart?run=r1", "", &chart)
	if len(chart.Traces) != 2 || chart.Traces[0].Heater != "nozzle0" || len(chart.Traces[0].At) != 0 || len(chart.Runs) != 1 {
		t.Fatalf("%+v", chart)
	}
	bed := chart.Traces[1]
	if bed.At[1]-bed.At[0] != 60_000 || *bed.High[0] != 22 || bed.Setpoint[0] != nil || *bed.Duty[0] != 0.5 || bed.Low[1] != nil || bed.Mean[1] != nil {
		t.Errorf("%+v", bed)
	}
}

func TestAWindowAsAFile(t *testing.T) {
	o, c := mount(t)
	for i := range 4 { // across the pages that are read at a time, and the last of them behind the window's end
		o.samples = append(o.samples, heat.Sample{At: begun.Add(time.Duration(i) * 5 * time.Hour), Reading: heat.Reading{Heater: heat.Bed, Actual: 20.25 + float64(i), HasSetpoint: i > 0, Setpoint: 60, HasDuty: i > 1, Duty: 0.5}})
	}
	const window = "&from=2026-03-01T20:00:00Z&to=2026-03-02T09:00:00Z"
	w := c.Call("GET", "/v1/heat/export?format=csv"+window, "", nil)
	rows, err := csv.NewReader(w.Body).ReadAll()
	if err != nil || len(rows) != 4 || !slices.Equal(rows[1], []string{"2026-03-01T20:00:00.000Z", "bed", "20.25", "", ""}) || !slices.Equal(rows[3], []string{"2026-03-02T06:00:00.000Z", "bed", "22.25", "60", "0.5"}) {
		t.Errorf("%v, %v", rows, err)
	}
	if got := w.Header().Get("Content-Disposition"); got != `attachment; filename="heat-20260301-200000.csv"` {
		t.Errorf("it is to be called %s", got)
	}
	var log api.HeatLog
	if c.Call("GET", "/v1/heat/export?format=json"+window, "", &log); len(log.Readings) != 3 || log.Readings[0].Setpoint != nil || *log.Readings[1].Setpoint != 60 {
		t.Errorf("%+v", log)
	}
	if w := c.Call("GET", "/v1/heat/export?format=png&width=300&height=200"+window, "", nil); !strings.HasPrefix(w.Body.String(), "\x89PNG") {
		t.Errorf("no PNG but %.20q", w.Body)
	}
	c.Refused("GET", "/v1/heat/export?format=xls", "", 422, "there is no such format")
	c.Refused("GET", "/v1/heat/export?format=png&width=1e9", "", 422, "a picture of that size cannot be drawn")
	c.Refused("GET", "/v1/heat/export?from=yesterday", "", 422, "this is not a time")
}

func TestASetpointIsGivenOrRefusedInWords(t *testing.T) {
	o, c := mount(t)
	var set api.HeatSet
	if c.Call("PUT", "/v1/heat/bed", `{"setpoint":62.5}`, &set); !set.Taken || o.set[heat.Bed] != 62.5 {
		t.Errorf("%+v, %v", set, o.set)
	}
	c.Refused("PUT", "/v1/heat/oven", `{"setpoint":60}`, 404, "there is no such heater")
	o.refuse = fmt.Errorf("%w: 200 is above 110", bounds.ErrSetpoint)
	if p := c.Refused("PUT", "/v1/heat/bed", `{"setpoint":200}`, 422, "the setpoint is out of bounds"); p.Detail != "200 is above 110" {
		t.Errorf("the detail is %q", p.Detail)
	}
	o.refuse = run.ErrAlarm
	c.Refused("PUT", "/v1/heat/bed", `{"setpoint":60}`, 409, "an alarm waits for you")
	c.Refused("POST", "/v1/heat/bed/tuning", `{"setpoint":60,"cycles":5}`, 409, "an alarm waits for you")
}

func TestOneWarmUpIsChosen(t *testing.T) {
	o, c := mount(t)
	var made api.WarmUp
	c.Call("PUT", "/v1/warm-ups/caps", `{"name":"","setpoints":{"bed":60,"nozzle0":210},"order":"together","soak":true,"soak_seconds":300}`, &made)
	if made.Name != "caps" || made.Order != string(heat.Together) || o.kept[0].SoakFor != 5*time.Minute {
		t.Errorf("%+v", made)
	}
	c.Refused("PUT", "/v1/warm-ups/caps", `{"name":"knobs","setpoints":{"bed":60},"order":"together","soak":false}`, 422, "this is no warm-up")
	c.Refused("PUT", "/v1/warm-ups/caps", `{"name":"caps","setpoints":{"chamber":60},"order":"together","soak":false}`, 422, "this is no warm-up")
	c.Refused("DELETE", "/v1/warm-ups/gone", "", 404, "there is no such warm-up")
	for body, want := range map[string]float64{`{"name":"caps"}`: 60, `{"file":"cap.gcode"}`: 60, `{"warm_up":{"name":"","setpoints":{"bed":45},"order":"at-once","soak":false}}`: 45} {
		var now api.WarmingUp
		if c.Call("POST", "/v1/heat/warm-up", body, &now); o.warmUp.Setpoints[heat.Bed] != want || now.LeftSeconds != nil {
			t.Errorf("%s: %+v, %+v", body, o.warmUp, now)
		}
	}
	for _, body := range []string{`{}`, `{"name":"caps","file":"cap.gcode"}`} {
		c.Refused("POST", "/v1/heat/warm-up", body, 422, "this is no warm-up")
	}
	c.Refused("POST", "/v1/heat/warm-up", `{"name":"none"}`, 404, "there is no such warm-up")
}

func TestAlarmsThatWaitAreTheHostsOwn(t *testing.T) {
	_, c := mount(t)
	var alarms api.Alarms
	if c.Call("GET", "/v1/heat/alarms?waiting=true", "", &alarms); alarms.Alarms[0].ID != "a1" {
		t.Errorf("%+v", alarms)
	}
	if c.Call("GET", "/v1/heat/alarms", "", &alarms); alarms.Alarms[0].ID != "old" {
		t.Errorf("%+v", alarms)
	}
	c.Refused("POST", "/v1/heat/alarms/a2/acknowledge", "", 404, "there is no such alarm")
}

func TestATuningIsComparedWithWhatWasBeforeIt(t *testing.T) {
	o, c := mount(t)
	if w := c.Call("GET", "/v1/heat/tuning", "", nil); w.Code != http.StatusNoContent {
		t.Errorf("before anything was tuned: %d %s", w.Code, w.Body)
	}
	o.tuning = &heating.TuningNow{Heater: heat.Bed, Begun: begun, Ended: begun.Add(time.Minute)}
	hold := func(at time.Duration, ripple float64) heat.Episode {
		return heat.Episode{Kind: heat.HoldingOn, At: begun.Add(at), Ripple: ripple}
	}
	o.past = []heat.Episode{hold(-2*time.Hour, 1), hold(-time.Hour, 0.8), {At: begun.Add(-time.Minute), Ripple: 9}, hold(time.Hour, 0.2)}
	var tuning api.Tuning
	if c.Call("GET", "/v1/heat/tuning", "", &tuning); *tuning.RippleBefore != 0.8 || tuning.RippleAfter != nil {
		t.Errorf("not applied: %+v", tuning)
	}
	o.tuning.Applied = true
	if c.Call("GET", "/v1/heat/tuning", "", &tuning); *tuning.RippleAfter != 0.2 {
		t.Errorf("applied: %+v", tuning)
	}
	if w := c.Call("POST", "/v1/heat/bed/tuning", `{"setpoint":60,"cycles":5}`, nil); w.Code != http.StatusAccepted {
		t.Errorf("begun: %d %s", w.Code, w.Body)
	}
}

func TestWhatAGuardMayDoIsToldAndBounded(t *testing.T) {
	o, c := mount(t)
	var guards api.Guards
	c.Call("GET", "/v1/heat/guards", "", &guards)
	if g := guards.Guards[0]; g.May != "tell" || g.Most != "halt" || g.Next != "hold" || g.NextHours != 1.5 || g.QuietHours != 8.5 || g.Closest != 0.42 || !g.ClosestAt.Equal(begun) || g.Blind == "" {
		t.Errorf("a guard on trial is told as %+v", g)
	}
	if g := guards.Guards[1]; !g.Certain || g.May != "halt" || g.Next != "" || g.ClosestAt != nil {
		t.Errorf("one that needs no trial is told as %+v", g)
	}
	var g api.Guard
	if c.Call("PUT", "/v1/heat/guards/bed/runaway", `{"bound":"cool"}`, &g); g.Bound != "cool" || o.bound[heat.Runaway] != heat.CoolOff {
		t.Errorf("bounded: %+v", g)
	}
	c.Refused("PUT", "/v1/heat/guards/bed/runaway", `{"bound":"explode"}`, 422, "the request is not as it should be")
	c.Refused("PUT", "/v1/heat/guards/bed/runaway", `bound: explode`, 400, "the request is not as it should be")
	c.Refused("PUT", "/v1/heat/guards/bed/runaway", strings.Repeat(" ", 2<<20), 413, "the request is too large")
	c.Refused("PUT", "/v1/heat/guards/bed/too-hot", `{}`, 422, "that guard cannot be bounded like that")
	c.Refused("PUT", "/v1/heat/guards/oven/jump", `{}`, 404, "there is no such heater")
}

func TestGuardsLookBack(t *testing.T) {
	o, c := mount(t)
	if w := c.Call("GET", "/v1/heat/hindsight", "", nil); w.Code != http.StatusNoContent {
		t.Errorf("before they have looked back: %d %s", w.Code, w.Body)
	}
	var seen api.Hindsight
	if c.Call("POST", "/v1/heat/hindsight", `{}`, &seen); o.looked[0] != 30*24*time.Hour || seen.Progress != 0.25 || seen.Ended || seen.More != 2 || seen.Alarms[0].Text != "it jumped" {
		t.Errorf("looked at %v: %+v", o.looked, seen)
	}
	for _, window := range []string{`{"from":"2020-01-01T00:00:00Z"}`, `{"from":"2026-03-01T20:00:00Z","to":"2026-03-01T20:00:00Z"}`} {
		c.Refused("POST", "/v1/heat/hindsight", window, 422, "the guards cannot look at that")
	}
	o.refuse = hindsight.ErrBusy
	c.Refused("POST", "/v1/heat/hindsight", `{}`, 409, "the guards are looking at the log already")
}

func TestSoManyWarmUpsAreKept(t *testing.T) {
	_, c := mount(t)
	const body = `{"name":"","setpoints":{"bed":60},"order":"together","soak":false}`
	for i := range 100 {
		if w := c.Call("PUT", fmt.Sprintf("/v1/warm-ups/w%d", i), body, nil); w.Code != http.StatusOK {
			t.Fatalf("the %dth: %d %s", i+1, w.Code, w.Body)
		}
	}
	c.Refused("PUT", "/v1/warm-ups/one-more", body, 422, "this is no warm-up")
	if w := c.Call("PUT", "/v1/warm-ups/w7", body, nil); w.Code != http.StatusOK {
		t.Errorf("one that is changed: %d %s", w.Code, w.Body)
	}
}

func TestAPictureHasSoManyPixels(t *testing.T) {
	_, c := mount(t)
	const window = "&from=2026-03-01T20:00:00Z&to=2026-03-02T09:00:00Z"
	for size, good := range map[string]bool{"width=1200&height=700": true, "width=4000&height=500": true, "width=2000&height=2000": false, "width=4000&height=4000": false, "width=4001&height=200": false} {
		if w := c.Call("GET", "/v1/heat/export?format=png&"+size+window, "", nil); (w.Code == http.StatusOK) != good {
			t.Errorf("%s: %d", size, w.Code)
		}
	}
}
