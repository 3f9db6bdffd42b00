package shelf_test

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"diathermon/internal/core/toolpath"
	"diathermon/internal/digest"
	"diathermon/internal/shelf"
)

// failing is an index that dies at its n-th change, before or after it has taken it,
// and answers nothing from then on until it is mended.
type failing struct {
	*memory
	at    int // the change at which it dies; 0: never
	after bool
	dead  bool
}

var errAway = errors.New("the database is away")

func (f *failing) change(do func() error) error {
	if f.dead {
		return errAway
	}
	if f.at--; f.at != 0 {
		return do()
	}
	f.dead = true
	if f.after {
		do()
	}
	return errAway
}

func (f *failing) PutFile(ctx context.Context, file toolpath.File) error {
	return f.change(func() error { return f.memory.PutFile(ctx, file) })
}

func (f *failing) DeleteFile(ctx context.Context, name string) error {
	return f.change(func() error { return f.memory.DeleteFile(ctx, name) })
}

func (f *failing) File(ctx context.Context, name string) (toolpath.File, error) {
	if f.dead {
		return toolpath.File{}, errAway
	}
	return f.memory.File(ctx, name)
}

// agree fails unless disk and index hold the same, which is one of the bodies that
// may be there; "" is no file.
func agree(t *testing.T, what, dir string, index *memory, s *shelf.Shelf, bodies ...string) {
	t.Helper()
	f, known := index.files["cap.gcode"]
	body, err := os.ReadFile(filepath.Join(dir, "cap.gcode"))
	if known != (err == nil) {
		t.Errorf("%s: the index knows it: %v; on disk: %v", what, known, err)
		return
	}
	one := false
	for _, b := range bodies {
		one = one || b == string(body)
	}
	if !one {
		t.Errorf("%s: on disk is %q", what, body)
	}
	if !known {
		return
	}
	if sum, _, _ := digest.Again(bytes.NewReader(body), f.Digest); f.Digest != sum || f.Size != int64(len(body)) || f.Commands == 0 {
		t.Errorf("%s: the index holds %+v of %q", what, f, body)
	}
	in, err := s.Open(t.Context(), f)
	if err != nil {
		t.Errorf("%s: it cannot be opened: %v", what, err)
		return
	}
	defer in.Close()
	if got, err := io.ReadAll(in); err != nil || string(got) != string(body) {
		t.Errorf("%s: opened, it is %q, %v", what, got, err)
	}
}

const other = part + "M107\n"

// changes are what may be under way when something dies.
var changes = map[string]func(*shelf.Shelf) error{
	"replace": func(s *shelf.Shelf) error {
		a := arrival("cap.gcode", other)
		a.Replace = true
		_, _, err := s.Store(context.Background(), a)
		return err
	},
	"remove": func(s *shelf.Shelf) error { return s.Remove(context.Background(), "cap.gcode") },
}

func bodiesAfter(change string) []string {
	if change == "remove" {
		return []string{part, ""}
	}
	return []string{part, other}
}

func TestDiskAndIndexChangeTogetherWhereverTheProcessDies(t *testing.T) {
	for change, do := range changes {
		deaths := 0
		for at := 1; ; at++ {
			s, m, dir := open(t)
			if _, _, err := s.Store(t.Context(), arrival("cap.gcode", part)); err != nil {
				t.Fatal(err)
			}
			left := at
			undo := shelf.Between(func(string) {
				if left--; left == 0 {
					panic("killed")
				}
			})
			died := func() (died bool) {
				defer func() { died = recover() != nil }()
				do(s)
				return false
			}()
			undo()
			if !died {
				break
			}
			deaths++
			again, err := shelf.Open(t.Context(), dir, m, plainly)
			if err != nil {
				t.Fatal(err)
			}
			agree(t, fmt.Sprintf("%s, killed at step %d", change, at), dir, m, again, bodiesAfter(change)...)
			if left, _ := os.ReadDir(filepath.Join(dir, ".staging")); len(left) > 0 {
				t.Errorf("%s: %v is left", change, left)
			}
		}
		if deaths < 3 {
			t.Errorf("%s has %d steps: this test tests nothing", change, deaths)
		}
	}
}

func TestDiskAndIndexChangeTogetherWhereverTheIndexDies(t *testing.T) {
	for change, do := range changes {
		for _, after := range []bool{false, true} {
			m := &memory{files: map[string]toolpath.File{}}
			f := &failing{memory: m, at: -1, after: after}
			dir := filepath.Join(t.TempDir(), "shelf")
			s, err := shelf.Open(t.Context(), dir, f, plainly)
			if err != nil {
				t.Fatal(err)
			}
			if _, _, err := s.Store(t.Context(), arrival("cap.gcode", part)); err != nil {
				t.Fatal(err)
			}
			f.at = 1
			if err := do(s); err == nil {
				t.Fatalf("%s: the index died, and nobody said so", change)
			}
			f.dead = false
			what := fmt.Sprintf("%s, the index dead after its change: %v", change, after)
			// The process goes on: whatever the index has is what is printed.
			if known, ok := m.files["cap.gcode"]; ok {
				if in, err := s.Open(t.Context(), known); err != nil {
					t.Errorf("%s: %v", what, err)
				} else {
					in.Close()
				}
			}
			again, err := shelf.Open(t.Context(), dir, f, plainly)
			if err != nil {
				t.Fatal(err)
			}
			agree(t, what, dir, m, again, bodiesAfter(change)...)
		}
	}
}

func TestAnIndexThatRefusesLeavesEverythingAsItWas(t *testing.T) {
	s, m, dir := open(t)
	s.Store(t.Context(), arrival("cap.gcode", part))
	m.refuse = errors.New("it has a number that JSON does not know")
	a := arrival("cap.gcode", other)
	a.Replace = true
	if _, _, err := s.Store(t.Context(), a); err == nil {
		t.Error("nobody said so")
	}
	agree(t, "refused", dir, m, s, part)
	if left, _ := os.ReadDir(filepath.Join(dir, ".staging")); len(left) > 0 {
		t.Errorf("%v is left", left)
	}
}

func TestAFileChangedByHandIsNoticedBeforeItIsPrinted(t *testing.T) {
	long := part + strings.Repeat("G1 X30 E2\n", 60_000) // more than two blocks
	for name, changed := range map[string]string{
		"one byte, the same size": strings.Replace(long, "X30", "X31", 1),
		"its end":                 long[:len(long)-2] + "9\n",
		"shorter":                 long[:len(long)-10],
		"longer":                  long + "M104 S300\n",
	} {
		s, m, dir := open(t)
		f, _, err := s.Store(t.Context(), arrival("cap.gcode", long))
		if err != nil {
			t.Fatal(err)
		}
		path := filepath.Join(dir, "cap.gcode")
		info, _ := os.Stat(path)
		os.WriteFile(path, []byte(changed), 0o600)
		os.Chtimes(path, time.Now(), info.ModTime()) // and nobody sees it by its date
		if _, err := s.Open(t.Context(), f); !errors.Is(err, shelf.ErrChanged) {
			t.Errorf("%s: %v", name, err)
		}
		agree(t, name, dir, m, s, changed) // and is known for what it is now
	}
	s, m, dir := open(t)
	f, _, _ := s.Store(t.Context(), arrival("cap.gcode", part))
	os.WriteFile(filepath.Join(dir, "cap.gcode"), []byte("a letter to a friend\n"), 0o600)
	if _, err := s.Open(t.Context(), f); !errors.Is(err, shelf.ErrChanged) || len(m.files) != 0 {
		t.Errorf("what is no G-code any more: %v, the index holds %v", err, m.files)
	}
}

func TestAFileChangedWhileItIsPrintedIsNotReadOn(t *testing.T) {
	long := strings.Repeat("G1 X30 E2\n", 100_000)
	s, _, dir := open(t)
	f, _, err := s.Store(t.Context(), arrival("cap.gcode", long))
	if err != nil {
		t.Fatal(err)
	}
	in, err := s.Open(t.Context(), f)
	if err != nil {
		t.Fatal(err)
	}
	defer in.Close()
	first := make([]byte, 1000)
	if _, err := io.ReadFull(in, first); err != nil {
		t.Fatal(err)
	}
	out, err := os.OpenFile(filepath.Join(dir, "cap.gcode"), os.O_WRONLY, 0)
	if err != nil {
		t.Fatal(err)
	}
	out.WriteAt([]byte("M104 S300\n"), 900_000)
	out.Close()
	rest, err := io.ReadAll(in)
	if !errors.Is(err, shelf.ErrChanged) || strings.Contains(string(rest), "M104") || string(first)+string(rest) != long[:len(first)+len(rest)] {
		t.Errorf("%d bytes were read on, %v", len(rest), err)
	}
}

func TestFactsOfAnOlderVersionAreComputedAnew(t *testing.T) {
	s, m, _ := open(t)
	f, _, _ := s.Store(t.Context(), arrival("cap.gcode", "G28\nG1 X1\nM104 S200 #\nG1 X2\n"))
	stored := f.Stored
	f.Version, f.Findings = 0, nil
	m.files["cap.gcode"] = f
	if got, err := s.File(t.Context(), "cap.gcode"); err != nil || len(got.Findings) != 1 || !got.Stored.Equal(stored) {
		t.Errorf("asked for: %+v, %v", got, err)
	}
	m.files["cap.gcode"] = f
	if known, err := s.Known(t.Context(), "cap.gcode"); err != nil || known.Surveyed() {
		t.Errorf("known without being worked out: %+v, %v", known, err)
	}
	if got, err := s.Survey(t.Context(), "cap.gcode", reader(nil, nil)); err != nil || !got.Surveyed() || m.files["cap.gcode"].Version != toolpath.Version {
		t.Errorf("in the background: %+v, %v", m.files["cap.gcode"], err)
	}
}

func TestBytesThatWereChangedByHandAreReadAnewInTheBackground(t *testing.T) {
	s, m, dir := open(t)
	f, _, _ := s.Store(t.Context(), arrival("cap.gcode", "G28\nG1 X1\nM104 S200\nG1 X2\n"))
	before := f.Digest
	f.Stored = f.Stored.Add(-time.Hour)
	m.files["cap.gcode"] = f
	if s.Renew(t.Context()); m.files["cap.gcode"].Digest != before || !m.files["cap.gcode"].Stored.Equal(f.Stored) {
		t.Errorf("the same bytes: %+v", m.files["cap.gcode"])
	}
	path := filepath.Join(dir, "cap.gcode")
	os.WriteFile(path, []byte("G28\nG1 X1\nM104 S999\nG1 X2\n"), 0o600) // as many bytes
	os.Chtimes(path, f.Stored, f.Stored)                                // and the time that a copying program gives it
	if s.Renew(t.Context()); m.files["cap.gcode"].Digest == before || m.files["cap.gcode"].Setpoints["nozzle0"] != 999 {
		t.Errorf("others: %+v", m.files["cap.gcode"])
	}
}

func TestTheShelfBelongsToItsUserAlone(t *testing.T) {
	s, _, dir := open(t)
	s.Store(t.Context(), arrival("cap.gcode", part))
	for path, want := range map[string]os.FileMode{dir: 0o700, filepath.Join(dir, ".staging"): 0o700, filepath.Join(dir, "cap.gcode"): 0o600} {
		if info, err := os.Stat(path); err != nil || info.Mode().Perm() != want {
			t.Errorf("%s: %v, %v, want %v", path, info.Mode(), err, want)
		}
	}
}
