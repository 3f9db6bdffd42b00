package records

import (
	"log/slog"
	"os"
	"path/filepath"
	"testing"
	"time"
)

func TestWhatWaitsIsOnDiskAndOutlivesAPowerCut(t *testing.T) {
	path := filepath.Join(t.TempDir(), "waiting.jsonl")
	at := time.Date(2026, 11, 23, 12, 0, 0, 0, time.UTC)
	waiting := []entry{{Run: &runRow{ID: "a", File: "dust-cap.gcode", Created: at, Ended: &at}}, {Mark: &mark{At: at, Kind: "hold", Text: "a\nb"}}, {Alarm: &alarmRow{ID: "b", At: at}}}
	a := &aside{path: path}
	if none, err := a.read(); err != nil || len(none) != 0 {
		t.Fatalf("without a file %+v waits, %v", none, err)
	}
	for n := range waiting {
		if err := a.add(waiting[:n+1]); err != nil {
			t.Fatal(err)
		}
	}
	back, err := (&aside{path: path}).read()
	if err != nil || len(back) != 3 || back[0].Run.File != "dust-cap.gcode" || !back[0].Run.Ended.Equal(at) || back[1].Mark.Text != "a\nb" || back[2].Alarm.ID != "b" {
		t.Fatalf("%+v waits, %v", back, err)
	}
	whole, err := os.ReadFile(path)
	if err != nil {
		t.Fatal(err)
	}
	for cut := range whole { // at every byte
		if err := os.WriteFile(path, whole[:cut], 0o644); err != nil {
			t.Fatal(err)
		}
		after := &aside{path: path}
		some, err := after.read()
		if err != nil || len(some) > 3 {
			t.Fatalf("cut at %d: %+v waits, %v", cut, some, err)
		}
		if err := after.add(append(some, waiting[2])); err != nil {
			t.Fatal(err)
		}
		more, err := (&aside{path: path}).read()
		if err != nil || len(more) != len(some)+1 || more[len(some)].Alarm == nil {
			t.Fatalf("cut at %d, and added to: %+v waits, %v", cut, more, err)
		}
	}
	a.clear(slog.New(slog.DiscardHandler))
	if _, err := os.Stat(path); !os.IsNotExist(err) {
		t.Errorf("written, and the file is there: %v", err)
	}
}

func TestOnlyTheNewestStateOfARunWaits(t *testing.T) {
	w, err := NewWriter(nil, filepath.Join(t.TempDir(), "waiting.jsonl"), slog.New(slog.DiscardHandler))
	if err != nil {
		t.Fatal(err)
	}
	for taken := range 10 {
		w.take(entry{Run: &runRow{ID: "a", Taken: taken}})
		w.take(entry{Message: &message{Text: "one more"}})
	}
	if len(w.waiting) != 11 || w.waiting[0].Run.Taken != 9 || w.taken != 11 {
		t.Errorf("%d wait of %d taken, the run with %d", len(w.waiting), w.taken, w.waiting[0].Run.Taken)
	}
	w.writing = len(w.waiting) // under way to the database
	w.take(entry{Run: &runRow{ID: "a", Taken: 10}})
	if len(w.waiting) != 12 || w.waiting[0].Run.Taken != 9 || w.waiting[11].Run.Taken != 10 {
		t.Error("what is being written was changed")
	}
}
