// Package shelf keeps the stored files: each under its own name in one folder,
// so that a person finds them there too, with what is known of them in an index.
//
// It promises that a file is on the shelf whole or not at all, and its bytes and
// what the index knows of them change together or not at all, at whatever point the
// process or the database ends; that nothing but G-code gets there; and that what
// is printed are the bytes whose digest the index has. It leaves to the host who
// may print what, and when.
package shelf

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"sync/atomic"
	"syscall"

	"diathermon/internal/core/toolpath"
	"diathermon/internal/durable"
)

// Index keeps what is known of the files. File gives an error that is
// fs.ErrNotExist for a name it does not know. Files leaves the marks out.
type Index interface {
	PutFile(ctx context.Context, f toolpath.File) error
	File(ctx context.Context, name string) (toolpath.File, error)
	Files(ctx context.Context) ([]toolpath.File, error)
	DeleteFile(ctx context.Context, name string) error
}

// Errors that callers tell apart. Each comes wrapped in a text for the person.
var (
	ErrMissing = errors.New("no such file on the shelf")
	ErrTaken   = errors.New("the name is taken")
	ErrName    = errors.New("this cannot be a file's name")
	ErrContent = errors.New("this is not G-code")
	ErrShort   = errors.New("the file did not arrive whole")
	ErrLarge   = errors.New("the file is too large")
	ErrFull    = errors.New("the disk is full")
	ErrCrowded = errors.New("the shelf is full")
	ErrChanged = errors.New("the file was changed on the host's disk")
	ErrGap     = errors.New("the bytes before these are not here")
	ErrMore    = errors.New("the rest of the file is to follow") // what came is kept, and the File tells how much that is
)

// Outcome is what storing a file came to.
type Outcome string

// The outcomes of Store.
const (
	Created  Outcome = "created"  // the name is new
	Same     Outcome = "same"     // the same bytes were there already
	Replaced Outcome = "replaced" // other bytes were there and are gone
)

// A Shelf is one folder of files.
type Shelf struct {
	dir      string
	staging  staging
	index    Index
	how      atomic.Pointer[toolpath.Options]
	mu       sync.Mutex // one file is put in its place, or removed, at a time
	renewing sync.Map   // name: *sync.Mutex; a file is examined anew by one at a time
	inUse    func(name string) bool
	changed  func()
	coming   sync.Map // *Coming
	maxBytes int64
}

// maxBytes is the largest file taken: more than a month of printing.
const maxBytes = 2 << 30

// Open returns the shelf in dir, which is made if need be, and brings the index
// up to date with what is there: what was under way when the process ended is
// brought to its end, files put there by hand are read, files that are gone are
// forgotten. How is how files are read.
func Open(ctx context.Context, dir string, index Index, how toolpath.Options) (*Shelf, error) {
	for _, folder := range []string{dir, filepath.Join(dir, stagingName)} {
		if err := durable.Folder(folder); err != nil {
			return nil, err
		}
	}
	s := &Shelf{dir: dir, staging: staging{filepath.Join(dir, stagingName)}, index: index, inUse: func(string) bool { return false }, changed: func() {}, maxBytes: maxBytes}
	s.how.Store(&how)
	return s, s.reconcile(ctx)
}

// Guard sets the function that tells whether a file is in use and may neither
// be replaced nor removed.
func (s *Shelf) Guard(inUse func(name string) bool) { s.inUse = inUse }

// Tell sets the function that is called whenever what is on the shelf has changed.
func (s *Shelf) Tell(changed func()) { s.changed = changed }

func (s *Shelf) path(name string) string { return filepath.Join(s.dir, name) }

func (s *Shelf) reconcile(ctx context.Context) error {
	known, err := s.index.Files(ctx)
	if err != nil {
		return err
	}
	byName := map[string]toolpath.File{}
	for _, f := range known {
		byName[f.Name] = f
		if err := s.staging.finish(f, s.path(f.Name)); err != nil {
			return err
		}
	}
	s.staging.clear()
	entries, err := os.ReadDir(s.dir)
	if err != nil {
		return err
	}
	for _, e := range entries {
		info, err := e.Info()
		name := e.Name()
		if err != nil || !info.Mode().IsRegular() {
			continue
		}
		if strings.HasPrefix(name, ".") { // what an interrupted arrival left
			os.Remove(s.path(name))
			continue
		}
		f, ok := byName[name]
		delete(byName, name)
		if ok && f.Size == info.Size() {
			continue
		}
		if _, err := Name(name); err != nil {
			continue
		}
		if f, _, err = s.look(ctx, name, f.Digest, nil); err != nil {
			if !ok {
				continue // not G-code: a person put it there and may take it away
			}
			if err := s.index.DeleteFile(ctx, name); err != nil {
				return err
			}
			continue
		}
		if err := s.index.PutFile(ctx, f); err != nil {
			return err
		}
	}
	for name := range byName {
		if err := s.index.DeleteFile(ctx, name); err != nil {
			return err
		}
	}
	return nil
}

// content marks an error as one of what a file holds.
type content struct{ error }

func (c content) Is(target error) bool { return target == ErrContent }

// Files returns what is known of all files but their marks, the newest first.
func (s *Shelf) Files(ctx context.Context) ([]toolpath.File, error) { return s.index.Files(ctx) }

// Read opens a file's bytes as they are on disk.
func (s *Shelf) Read(name string) (*os.File, error) {
	name, possible := asked(name)
	if !possible {
		return nil, fmt.Errorf("%w: %q", ErrMissing, name)
	}
	f, err := os.Open(s.path(name))
	if errors.Is(err, fs.ErrNotExist) {
		return nil, fmt.Errorf("%w: %q", ErrMissing, name)
	}
	return f, err
}

// Remove takes a file off the shelf.
func (s *Shelf) Remove(ctx context.Context, name string) error {
	s.mu.Lock()
	defer s.mu.Unlock()
	f, err := s.Known(ctx, name)
	switch {
	case err != nil:
		return err
	case s.inUse(f.Name):
		return fmt.Errorf("%w: %q is being printed and cannot be removed now", ErrTaken, f.Name)
	}
	step("found")
	if err := s.staging.withdraw(f, s.path(f.Name)); err != nil {
		return err
	}
	step("withdrawn")
	if err := s.index.DeleteFile(ctx, f.Name); err != nil {
		if known, there := s.knows(f); !known || there {
			return errors.Join(err, s.staging.finish(f, s.path(f.Name)))
		}
	}
	step("forgotten")
	s.staging.forget(f)
	s.changed()
	return nil
}

func disk(err error) error {
	switch {
	case errors.Is(err, durable.ErrSpare):
		return fmt.Errorf("%w: %w; remove files from the shelf and send it again", ErrFull, durable.ErrSpare)
	case errors.Is(err, syscall.ENOSPC):
		return fmt.Errorf("%w: remove files from the shelf and send it again", ErrFull)
	case errors.Is(err, syscall.ENAMETOOLONG):
		return fmt.Errorf("%w: it is longer than this disk takes", ErrName)
	}
	return err
}
