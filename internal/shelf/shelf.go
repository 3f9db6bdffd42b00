// Package shelf keeps the stored files: each under its own name in one folder,
// so that a person finds them there too, with what is known of them in an index.
//
// It promises that a file is on the shelf whole or not at all, whatever happens
// while it arrives, and that nothing but G-code gets there. It leaves to the
// host who may print what, and when.
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
	"unicode"
	"unicode/utf8"

	"github.com/google/renameio/v2"
	"golang.org/x/text/unicode/norm"

	"diathermon/internal/core/motion"
	"diathermon/internal/core/toolpath"
)

// Index keeps what is known of the files. File gives an error that
// is fs.ErrNotExist for a name it does not know.
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
)

// Outcome is what storing a file came to.
type Outcome int

// The outcomes of Store.
const (
	Created  Outcome = iota // the name is new
	Same                    // the same bytes were there already
	Replaced                // other bytes were there and are gone
)

// A Shelf is one folder of files.
type Shelf struct {
	dir      string
	index    Index
	limits   motion.Limits
	mu       sync.Mutex // one file is put in its place, or removed, at a time
	inUse    func(name string) bool
	maxBytes int64
}

// maxBytes is the largest file taken: more than a month of printing.
const maxBytes = 2 << 30

// Open returns the shelf in dir, which is made if need be, and brings the index
// up to date with what is there: files put there by hand are read, files that
// are gone are forgotten.
func Open(ctx context.Context, dir string, index Index) (*Shelf, error) {
	if err := os.MkdirAll(dir, 0o755); err != nil {
		return nil, err
	}
	s := &Shelf{dir: dir, index: index, limits: motion.Ordinary, inUse: func(string) bool { return false }, maxBytes: maxBytes}
	return s, s.reconcile(ctx)
}

// Guard sets the function that tells whether a file is in use and may neither
// be replaced nor removed.
func (s *Shelf) Guard(inUse func(name string) bool) { s.inUse = inUse }

func (s *Shelf) reconcile(ctx context.Context) error {
	known, err := s.index.Files(ctx)
	if err != nil {
		return err
	}
	byName := map[string]toolpath.File{}
	for _, f := range known {
		byName[f.Name] = f
	}
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
			os.Remove(filepath.Join(s.dir, name))
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
		if f, err = s.examine(name, info); err != nil {
			continue // not G-code: a person put it there and may take it away
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
func (s *Shelf) examine(name string, info fs.FileInfo) (toolpath.File, error) {
	in, err := os.Open(filepath.Join(s.dir, name))
	if err != nil {
		return toolpath.File{}, err
	}
	defer in.Close()
	hash := sha256.New()
	summary, err := s.scan(io.TeeReader(in, hash))
	return toolpath.File{Name: name, Size: info.Size(), SHA256: hex.EncodeToString(hash.Sum(nil)), Stored: info.ModTime(), Summary: summary}, err
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
	summary, err := toolpath.Scan(in, s.limits)
	return summary, err
}

// content marks an error as one of what a file holds.
type content struct{ error }

func (c content) Is(target error) bool { return target == ErrContent }

const maxName = 180 // characters; with the 255 bytes of common file systems in mind

// Name returns name as it is kept, in composed Unicode, or why it cannot be a
// file's name.
func Name(name string) (string, error) {
	refuse := func(format string, args ...any) (string, error) {
		return "", fmt.Errorf("%w: "+format, append([]any{ErrName}, args...)...)
	}
	if !utf8.ValidString(name) {
		return refuse("it is not valid UTF-8")
	}
	name = norm.NFC.String(name)
	switch n := utf8.RuneCountInString(name); {
	case name == "":
		return refuse("it is empty")
	case n > maxName || len(name) > 240:
		return refuse("it has %d characters (%d bytes); at most %d (240 bytes) are possible", n, len(name), maxName)
	case strings.ContainsAny(name, `/\`):
		return refuse("%q has a slash in it; send the bare name", name)
	case strings.HasPrefix(name, "."):
		return refuse("%q begins with a dot", name)
	case strings.TrimSpace(name) != name:
		return refuse("%q begins or ends with a space", name)
	}
	for _, r := range name {
		if unicode.IsControl(r) || unicode.Is(unicode.Bidi_Control, r) {
			return refuse("%q has the control character %U in it", name, r)
		}
	}
	return name, nil
}

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
		return none, 0, err
	}
	if a.Size > s.maxBytes {
		return none, 0, fmt.Errorf("%w: it has %d bytes, at most %d are taken", ErrLarge, a.Size, s.maxBytes)
	}
	tmp, err := renameio.NewPendingFile(filepath.Join(s.dir, name), renameio.WithTempDir(s.dir), renameio.WithPermissions(0o644))
	if err != nil {
		return none, 0, disk(err)
	}
	defer tmp.Cleanup()
	hash := sha256.New()
	out := bufio.NewWriterSize(tmp, 256<<10)
	body := &source{r: io.LimitReader(a.Body, s.maxBytes+1)}
	summary, err := s.scan(io.TeeReader(body, io.MultiWriter(out, hash)))
	switch {
	case body.n > s.maxBytes:
		return none, 0, fmt.Errorf("%w: at most %d bytes are taken", ErrLarge, s.maxBytes)
	case body.err != nil, err == nil && a.Size >= 0 && body.n != a.Size:
		return none, 0, fmt.Errorf("%w: %d of %s bytes came; send it again", ErrShort, body.n, announced(a.Size))
	case errors.Is(err, ErrContent):
		return none, 0, fmt.Errorf("%s: %w", name, err)
	case errors.As(err, new(*fs.PathError)) || errors.Is(err, syscall.ENOSPC):
		return none, 0, disk(err)
	case err != nil:
		return none, 0, fmt.Errorf("%s: %w", name, content{err})
	}
	sum := hash.Sum(nil)
	if a.SHA256 != nil && !bytes.Equal(a.SHA256, sum) {
		return none, 0, fmt.Errorf("%w: its bytes do not match the digest that came with it; send it again", ErrShort)
	}
	if err := out.Flush(); err != nil {
		return none, 0, disk(err)
	}
	f := toolpath.File{Name: name, Size: body.n, SHA256: hex.EncodeToString(sum), Stored: time.Now().UTC().Truncate(time.Millisecond), Summary: summary}
	return s.place(ctx, f, tmp, a.Replace)
}

// place puts an arrived file where it belongs.
func (s *Shelf) place(ctx context.Context, f toolpath.File, tmp *renameio.PendingFile, replace bool) (toolpath.File, Outcome, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	outcome := Created
	old, err := s.index.File(ctx, f.Name)
	switch {
	case errors.Is(err, fs.ErrNotExist):
	case err != nil:
		return toolpath.File{}, 0, err
	case old.SHA256 == f.SHA256:
		return old, Same, nil
	case !replace:
		return toolpath.File{}, 0, fmt.Errorf("%w: another file called %q is on the shelf; rename yours or ask to replace it", ErrTaken, f.Name)
	case s.inUse(f.Name):
		return toolpath.File{}, 0, fmt.Errorf("%w: %q is being printed and cannot be replaced now", ErrTaken, f.Name)
	default:
		outcome = Replaced
	}
	if err := tmp.CloseAtomicallyReplace(); err != nil {
		return toolpath.File{}, 0, disk(err)
	}
	if err := s.index.PutFile(ctx, f); err != nil {
		return toolpath.File{}, 0, err
	}
	return f, outcome, nil
}

// File returns what is known of a file.
func (s *Shelf) File(ctx context.Context, name string) (toolpath.File, error) {
	f, err := s.index.File(ctx, norm.NFC.String(name))
	if errors.Is(err, fs.ErrNotExist) {
		return f, fmt.Errorf("%w: %q", ErrMissing, name)
	}
	return f, err
}

// Files returns what is known of all files, the newest first.
func (s *Shelf) Files(ctx context.Context) ([]toolpath.File, error) { return s.index.Files(ctx) }

// Read opens a file's bytes.
func (s *Shelf) Read(name string) (*os.File, error) {
	name, err := Name(name)
	if err != nil {
		return nil, err
	}
	f, err := os.Open(filepath.Join(s.dir, name))
	if errors.Is(err, fs.ErrNotExist) {
		return nil, fmt.Errorf("%w: %q", ErrMissing, name)
	}
	return f, err
}

// Remove takes a file off the shelf.
func (s *Shelf) Remove(ctx context.Context, name string) error {
	s.mu.Lock()
	defer s.mu.Unlock()
	f, err := s.File(ctx, name)
	if err != nil {
		return err
	}
	if s.inUse(f.Name) {
		return fmt.Errorf("%w: %q is being printed and cannot be removed now", ErrTaken, f.Name)
	}
	if err := os.Remove(filepath.Join(s.dir, f.Name)); err != nil && !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	return s.index.DeleteFile(ctx, f.Name)
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
	if errors.Is(err, syscall.ENOSPC) {
		return fmt.Errorf("%w: remove files from the shelf and send it again", ErrFull)
	}
	return err
}
