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
	"bufio"
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"syscall"
	"time"

	"diathermon/internal/core/motion"
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
	ErrChanged = errors.New("the file was changed on the host's disk")
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
	limits   motion.Limits
	mu       sync.Mutex // one file is put in its place, or removed, at a time
	renewal  sync.Mutex // one file is examined anew at a time
	inUse    func(name string) bool
	maxBytes int64
}

// maxBytes is the largest file taken: more than a month of printing.
const maxBytes = 2 << 30

// Open returns the shelf in dir, which is made if need be, and brings the index
// up to date with what is there: what was under way when the process ended is
// brought to its end, files put there by hand are read, files that are gone are
// forgotten.
func Open(ctx context.Context, dir string, index Index) (*Shelf, error) {
	for _, folder := range []string{dir, filepath.Join(dir, stagingName)} {
		if err := durable.Folder(folder); err != nil {
			return nil, err
		}
	}
	s := &Shelf{dir: dir, staging: staging{filepath.Join(dir, stagingName)}, index: index, limits: motion.Ordinary, inUse: func(string) bool { return false }, maxBytes: maxBytes}
	return s, s.reconcile(ctx)
}

// Guard sets the function that tells whether a file is in use and may neither
// be replaced nor removed.
func (s *Shelf) Guard(inUse func(name string) bool) { s.inUse = inUse }

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
		if f, err = s.examine(name); err != nil {
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

// examine reads a file that is already in the folder.
func (s *Shelf) examine(name string) (toolpath.File, error) {
	in, err := os.Open(s.path(name))
	if err != nil {
		return toolpath.File{}, err
	}
	defer in.Close()
	info, err := in.Stat()
	if err != nil {
		return toolpath.File{}, err
	}
	hash := sha256.New()
	counted := &source{r: in}
	summary, err := s.scan(io.TeeReader(counted, hash))
	return toolpath.File{Name: name, Size: counted.n, SHA256: hex.EncodeToString(hash.Sum(nil)), Stored: info.ModTime().UTC().Truncate(time.Millisecond), Summary: summary}, err
}

func (s *Shelf) scan(r io.Reader) (toolpath.Summary, error) {
	in := bufio.NewReaderSize(r, 64<<10)
	head, err := in.Peek(512)
	if err != nil && err != io.EOF {
		return toolpath.Summary{}, err
	}
	if err := toolpath.Sniff(head); err != nil {
		return toolpath.Summary{}, content{err}
	}
	summary, err := toolpath.Scan(in, toolpath.Options{Limits: s.limits})
	return summary, err
}

// content marks an error as one of what a file holds.
type content struct{ error }

func (c content) Is(target error) bool { return target == ErrContent }

// Arrival describes a file that is to be stored.
type Arrival struct {
	Name    string
	Body    io.Reader
	Size    int64  // as announced; -1 if it was not
	SHA256  []byte // as announced; nil if it was not
	Replace bool   // other bytes of the same name may go
}

// Store takes a file in. The file, its outcome and nil are returned when it is
// safely on disk; otherwise the shelf is as it was before.
func (s *Shelf) Store(ctx context.Context, a Arrival) (toolpath.File, Outcome, error) {
	var none toolpath.File
	name, err := Name(a.Name)
	if err != nil {
		return none, "", err
	}
	if a.Size > s.maxBytes {
		return none, "", fmt.Errorf("%w: it has %d bytes, at most %d are taken", ErrLarge, a.Size, s.maxBytes)
	}
	tmp, err := s.staging.create()
	if err != nil {
		return none, "", disk(err)
	}
	defer tmp.drop()
	hash := sha256.New()
	out := bufio.NewWriterSize(tmp.File, 256<<10)
	body := &source{r: io.LimitReader(a.Body, s.maxBytes+1)}
	summary, err := s.scan(io.TeeReader(body, io.MultiWriter(out, hash)))
	switch {
	case body.n > s.maxBytes:
		return none, "", fmt.Errorf("%w: at most %d bytes are taken", ErrLarge, s.maxBytes)
	case body.err != nil, err == nil && a.Size >= 0 && body.n != a.Size:
		return none, "", fmt.Errorf("%w: %d of %s bytes came; send it again", ErrShort, body.n, announced(a.Size))
	case errors.Is(err, ErrContent):
		return none, "", fmt.Errorf("%s: %w", name, err)
	case errors.As(err, new(*fs.PathError)) || errors.Is(err, syscall.ENOSPC):
		return none, "", disk(err)
	case err != nil:
		return none, "", fmt.Errorf("%s: %w", name, content{err})
	}
	sum := hash.Sum(nil)
	if a.SHA256 != nil && !bytes.Equal(a.SHA256, sum) {
		return none, "", fmt.Errorf("%w: its bytes do not match the digest that came with it; send it again", ErrShort)
	}
	if err := errors.Join(out.Flush(), tmp.Sync()); err != nil {
		return none, "", disk(err)
	}
	f := toolpath.File{Name: name, Size: body.n, SHA256: hex.EncodeToString(sum), Stored: time.Now().UTC().Truncate(time.Millisecond), Summary: summary}
	return s.place(ctx, f, tmp, a.Replace)
}

// place puts an arrived file where it belongs: it is staged under its digest, then
// the index is told, which decides, then it takes its name.
func (s *Shelf) place(ctx context.Context, f toolpath.File, tmp *arriving, replace bool) (toolpath.File, Outcome, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	outcome := Created
	old, err := s.index.File(ctx, f.Name)
	switch {
	case errors.Is(err, fs.ErrNotExist):
	case err != nil:
		return toolpath.File{}, "", err
	case old.SHA256 == f.SHA256 && old.Version == f.Version && s.matches(old):
		return old, Same, nil
	case old.SHA256 == f.SHA256: // whose bytes were changed by hand, or read by an older version
	case !replace:
		return toolpath.File{}, "", fmt.Errorf("%w: another file called %q is on the shelf; rename yours or ask to replace it", ErrTaken, f.Name)
	case s.inUse(f.Name):
		return toolpath.File{}, "", fmt.Errorf("%w: %q is being printed and cannot be replaced now", ErrTaken, f.Name)
	default:
		outcome = Replaced
		if err := s.staging.finish(old, s.path(old.Name)); err != nil { // what was in doubt
			return toolpath.File{}, "", disk(err)
		}
	}
	step("arrived")
	if err := s.staging.keep(f, tmp); err != nil {
		return toolpath.File{}, "", disk(err)
	}
	step("staged")
	if err := s.index.PutFile(ctx, f); err != nil {
		if known, there := s.knows(f); !known {
			return toolpath.File{}, "", fmt.Errorf("%s: it is not certain whether it is on the shelf: %w", f.Name, err) // it is decided when the index answers
		} else if !there {
			s.staging.forget(f)
			return toolpath.File{}, "", err
		}
	}
	step("indexed")
	if err := s.staging.finish(f, s.path(f.Name)); err != nil {
		return toolpath.File{}, "", disk(err)
	}
	step("placed")
	return f, outcome, nil
}

// askAgain is how long the index may take to say what has become of a change.
const askAgain = 5 * time.Second

// knows asks the index, after it failed, whether it has a file as it is to be.
func (s *Shelf) knows(f toolpath.File) (known, there bool) {
	ctx, cancel := context.WithTimeout(context.Background(), askAgain)
	defer cancel()
	now, err := s.index.File(ctx, f.Name)
	switch {
	case err == nil:
		return true, now.SHA256 == f.SHA256
	case errors.Is(err, fs.ErrNotExist):
		return true, false
	}
	return false, false
}

// File returns what is known of a file, by this version of the computation.
func (s *Shelf) File(ctx context.Context, name string) (toolpath.File, error) {
	composed, possible := asked(name)
	if !possible {
		return toolpath.File{}, fmt.Errorf("%w: %q", ErrMissing, name)
	}
	f, err := s.index.File(ctx, composed)
	if errors.Is(err, fs.ErrNotExist) {
		return f, fmt.Errorf("%w: %q", ErrMissing, name)
	}
	if err != nil || f.Version == toolpath.Version {
		return f, err
	}
	return s.renew(ctx, composed)
}

// renew examines a file anew, whose facts are an older version's or whose bytes have
// been changed by hand.
func (s *Shelf) renew(ctx context.Context, name string) (toolpath.File, error) {
	s.renewal.Lock()
	defer s.renewal.Unlock()
	f, err := s.examine(name)
	switch {
	case errors.Is(err, fs.ErrNotExist):
		return f, errors.Join(fmt.Errorf("%w: %q", ErrMissing, name), s.index.DeleteFile(ctx, name))
	case err != nil && !errors.As(err, new(*fs.PathError)):
		return f, errors.Join(fmt.Errorf("%s: %w", name, content{err}), s.index.DeleteFile(ctx, name))
	case err != nil:
		return f, err
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	old, err := s.index.File(ctx, name)
	if err != nil {
		return f, err
	}
	if old.SHA256 == f.SHA256 {
		f.Stored = old.Stored
	}
	return f, s.index.PutFile(ctx, f)
}

// Renew examines anew, one after another, the files whose facts an older version has
// computed, or whose bytes were changed on the disk since they were stored.
func (s *Shelf) Renew(ctx context.Context) {
	files, err := s.index.Files(ctx)
	if err != nil {
		return
	}
	for _, f := range files {
		if ctx.Err() == nil && (f.Version != toolpath.Version || s.touched(f) && !s.matches(f)) {
			s.renew(ctx, f.Name)
		}
	}
}

// settled is how long after it was stored the disk may still be at work on a file.
const settled = time.Second

// touched reports whether a file may have been changed since it was stored. The time
// that counts is the file system's own, which no program sets.
func (s *Shelf) touched(f toolpath.File) bool {
	info, err := os.Stat(s.path(f.Name))
	if err != nil {
		return !errors.Is(err, fs.ErrNotExist)
	}
	st, ok := info.Sys().(*syscall.Stat_t)
	return !ok || time.Unix(st.Ctim.Unix()).After(f.Stored.Add(settled))
}

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
	composed, possible := asked(name)
	if !possible {
		return fmt.Errorf("%w: %q", ErrMissing, name)
	}
	f, err := s.index.File(ctx, composed)
	switch {
	case errors.Is(err, fs.ErrNotExist):
		return fmt.Errorf("%w: %q", ErrMissing, name)
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
	return nil
}

// source counts what is read from r and keeps the error that ended it, to tell
// a body that was cut short from a file that is wrong.
type source struct {
	r   io.Reader
	n   int64
	err error
}

func (s *source) Read(p []byte) (int, error) {
	n, err := s.r.Read(p)
	s.n += int64(n)
	if err != nil && err != io.EOF {
		s.err = err
	}
	return n, err
}

func announced(size int64) string {
	if size < 0 {
		return "an unknown number of"
	}
	return fmt.Sprint(size)
}

func disk(err error) error {
	switch {
	case errors.Is(err, syscall.ENOSPC):
		return fmt.Errorf("%w: remove files from the shelf and send it again", ErrFull)
	case errors.Is(err, syscall.ENAMETOOLONG):
		return fmt.Errorf("%w: it is longer than this disk takes", ErrName)
	}
	return err
}
