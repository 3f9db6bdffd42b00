package shelf_test

import (
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"syscall"
	"testing"

	"diathermon/internal/shelf"
)

func named(name string) shelf.Change { return shelf.Change{Name: &name} }

// holds fails unless the shelf has the part under exactly one of the names, on disk and
// in the index.
func holds(t *testing.T, what, dir string, m *memory, names ...string) {
	t.Helper()
	there := 0
	for _, name := range names {
		f, known := m.files[name]
		body, err := os.ReadFile(filepath.Join(dir, name))
		if known != (err == nil) || known && (f.Name != name || string(body) != part) {
			t.Errorf("%s: %s is known: %v, on disk: %v %q", what, name, known, err, body)
		}
		if known {
			there++
		}
	}
	if there == 0 {
		t.Errorf("%s: the file is gone", what)
	}
}

func TestAFileIsRenamed(t *testing.T) {
	s, m, dir := open(t)
	s.Store(t.Context(), arrival("cap.gcode", part))
	s.Store(t.Context(), arrival("knob.gcode", other))
	if f, err := s.Change(t.Context(), "cap.gcode", named("lid.gcode")); err != nil || f.Name != "lid.gcode" {
		t.Fatalf("renamed: %+v, %v", f, err)
	}
	holds(t, "renamed", dir, m, "cap.gcode", "lid.gcode")
	if _, still := m.files["cap.gcode"]; still {
		t.Error("it has both names")
	}
	s.Guard(func(name string) bool { return name == "knob.gcode" })
	for what, c := range map[string]struct {
		from, to string
		want     error
	}{
		"taken": {"lid.gcode", "knob.gcode", shelf.ErrTaken}, "printed": {"knob.gcode", "x.gcode", shelf.ErrTaken},
		"nowhere": {"none.gcode", "x.gcode", shelf.ErrMissing}, "out of the folder": {"lid.gcode", "../x.gcode", shelf.ErrName},
	} {
		if _, err := s.Change(t.Context(), c.from, named(c.to)); !errors.Is(err, c.want) {
			t.Errorf("%s: %v", what, err)
		}
	}
	if f, err := s.Change(t.Context(), "lid.gcode", named("lid.gcode")); err != nil || f.Name != "lid.gcode" {
		t.Errorf("to its own name: %v", err)
	}
}

func TestARenamedFileIsThereWhereverTheProcessDies(t *testing.T) {
	for at := 1; ; at++ {
		s, m, dir := open(t)
		s.Store(t.Context(), arrival("cap.gcode", part))
		left := at
		undo := shelf.Between(func(string) {
			if left--; left == 0 {
				panic("killed")
			}
		})
		died := func() (died bool) {
			defer func() { died = recover() != nil }()
			s.Change(t.Context(), "cap.gcode", named("lid.gcode"))
			return false
		}()
		undo()
		if !died {
			if at < 4 {
				t.Errorf("it has %d steps: this test tests nothing", at)
			}
			return
		}
		if _, err := shelf.Open(t.Context(), dir, m, plainly); err != nil {
			t.Fatal(err)
		}
		holds(t, fmt.Sprint("killed at step ", at), dir, m, "cap.gcode", "lid.gcode")
	}
}

func TestTagsAreKeptAndFollowTheFile(t *testing.T) {
	s, m, _ := open(t)
	s.Store(t.Context(), arrival("cap.gcode", part))
	f, err := s.Change(t.Context(), "cap.gcode", shelf.Change{Tags: []string{" dome ", "dome", "a  b"}})
	if err != nil || !slices.Equal(f.Tags, []string{"a b", "dome"}) {
		t.Errorf("tags: %q, %v", f.Tags, err)
	}
	a := arrival("cap.gcode", other)
	a.Replace = true
	if f, _, err := s.Store(t.Context(), a); err != nil || !slices.Equal(f.Tags, []string{"a b", "dome"}) {
		t.Errorf("replaced: %q, %v", f.Tags, err)
	}
	many := strings.Fields("a b c d e f g h i j k l m")
	for _, tags := range [][]string{{""}, {strings.Repeat("x", 25)}, {"\x01"}, many} {
		if _, err := s.Change(t.Context(), "cap.gcode", shelf.Change{Tags: tags}); !errors.Is(err, shelf.ErrTag) {
			t.Errorf("%q: %v", tags, err)
		}
	}
	if s.Change(t.Context(), "cap.gcode", shelf.Change{Tags: []string{}}); len(m.files["cap.gcode"].Tags) != 0 {
		t.Errorf("none: %q", m.files["cap.gcode"].Tags)
	}
}

func TestTheSameBytesAreOnDiskOnce(t *testing.T) {
	s, m, dir := open(t)
	s.Store(t.Context(), arrival("cap.gcode", part))
	f, outcome, err := s.Store(t.Context(), arrival("again.gcode", part))
	if err != nil || outcome != shelf.Created || f.Name != "again.gcode" {
		t.Fatalf("under another name: %+v, %s, %v", f, outcome, err)
	}
	inode := func(name string) uint64 {
		info, err := os.Stat(filepath.Join(dir, name))
		if err != nil {
			t.Fatal(err)
		}
		return info.Sys().(*syscall.Stat_t).Ino
	}
	if inode("cap.gcode") != inode("again.gcode") {
		t.Error("they are on disk twice")
	}
	if d, err := s.Disk(t.Context()); err != nil || d.Used != int64(len(part)) || d.Free <= 0 || d.Total < d.Free {
		t.Errorf("the disk: %+v, %v", d, err)
	}
	if err := s.Remove(t.Context(), "cap.gcode"); err != nil {
		t.Fatal(err)
	}
	holds(t, "the other removed", dir, m, "cap.gcode", "again.gcode")
}
