package queue_test

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"log/slog"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"testing/synctest"
	"time"

	"diathermon/internal/core/preflight"
	core "diathermon/internal/core/queue"
	"diathermon/internal/core/run"
	"diathermon/internal/core/stock"
	"diathermon/internal/core/toolpath"
	"diathermon/internal/host/printing"
	"diathermon/internal/queue"
)

// vesper is a printer that starts what it is asked to, unless something is in its way.
type vesper struct {
	mu     sync.Mutex
	refuse error
	begun  []printing.Order
}

func (v *vesper) refuses(why error) {
	v.mu.Lock()
	defer v.mu.Unlock()
	v.refuse = why
}

func (v *vesper) Start(_ context.Context, o printing.Order) (printing.Now, error) {
	v.mu.Lock()
	defer v.mu.Unlock()
	if v.refuse != nil {
		return printing.Now{}, v.refuse
	}
	v.begun = append(v.begun, o)
	return printing.Now{Record: run.Record{ID: fmt.Sprint(len(v.begun)), File: o.File, Entry: o.Entry}}, nil
}

func (v *vesper) Mapped(f toolpath.File, _ stock.Mapping) toolpath.File { return f }

func (v *vesper) Preflights(_ context.Context, files []toolpath.File) ([]preflight.Report, error) {
	v.mu.Lock()
	defer v.mu.Unlock()
	out := make([]preflight.Report, len(files))
	for i := range out {
		if v.refuse != nil {
			out[i].Checks = []preflight.Check{{Kind: preflight.Bed, Level: preflight.Block, Title: v.refuse.Error()}, {Kind: preflight.Link, Level: preflight.Block, Title: "no link"}}
		}
	}
	return out, nil
}

// shelf has files by name and digest.
type shelf map[string]string

func (s shelf) Known(_ context.Context, name string) (toolpath.File, error) {
	if s[name] == "" {
		return toolpath.File{}, fs.ErrNotExist
	}
	return toolpath.File{Name: name, Digest: s[name]}, nil
}

func (s shelf) Files(context.Context) (out []toolpath.File, err error) {
	for name, digest := range s {
		out = append(out, toolpath.File{Name: name, Digest: digest})
	}
	return out, nil
}

type stand struct {
	queue.Config
	*queue.Queue
	v    *vesper
	told int
}

// open opens the queue as the process does that begins, with what was cut off.
func open(t *testing.T, path, begun string) *stand {
	t.Helper()
	s := &stand{v: &vesper{}}
	s.Config = queue.Config{Path: path, Begun: begun, Shelf: shelf{"cap.gcode": "c1", "knob.gcode": "k1"}, Host: s.v, Tell: func() { s.told++ }, Log: slog.New(slog.DiscardHandler)}
	q, err := queue.Open(s.Config, nil)
	if err != nil {
		t.Fatal(err)
	}
	s.Queue = q
	return s
}

func (s *stand) add(t *testing.T, name string, w core.Wish) core.Entry {
	t.Helper()
	e, _, err := s.Add(t.Context(), name, "Ilse", "", w)
	if err != nil {
		t.Fatal(err)
	}
	return e
}

// Every way in which a host may end around a start, and what waits afterwards.
func TestNothingIsLostAndNothingBeginsTwice(t *testing.T) {
	for name, c := range map[string]struct {
		began   bool // the run's journal was on the disk
		removed bool // its entry had been taken off
		goes    bool // the run is there still as the host comes back
		want    int  // runs that are left of two
	}{
		"before the start":                  {false, false, false, 2},
		"between journal and queue":         {true, false, true, 1},
		"after both":                        {true, true, true, 1},
		"after both, and the run has ended": {true, true, false, 1},
	} {
		path := filepath.Join(t.TempDir(), "queue.json")
		s := open(t, path, "")
		e := s.add(t, "cap.gcode", core.Wish{Copies: 2})
		turn := e.Turn()
		if c.began {
			before, err := os.ReadFile(path)
			if err != nil {
				t.Fatal(err)
			}
			if _, err := s.Next(t.Context(), e.ID, printing.Order{By: "Ilse"}); err != nil || s.v.begun[0].Entry != turn || s.v.begun[0].Digest != "c1" {
				t.Fatalf("%s: began %+v, %v", name, s.v.begun, err)
			}
			if !c.removed { // the power ended in between
				os.WriteFile(path, before, 0o600)
			}
		}
		begun := ""
		if c.goes {
			begun = turn
		}
		again := open(t, path, begun)
		if left := again.Entries(); len(left) != 1 || left[0].Copies != c.want || len(again.v.begun) != 0 {
			t.Errorf("%s: %+v waits, and %+v began by itself", name, left, again.v.begun)
		}
		if third := open(t, path, begun).Entries(); third[0].Copies != c.want {
			t.Errorf("%s: after one more restart %+v waits", name, third)
		}
	}
}

func TestAnEntryBeginsAtItsTimeOrNotAtAll(t *testing.T) {
	for name, c := range map[string]struct {
		refuse error
		free   time.Duration // when nothing is in its way any more
		off    time.Duration // the host is off until then
		begun  bool
		cause  string
	}{
		"at its time":             {nil, 0, 0, true, ""},
		"a little late":           {errors.New("the bed is occupied"), 70 * time.Minute, 0, true, ""},
		"too late":                {errors.New("the bed is occupied"), 80 * time.Minute, 0, false, "it could not begin at its time: the bed is occupied"},
		"the host was off":        {nil, 0, 3 * time.Hour, false, "its time passed while the host was off"},
		"the host was off before": {nil, 0, 50 * time.Minute, true, ""},
	} {
		t.Run(name, func(t *testing.T) {
			path := filepath.Join(t.TempDir(), "queue.json")
			synctest.Test(t, func(t *testing.T) {
				at := time.Now().Add(time.Hour)
				open(t, path, "").add(t, "cap.gcode", core.Wish{Copies: 1, After: at})
				time.Sleep(c.off)
				s := open(t, path, "")
				s.v.refuses(c.refuse)
				ctx, end := context.WithCancel(t.Context())
				go s.Work(ctx)
				time.Sleep(c.free - c.off)
				synctest.Wait()
				if c.free > 0 {
					s.v.refuses(nil)
				}
				time.Sleep(5 * time.Hour)
				end()
				synctest.Wait()
				left := s.Entries()
				if began := len(s.v.begun) == 1 && len(left) == 0; began != c.begun || !began && (len(s.v.begun) != 0 || !left[0].Missed || left[0].Cause != c.cause) {
					t.Fatalf("began %+v, %+v waits", s.v.begun, left)
				}
				if c.begun {
					return
				}
				// A person lets it begin, or gives it another time.
				if out, err := s.Outlooks(t.Context()); err != nil || out[0].Why != c.cause {
					t.Errorf("it waits because %q, %v", out[0].Why, err)
				}
				if e, err := s.Change(left[0].ID, queue.Change{Wish: func(w *core.Wish) { w.After = time.Now().Add(time.Minute) }}); err != nil || e.Missed || e.Cause != "" {
					t.Errorf("with another time it is %+v, %v", e, err)
				}
				if _, err := s.Next(t.Context(), "", printing.Order{By: "Ilse"}); err != nil {
					t.Error(err)
				}
			})
		})
	}
}

func TestWhatIsInItsWayIsSaid(t *testing.T) {
	path := filepath.Join(t.TempDir(), "queue.json")
	s := open(t, path, "")
	first, second := s.add(t, "cap.gcode", core.Wish{Copies: 1}), s.add(t, "knob.gcode", core.Wish{Copies: 1})
	s.v.refuses(errors.New("the bed is occupied"))
	if out, err := s.Outlooks(t.Context()); err != nil || out[0].Why != "no link" || len(out[0].Checks) != 2 {
		t.Errorf("%+v, %v", out, err)
	}
	s.Config.Shelf.(shelf)["cap.gcode"] = "c2"
	delete(s.Config.Shelf.(shelf), "knob.gcode")
	out, err := s.Outlooks(t.Context())
	if err != nil || !strings.Contains(out[0].Why, "was replaced") || !strings.Contains(out[1].Why, "not on the shelf") {
		t.Errorf("%+v, %v", out, err)
	}
	if _, err := s.Next(t.Context(), second.ID, printing.Order{}); !errors.Is(err, core.ErrMissing) {
		t.Errorf("one that is not the first: %v", err)
	}
	if err := s.Remove(first.ID); err != nil || s.told < 3 {
		t.Errorf("told %d times, %v", s.told, err)
	}
	if err := s.Remove(first.ID); !errors.Is(err, core.ErrMissing) {
		t.Errorf("taken out twice: %v", err)
	}

	// A spoilt file is kept, and keeps nobody from printing.
	os.WriteFile(path, []byte(`[{"ID":`), 0o600)
	again := open(t, path, "")
	if kept, err := os.ReadFile(path + queue.Spoilt); err != nil || string(kept) != `[{"ID":` || len(again.Entries()) != 0 {
		t.Errorf("of a spoilt file %q is kept, %v", kept, err)
	}
}
