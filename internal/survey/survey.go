// Package survey works out in the background what the stored files are, and draws
// them: facts for the shelf's index, and beside it their layers and pictures, kept by
// digest and by the version of the computation.
//
// A file is surveyed once, whatever it is called and however often it is stored. What
// was not done when the process ended is done by the next. One is surveyed at a time, as
// work that nobody waits for.
//
// It leaves to toolpath what a file is, to layers and picture how it is drawn, and to
// shelf where it is kept.
package survey

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
	"time"

	"diathermon/internal/core/machine"
	"diathermon/internal/core/toolpath"
	"diathermon/internal/durable"
	"diathermon/internal/shelf"
)

// Version is that of all that is kept of a file.
var Version = fmt.Sprintf("%d-%d", toolpath.Version, manner)

// Sizes are the pictures that are made of each file, in pixels of a side, the largest
// first.
var Sizes = []int{800, 256, 64}

// Shelf is where files are stored.
type Shelf interface {
	Files(ctx context.Context) ([]toolpath.File, error)
	Fresh(f toolpath.File) bool
	Survey(ctx context.Context, name string, by shelf.Reader) (toolpath.File, error)
}

// ErrNotYet means that a file has not been drawn yet, ErrNothing that there is nothing
// of it to draw.
var (
	ErrNotYet  = errors.New("it has not been drawn yet")
	ErrNothing = errors.New("it lays no plastic, so there is nothing to draw")
)

// A Survey surveys one shelf. Make one with New.
type Survey struct {
	shelf    Shelf
	dir      string
	diameter float64
	sign     sign
	log      *slog.Logger
	kick     chan struct{}

	mu    sync.Mutex
	name  string               // what is surveyed now
	share float64              // of it
	given map[string]time.Time // by digest: what could not be surveyed, and when
}

// New returns a survey for a printer that keeps what it draws below dir.
func New(s Shelf, dir string, printer machine.Printer, log *slog.Logger) (*Survey, error) {
	versions := dir
	dir = filepath.Join(versions, Version)
	for _, folder := range []string{versions, dir} {
		if err := durable.Folder(folder); err != nil {
			return nil, err
		}
	}
	old, err := os.ReadDir(versions)
	if err != nil {
		return nil, err
	}
	for _, e := range old { // other versions' drawings
		if e.Name() != filepath.Base(dir) {
			os.RemoveAll(filepath.Join(versions, e.Name()))
		}
	}
	return &Survey{shelf: s, dir: dir, diameter: printer.Filament, sign: signOf(printer), log: log, kick: make(chan struct{}, 1), given: map[string]time.Time{}}, nil
}

// Look makes the survey look at the shelf again: something has changed there.
func (s *Survey) Look() {
	select {
	case s.kick <- struct{}{}:
	default:
	}
}

// Share is how much of a file has been surveyed, from 0 to 1, and whether it is
// surveyed now.
func (s *Survey) Share(name string) (share float64, now bool) {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.share, s.name == name
}

// lookAgain is how often the shelf is looked at though nobody says that it changed: a
// person may have put a file there.
const lookAgain = time.Minute

// Work surveys until the context ends.
func (s *Survey) Work(ctx context.Context) {
	for ctx.Err() == nil {
		if s.one(ctx) {
			continue
		}
		select {
		case <-ctx.Done():
		case <-s.kick:
		case <-time.After(lookAgain):
		}
	}
}

// one surveys one file, the newest first of those whose facts are not known, then of
// those that are not drawn, and reports whether there was one.
func (s *Survey) one(ctx context.Context) bool {
	files, err := s.shelf.Files(ctx)
	if err != nil {
		return false
	}
	s.tidy(files)
	for _, drawn := range []bool{false, true} {
		for _, f := range files {
			if drawn && (s.drawn(f.Digest) || f.Trouble != "") || !drawn && s.shelf.Fresh(f) {
				continue
			}
			if at, failed := s.failed(f.Digest); failed && time.Since(at) < 10*lookAgain {
				continue
			}
			err := s.survey(ctx, f)
			if errors.Is(err, shelf.ErrChanged) { // another has just taken its place, or somebody writes it
				err = s.survey(ctx, f)
			}
			if err != nil && ctx.Err() == nil {
				s.fail(f.Digest)
				s.log.Warn("a file could not be surveyed", "file", f.Name, "error", err)
			}
			return true
		}
	}
	return false
}

func (s *Survey) failed(digest string) (time.Time, bool) {
	s.mu.Lock()
	defer s.mu.Unlock()
	at, failed := s.given[digest]
	return at, failed
}

func (s *Survey) fail(digest string) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.given[digest] = time.Now()
}

// survey works out what one file is, and draws it.
func (s *Survey) survey(ctx context.Context, f toolpath.File) error {
	s.begin(f.Name)
	defer s.begin("")
	if err := durable.Spare(s.dir, f.Size); err != nil {
		return err
	}
	tmp, err := os.CreateTemp(s.dir, "drawing-")
	if err != nil {
		return err
	}
	defer func() {
		tmp.Close()
		os.Remove(tmp.Name())
	}()
	var got sketched
	by := func(ctx context.Context, in *os.File, known string, how toolpath.Options) (toolpath.File, error) {
		var err error
		got, err = drawing.Work(ctx, sheet{known, how, s.diameter}, []*os.File{in, tmp},
			func(read int64) { s.come(read, f.Size) })
		if err == nil && got.Wrong != "" {
			err = shelf.Content(got.Wrong)
		}
		return got.File, err
	}
	found, err := s.shelf.Survey(ctx, f.Name, by)
	switch {
	case ctx.Err() != nil:
		return ctx.Err()
	case errors.Is(err, shelf.ErrMissing):
		return nil // it has left the shelf
	case err != nil:
		return err
	case found.Trouble != "":
		return nil
	case got.Undrawn != "":
		return errors.New(got.Undrawn)
	}
	for i, picture := range got.Pictures {
		if err := durable.Replace(s.path(found.Digest, fmt.Sprintf("%d.png", Sizes[i])), durable.Bytes(picture)); err != nil {
			return err
		}
	}
	return os.Rename(tmp.Name(), s.path(found.Digest, "layers"))
}

// come notes how far it is.
func (s *Survey) come(n, size int64) {
	s.mu.Lock()
	s.share = min(float64(n)/float64(max(size, 1)), 1)
	s.mu.Unlock()
}

func (s *Survey) begin(name string) {
	s.mu.Lock()
	s.name, s.share = name, 0
	s.mu.Unlock()
}

// path is where something of a file is kept.
func (s *Survey) path(digest, what string) string { return filepath.Join(s.dir, digest+"."+what) }

// drawn reports whether a file has been drawn.
func (s *Survey) drawn(digest string) bool {
	_, err := os.Stat(s.path(digest, "layers"))
	return err == nil
}

// tidy removes what was drawn of files that have left the shelf.
func (s *Survey) tidy(files []toolpath.File) {
	entries, err := os.ReadDir(s.dir)
	if err != nil {
		return
	}
	there := map[string]bool{}
	for _, f := range files {
		there[f.Digest] = true
	}
	for _, e := range entries {
		digest, what, _ := strings.Cut(e.Name(), ".")
		_, sign, signed := strings.Cut(strings.TrimSuffix(what, ".png"), "-")
		if !there[digest] || signed && "-"+sign != s.sign.key() {
			os.Remove(filepath.Join(s.dir, e.Name()))
		}
	}
}

// Picture opens the picture of a file that has so many pixels a side at the least, or
// the largest, with the printer's sign; which it is, is returned.
func (s *Survey) Picture(f toolpath.File, pixels int) (*os.File, string, error) {
	size := Sizes[0]
	for _, has := range Sizes {
		if has >= pixels {
			size = has
		}
	}
	which := fmt.Sprint(size, s.sign.key())
	file, err := s.open(f, which+".png")
	if !errors.Is(err, ErrNotYet) || s.sign.key() == "" {
		return file, which, err
	}
	plain, err := s.open(f, fmt.Sprintf("%d.png", size))
	if err != nil {
		return nil, which, err
	}
	defer plain.Close()
	if err := s.signed(plain, s.path(f.Digest, which+".png")); err != nil {
		return nil, which, err
	}
	file, err = s.open(f, which+".png")
	return file, which, err
}

// Layers opens the layers of a file.
func (s *Survey) Layers(f toolpath.File) (*os.File, error) { return s.open(f, "layers") }

func (s *Survey) open(f toolpath.File, what string) (*os.File, error) {
	if f.Trouble != "" || f.Surveyed() && f.Extent.Empty {
		return nil, ErrNothing
	}
	file, err := os.Open(s.path(f.Digest, what))
	if errors.Is(err, fs.ErrNotExist) {
		return nil, ErrNotYet
	}
	return file, err
}
