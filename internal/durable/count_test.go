package durable

import (
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"testing"

	"golang.org/x/sys/unix"
)

func TestACountOutlivesWhoSetIt(t *testing.T) {
	name := fmt.Sprintf("diathermon-test-%d", os.Getpid())
	if _, err := OpenCount(name); !errors.Is(err, os.ErrNotExist) {
		t.Fatalf("one that was never made: %v", err)
	}
	c, err := NewCount(name)
	if err != nil {
		t.Fatal(err)
	}
	defer RemoveCount(name)
	c.Set(1 << 40)
	again, err := OpenCount(name) // by another, while the first is as good as killed
	if err != nil || again.Get() != 1<<40 {
		t.Fatalf("it is %d, %v", again.Get(), err)
	}
	c.Set(7)
	if got := again.Get(); got != 7 {
		t.Errorf("then it is %d", got)
	}
	if c, err = NewCount(name); err != nil || c.Get() != 0 {
		t.Errorf("made anew it is %d, %v", c.Get(), err)
	}
	if err := c.Remove(); err != nil {
		t.Error(err)
	}
	c.Set(3)
	if got := c.Get(); got != 0 {
		t.Errorf("removed it is %d", got)
	}
}

func TestACountIsTakenFromNobodyElse(t *testing.T) {
	for what, put := range map[string]func(path string) error{
		"a link":   func(path string) error { return os.Symlink("/dev/shm/other", path) },
		"a folder": func(path string) error { return os.Mkdir(path, 0o700) },
		"open to all": func(path string) error {
			return errors.Join(os.WriteFile(path, make([]byte, countSize), 0o600), os.Chmod(path, 0o666))
		},
		"too long":  func(path string) error { return os.WriteFile(path, make([]byte, 100), 0o600) },
		"too short": func(path string) error { return os.WriteFile(path, nil, 0o600) },
		"another's": func(path string) error {
			return errors.Join(os.WriteFile(path, make([]byte, countSize), 0o600), os.Chown(path, 12345, 12345))
		},
	} {
		t.Run(what, func(t *testing.T) {
			if what == "another's" && os.Geteuid() != 0 {
				t.Skip("only root can make it")
			}
			name := fmt.Sprintf("diathermon-test-%d", os.Getpid())
			path := filepath.Join(memory, name)
			if err := put(path); err != nil {
				t.Fatal(err)
			}
			defer os.Remove(path)
			if c, err := OpenCount(name); err == nil {
				t.Errorf("it is opened, and is %d", c.Get())
			}
			if what == "too short" { // which is made whole
				return
			}
			if _, err := NewCount(name); err == nil {
				t.Error("it is taken")
			}
		})
	}
	defer func(was string) { memory = was }(memory)
	memory = t.TempDir()
	var on unix.Statfs_t
	if err := unix.Statfs(memory, &on); err != nil {
		t.Fatal(err)
	}
	if _, err := NewCount("diathermon-test"); (err == nil) != (on.Type == unix.TMPFS_MAGIC) {
		t.Errorf("%s, of type %x: %v", memory, on.Type, err)
	}
	memory = "/nowhere"
	if _, err := NewCount("diathermon-test"); err == nil {
		t.Error("where there is no memory it is made")
	}
}
