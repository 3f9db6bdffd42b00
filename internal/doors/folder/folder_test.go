package folder_test

import (
	"context"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"diathermon/internal/core/toolpath"
	"diathermon/internal/doors"
	"diathermon/internal/doors/folder"
	"diathermon/internal/shelf"
)

// intake notes what it is given.
type intake struct {
	taken  map[string]string
	thens  []string
	refuse error
	not    error
	during func()
}

func (in *intake) Take(_ context.Context, a shelf.Arrival, then doors.Then) (doors.Taken, error) {
	body, err := io.ReadAll(a.Body)
	if err != nil || int64(len(body)) != a.Size || then != doors.Store {
		return doors.Taken{}, fmt.Errorf("%d of %d bytes, then %s: %w", len(body), a.Size, then, err)
	}
	if in.during != nil {
		in.during()
	}
	if in.refuse != nil {
		return doors.Taken{}, in.refuse
	}
	in.taken[a.Name] = string(body)
	return doors.Taken{File: toolpath.File{Name: a.Name}}, nil
}

func (in *intake) After(_ context.Context, f toolpath.File, then doors.Then, _ string) doors.Taken {
	in.thens = append(in.thens, f.Name+" "+string(then))
	return doors.Taken{Not: in.not}
}

// watched is a folder that is looked at once in two seconds of a clock of its own.
type watched struct {
	*folder.Folder
	*intake
	t   *testing.T
	now time.Time
}

func watch(t *testing.T) *watched {
	in := &intake{taken: map[string]string{}}
	return &watched{Folder: &folder.Folder{Path: t.TempDir(), Start: true, In: in, Log: slog.New(slog.DiscardHandler)}, intake: in, t: t, now: time.Now()}
}

func (w *watched) in(name string) string { return filepath.Join(w.Path, name) }

func (w *watched) put(name, body string) {
	w.t.Helper()
	if err := errors.Join(os.MkdirAll(filepath.Dir(w.in(name)), 0o700), os.WriteFile(w.in(name), []byte(body), 0o600)); err != nil {
		w.t.Fatal(err)
	}
}

func (w *watched) wait(d time.Duration) {
	for until := w.now.Add(d); w.now.Before(until); w.now = w.now.Add(2 * time.Second) {
		w.Look(w.t.Context(), w.now)
	}
}

func (w *watched) lies(name string) bool {
	_, err := os.Lstat(w.in(name))
	return err == nil
}

func TestAFileIsTakenWhenNobodyWritesItAnyMore(t *testing.T) {
	w := watch(t)
	out, err := os.Create(w.in("cap.gcode"))
	if err != nil {
		t.Fatal(err)
	}
	for range 5 { // its writer pauses for longer than any file is left alone
		fmt.Fprintln(out, "G1 X1")
		w.wait(time.Minute)
	}
	if len(w.taken) > 0 {
		t.Fatalf("taken while it was open to be written: %q", w.taken)
	}
	out.Close()
	w.wait(10 * time.Second)
	if w.taken["cap.gcode"] != strings.Repeat("G1 X1\n", 5) || w.lies("cap.gcode") || w.State().Taken != 1 {
		t.Errorf("taken: %q; it lies there still: %v", w.taken, w.lies("cap.gcode"))
	}
}

func TestWhatIsPutIntoPrintBeginsOnce(t *testing.T) {
	w := watch(t)
	w.put("print/a.gcode", "G28\n")
	w.put("queue/b.gcode", "G28\n")
	w.put("c.gcode", "G28\n")
	w.wait(time.Minute)
	slices.Sort(w.thens)
	if !slices.Equal(w.thens, []string{"a.gcode print", "b.gcode queue", "c.gcode store"}) {
		t.Errorf("then: %q", w.thens)
	}
	w.not = errors.New("the printer is busy")
	w.put("print/d.gcode", "G28\n")
	w.wait(time.Minute)
	if text, _ := os.ReadFile(w.in("answers/d.gcode.txt")); !strings.Contains(string(text), "has not started: the printer is busy") || w.lies("print/d.gcode") {
		t.Errorf("the answer is %q", text)
	}
	w.Start = false
	w.put("print/e.gcode", "G28\n")
	w.wait(time.Minute)
	if len(w.thens) != 4 || w.lies("e.gcode") {
		t.Errorf("a folder that may not start: %q", w.thens)
	}
}

func TestAFileThatChangesWhileItIsTakenStays(t *testing.T) {
	w := watch(t)
	w.put("print/a.gcode", "G28\n")
	w.during = func() {
		w.put("print/a.gcode", "G28\nG1 X1\n")
		w.during = nil
	}
	w.wait(8 * time.Second)
	if len(w.thens) != 0 || !w.lies("print/a.gcode") {
		t.Errorf("then: %q", w.thens)
	}
	w.wait(time.Minute)
	if w.taken["a.gcode"] != "G28\nG1 X1\n" || len(w.thens) != 1 {
		t.Errorf("later: %q, %q", w.taken, w.thens)
	}
}

func TestWhatCannotBeTakenIsAnswered(t *testing.T) {
	w := watch(t)
	w.refuse = fmt.Errorf("knob.stl: %w: slice it first", shelf.ErrContent)
	w.put("knob.stl", "solid x\n")
	w.wait(time.Minute)
	if text, _ := os.ReadFile(w.in("answers/knob.stl.txt")); !strings.Contains(string(text), "slice it first") || w.lies("knob.stl") || !w.lies("answers/knob.stl") {
		t.Errorf("the answer is %q", text)
	}
	w.refuse = shelf.ErrFull // which passes
	w.put("cap.gcode", "G28\n")
	w.wait(5 * time.Minute)
	if text, _ := os.ReadFile(w.in("answers/cap.gcode.txt")); !strings.Contains(string(text), "full") || !w.lies("cap.gcode") {
		t.Errorf("of a disk that is full: %q", text)
	}
	w.refuse = nil
	w.wait(2 * time.Minute)
	if w.taken["cap.gcode"] == "" || w.lies("answers/cap.gcode.txt") {
		t.Errorf("when there is room: %q", w.taken)
	}
}

func TestWhatIsForNobodyIsLeftAlone(t *testing.T) {
	w := watch(t)
	secret := filepath.Join(t.TempDir(), "secret.gcode")
	os.WriteFile(secret, []byte("G28\n"), 0o600)
	os.Symlink(secret, w.in("link.gcode"))
	os.Link(secret, w.in("twin.gcode"))
	for i := range 200 {
		os.Symlink(w.Path, w.in(fmt.Sprintf("loop%d.gcode", i)))
	}
	os.Mkdir(w.in("folder.gcode"), 0o700)
	for _, name := range []string{".hidden.gcode", "cap.gcode.part", "cap.gcode~", "~lock.gcode", "Thumbs.db", "empty.gcode"} {
		body := "G28\n"
		if name == "empty.gcode" {
			body = ""
		}
		w.put(name, body)
	}
	w.wait(10 * time.Minute)
	if len(w.taken) != 0 || w.lies("answers") {
		t.Errorf("taken: %q", w.taken)
	}
}

func TestAFolderThatGoesComesBack(t *testing.T) {
	w := watch(t)
	w.wait(10 * time.Second)
	aside := w.Path + "-aside"
	os.Rename(w.Path, aside)
	w.wait(10 * time.Second)
	if s := w.State(); s.There || s.Why == "" {
		t.Errorf("gone: %+v", s)
	}
	os.Rename(aside, w.Path)
	w.put("cap.gcode", "G28\n")
	w.wait(time.Minute)
	if s := w.State(); !s.There || w.taken["cap.gcode"] == "" {
		t.Errorf("back: %+v, %q", s, w.taken)
	}
}
