package durable_test

import (
	"os"
	"path/filepath"
	"testing"

	"diathermon/internal/durable"
)

func TestWhatWasOpenBecomesPrivate(t *testing.T) {
	dir := filepath.Join(t.TempDir(), "a", "b")
	os.MkdirAll(dir, 0o755)
	os.WriteFile(filepath.Join(dir, "old"), nil, 0o644)
	os.Symlink("/etc/hostname", filepath.Join(dir, "link"))
	if err := durable.Folder(dir); err != nil {
		t.Fatal(err)
	}
	for path, want := range map[string]os.FileMode{dir: 0o700, filepath.Join(dir, "old"): 0o600} {
		if info, err := os.Stat(path); err != nil || info.Mode().Perm() != want {
			t.Errorf("%s: %v, %v", path, info.Mode(), err)
		}
	}
	if info, _ := os.Stat("/etc/hostname"); info != nil && info.Mode().Perm() == 0o600 {
		t.Error("a link was followed")
	}
	if err := durable.Folder(filepath.Join(dir, "old", "x")); err == nil {
		t.Error("a folder in a file")
	}
}
