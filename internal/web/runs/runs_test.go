package runs_test

import (
	"context"
	"fmt"
	"io/fs"
	"math"
	"net/http"
	"os"
	"path/filepath"
	"slices"
	"testing"
	"time"

	"diathermon/internal/api"
	"diathermon/internal/core/heat"
	"diathermon/internal/core/preflight"
	"diathermon/internal/core/run"
	"diathermon/internal/core/trim"
	"diathermon/internal/host/printing"
	"diathermon/internal/web/runs"
	"diathermon/internal/web/webtest"
)

// stage is a host whose run is r2, and the records of r1 and r2.
type stage struct {
	dir    string
	did    []string
	choice printing.Choice
	soak   *heat.Soak
	trim   trim.Trim
	refuse error
	none   bool
	settle int
}

func now() printing.Now {
	return printing.Now{Record: run.Record{ID: "r2", File: "knob.gcode", State: run.Held}, Lasted: time.Minute, May: []run.Act{run.MayResume, run.MayStop}}
}

func (s *stage) State(context.Context) (*printing.Now, error) {
	if s.none {
		return nil, nil
	}
	n := now()
	return &n, nil
}
func (s *stage) act(what, id string) (printing.Now, error) {
	s.did = append(s.did, what+" "+id)
	return now(), s.refuse
}
func (s *stage) Start(_ context.Context, o printing.Order) (printing.Now, error) {
	s.soak = o.Soak
	return s.act("start", o.File)
}
func (s *stage) Trim(_ context.Context, id string, change func(trim.Trim) trim.Trim, _ string) (printing.Now, error) {
	s.trim = change(s.trim)
	return s.act("trim", id)
}
func (s *stage) Until(_ context.Context, id string, at printing.Place, _ string) (printing.Now, error) {
	return s.act(fmt.Sprintf("until %+v", at), id)
}
func (s *stage) Onward(_ context.Context, id string) (printing.Now, error) {
	return s.act("onward", id)
}
func (s *stage) Hold(_ context.Context, id string) (printing.Now, error) { return s.act("hold", id) }
func (s *stage) Resume(_ context.Context, id string) (printing.Now, error) {
	return s.act("resume", id)
}
func (s *stage) Stop(_ context.Context, id string) (printing.Now, error) { return s.act("stop", id) }
func (s *stage) Plan(_ context.Context, _ string, c printing.Choice) (run.Plan, error) {
	s.choice = c
	return run.Plan{Command: 12, Layer: 2}, s.refuse
}
func (s *stage) PickUp(_ context.Context, id string, c printing.Choice) (printing.Now, error) {
	s.choice = c
	return s.act("pick up", id)
}
func (s *stage) Runs(context.Context, time.Time, int) ([]run.Record, error) {
	return []run.Record{{ID: "r2", State: run.Running}, {ID: "r1", State: run.Finished}}, nil
}
func (s *stage) Run(_ context.Context, id string) (run.Record, error) {
	if id != "r1" {
		return run.Record{}, run.ErrUnknown
	}
	return run.Record{ID: "r1", State: run.Finished}, nil
}
func (s *stage) Recording(id string) (*os.File, error) {
	if filepath.Base(id) != id {
		return nil, fs.ErrNotExist
	}
	return os.Open(filepath.Join(s.dir, id))
}

func mount(t *testing.T) (*stage, *webtest.Caller) {
	s := &stage{dir: t.TempDir()}
	return s, webtest.Mount(t, "", runs.Area{Host: s, Log: s, Recordings: s, Settle: func(context.Context) { s.settle++ }})
}

func TestTheRunThatGoesOnIsToldAsItIsNow(t *testing.T) {
	s, c := mount(t)
	var list api.Runs
	c.Call("GET", "/v1/runs", "", &list)
	if len(list.Runs) != 2 || list.Runs[0].State != "held" || list.Runs[0].LastedSeconds != 60 || !slices.Equal(list.Runs[0].May, []string{"resume", "stop"}) || list.Runs[1].State != "finished" || !list.Runs[1].Over || list.Runs[0].Over {
		t.Errorf("%+v", list)
	}
	if s.settle == 0 {
		t.Error("the log was not waited for")
	}
	var one api.Run
	if c.Call("GET", "/v1/runs/r2", "", &one); one.State != "held" || one.Progress == nil {
		t.Errorf("%+v", one)
	}
	if c.Call("GET", "/v1/runs/r1", "", &one); one.State != "finished" {
		t.Errorf("%+v", one)
	}
	c.Refused("GET", "/v1/runs/r3", "", 404, "there is no such run")
}

func TestARunIsStartedWithOrWithoutASoak(t *testing.T) {
	s, c := mount(t)
	if w := c.Call("POST", "/v1/runs", `{"file":"cap.gcode"}`, nil); w.Code != http.StatusCreated || w.Header().Get("Location") != "/v1/runs/r2" || s.soak != nil {
		t.Errorf("%d, %q, soak %v", w.Code, w.Header().Get("Location"), s.soak)
	}
	if c.Call("POST", "/v1/runs", `{"file":"cap.gcode","soak":true,"soak_seconds":90}`, nil); s.soak == nil || s.soak.For != 90*time.Second {
		t.Errorf("soak %v", s.soak)
	}
	s.refuse = &printing.BlockedError{Report: preflight.Report{Checks: []preflight.Check{{Level: preflight.Block, Title: "it does not fit", Do: "slice it again"}}}}
	if p := c.Refused("POST", "/v1/runs", `{"file":"cap.gcode"}`, 409, "it cannot start"); p.Detail != "it does not fit" || p.Checks[0].Do != "slice it again" {
		t.Errorf("%+v", p)
	}
	s.refuse = fmt.Errorf("%w: the disk is full", printing.ErrJournal)
	c.Refused("POST", "/v1/runs", `{"file":"cap.gcode"}`, 507, "the run cannot be kept safe")
}

func TestWhatAPersonDoesReachesTheRun(t *testing.T) {
	s, c := mount(t)
	for _, act := range []string{"hold", "resume", "stop"} {
		c.Call("POST", "/v1/runs/r2/"+act, "", nil)
		if got := s.did[len(s.did)-1]; got != act+" r2" {
			t.Errorf("%s: the host was told to %s", act, got)
		}
	}
	s.refuse = fmt.Errorf("%w: it is over", printing.ErrNoRun)
	c.Refused("POST", "/v1/runs/r1/hold", "", 409, "this run is not going on")
	c.Refused("POST", "/v1/runs/r9/hold", "", 404, "there is no such run")
	s.refuse = run.ErrState
	c.Refused("POST", "/v1/runs/r1/resume", "", 409, "the run is not in a state for that")
}

func TestAHeightThatNobodyGaveIsTheRuns(t *testing.T) {
	s, c := mount(t)
	var plan api.Plan
	if c.Call("GET", "/v1/runs/r2/pick-up?layer=3", "", &plan); plan.Command != 12 || s.choice.Layer != 3 || !math.IsNaN(s.choice.Height) {
		t.Errorf("%+v, %+v", plan, s.choice)
	}
	if c.Call("GET", "/v1/runs/r2/pick-up?height=12.5", "", &plan); s.choice.Height != 12.5 {
		t.Errorf("%+v", s.choice)
	}
	if c.Call("POST", "/v1/runs/r2/pick-up", `{"command":7}`, nil); s.choice.Command != 7 || !math.IsNaN(s.choice.Height) {
		t.Errorf("%+v", s.choice)
	}
	if c.Call("POST", "/v1/runs/r2/pick-up", `{"height":0}`, nil); s.choice.Height != 0 {
		t.Errorf("a height of 0 that was given: %+v", s.choice)
	}
	s.refuse = printing.ErrPlan
	c.Refused("GET", "/v1/runs/r2/pick-up", "", 422, "it cannot be picked up there")
}

func TestARecordingComesWholeOrNotAtAll(t *testing.T) {
	s, c := mount(t)
	os.WriteFile(filepath.Join(s.dir, "r1"), []byte("PK..."), 0o600)
	if w := c.Call("GET", "/v1/runs/r1/recording", "", nil); w.Body.String() != "PK..." || w.Header().Get("Content-Disposition") != `attachment; filename="diathermon-r1.zip"` {
		t.Errorf("%q as %s", w.Body, w.Header().Get("Content-Disposition"))
	}
	c.Refused("GET", "/v1/runs/r2/recording", "", 404, "there is no recording of this run")
}
