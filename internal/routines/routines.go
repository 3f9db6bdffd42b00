// Package routines keeps routines: those that come with the host, and those that the keeper
// has written, which stand in place of one that comes with it of the same name.
//
// What is stored is what was understood. A text that a newer host has stored stays as it is
// and is shown with what is wrong with it. It leaves to core/routine what a text means.
package routines

import (
	"embed"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strings"
	"sync"

	"diathermon/internal/core/routine"
	"diathermon/internal/durable"
)

//go:embed ready/*.routine
var ready embed.FS

const extension = ".routine"

// most is how many the keeper may write.
const most = 200

// Errors that callers tell apart.
var (
	ErrMissing = errors.New("there is no such routine")
	ErrReady   = errors.New("this routine comes with the host")
	ErrName    = errors.New("the routine cannot have this name")
	ErrMany    = errors.New("there are too many routines")
)

// An Entry is one routine.
type Entry struct {
	Name  string
	Text  string
	Own   bool             // the keeper has written it
	Ready bool             // one of its name comes with the host
	Read  *routine.Routine // nil where Err says why
	Err   error
}

// Routines are a folder's. Make one with Open.
type Routines struct {
	dir string

	mu      sync.Mutex
	entries map[string]Entry
}

// Open reads a folder, which is made if it is not there.
func Open(dir string) (*Routines, error) {
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return nil, err
	}
	r := &Routines{dir: dir, entries: map[string]Entry{}}
	files, err := ready.ReadDir("ready")
	if err != nil {
		return nil, err
	}
	for _, f := range files {
		r.restore(strings.TrimSuffix(f.Name(), extension))
	}
	own, err := os.ReadDir(dir)
	if err != nil {
		return nil, err
	}
	for _, f := range own {
		name, is := strings.CutSuffix(f.Name(), extension)
		if !is {
			continue
		}
		text, err := os.ReadFile(filepath.Join(dir, f.Name()))
		if err != nil {
			return nil, err
		}
		r.entries[name] = entry(name, string(text), true, r.entries[name].Ready)
	}
	return r, nil
}

// restore puts the one that comes with the host in its place.
func (r *Routines) restore(name string) {
	text, err := ready.ReadFile(path.Join("ready", name+extension))
	if err != nil {
		delete(r.entries, name)
		return
	}
	r.entries[name] = entry(name, string(text), false, true)
}

func entry(name, text string, own, isReady bool) Entry {
	e := Entry{Name: name, Text: text, Own: own, Ready: isReady}
	e.Read, e.Err = routine.Parse(text)
	return e
}

// List returns all of them by name.
func (r *Routines) List() []Entry {
	r.mu.Lock()
	defer r.mu.Unlock()
	var out []Entry
	for _, e := range r.entries {
		out = append(out, e)
	}
	slices.SortFunc(out, func(a, b Entry) int { return strings.Compare(strings.ToLower(a.Name), strings.ToLower(b.Name)) })
	return out
}

// Entry returns one.
func (r *Routines) Entry(name string) (Entry, error) {
	r.mu.Lock()
	defer r.mu.Unlock()
	e, ok := r.entries[name]
	if !ok {
		return e, fmt.Errorf("%w: %q", ErrMissing, name)
	}
	return e, nil
}

// Routine returns one as it was understood: it is a routine.Library.
func (r *Routines) Routine(name string) (*routine.Routine, error) {
	e, err := r.Entry(name)
	if err == nil && e.Err != nil {
		return nil, fmt.Errorf("%s: %w", name, e.Err)
	}
	return e.Read, err
}

// Check says what a text may do on a machine, or what is wrong with it: what it calls is
// what is stored.
func (r *Routines) Check(text string, m routine.Machine) (*routine.Routine, routine.Facts, error) {
	read, err := routine.Parse(text)
	if err != nil {
		return nil, routine.Facts{}, err
	}
	facts, err := read.Check(m, r.Routine)
	return read, facts, err
}

// Store stores a text that is sound on a machine, under the name that it has, and returns
// whether there was one before.
func (r *Routines) Store(name, text string, m routine.Machine) (e Entry, replaced bool, err error) {
	read, _, err := r.Check(text, m)
	if err != nil {
		return e, false, err
	}
	if read.Name != name {
		return e, false, fmt.Errorf("%w: its text names it %q, and it was to be stored as %q", ErrName, read.Name, name)
	}
	r.mu.Lock()
	defer r.mu.Unlock()
	own := 0
	for other, e := range r.entries {
		if e.Own {
			own++
		}
		if other != name && strings.EqualFold(other, name) {
			return e, false, fmt.Errorf("%w: there is %q already", ErrName, other)
		}
	}
	had, replaced := r.entries[name]
	if own >= most && !had.Own {
		return e, false, fmt.Errorf("%w: %d; remove one first", ErrMany, own)
	}
	if err := durable.Replace(r.file(name), durable.Bytes([]byte(text))); err != nil {
		return e, false, err
	}
	e = entry(name, text, true, had.Ready)
	r.entries[name] = e
	return e, replaced, nil
}

// Remove removes what the keeper has written; the one that comes with the host is there
// again.
func (r *Routines) Remove(name string) error {
	r.mu.Lock()
	defer r.mu.Unlock()
	switch e, ok := r.entries[name]; {
	case !ok:
		return fmt.Errorf("%w: %q", ErrMissing, name)
	case !e.Own:
		return fmt.Errorf("%w: %q stays; take its buttons off by storing one of your own in its place", ErrReady, name)
	}
	if err := os.Remove(r.file(name)); err != nil && !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	r.restore(name)
	return nil
}

func (r *Routines) file(name string) string { return filepath.Join(r.dir, name+extension) }
