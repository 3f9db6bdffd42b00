package durable

import (
	"os"
	"path/filepath"
)

// The modes of what nobody else may read.
const (
	FolderMode = 0o700
	FileMode   = 0o600
)

// Folder makes a folder that nobody else may look into, if it is not there. One that
// is there from before becomes so, with the files in it.
func Folder(path string) error {
	if err := os.MkdirAll(path, FolderMode); err != nil {
		return err
	}
	if err := os.Chmod(path, FolderMode); err != nil {
		return err
	}
	entries, err := os.ReadDir(path)
	if err != nil {
		return err
	}
	for _, e := range entries {
		if info, err := e.Info(); err == nil && info.Mode().IsRegular() && info.Mode().Perm() != FileMode {
			os.Chmod(filepath.Join(path, e.Name()), FileMode) // of another's file it is the folder that keeps others out
		}
	}
	return nil
}
