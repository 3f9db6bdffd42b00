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
	"sync/atomic"
	"syscall"
	"time"

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
	how      atomic.Pointer[toolpath.Options]
	mu       sync.Mutex // one file is put in its place, or removed, at a time
	renewing sync.Map   // name: *sync.Mutex; a file is examined anew by one at a time
	inUse    func(name string) bool
	changed  func()
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

// ReadWith sets how files are read from now on; those that were read otherwise are no
// longer Fresh.
func (s *Shelf) ReadWith(how toolpath.Options) {
	s.how.Store(&how)
	s.changed()
}

// Fresh reports whether what is known of a file is what reading it now would say.
func (s *Shelf) Fresh(f toolpath.File) bool {
	return f.Surveyed() && (f.Trouble != "" || f.By == s.how.Load().By())
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
		if f, err = s.examine(ctx, name, Look{}); err != nil {
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

// Look is what who has a file examined wants to see of it.
type Look struct {
	Stroke   func(*toolpath.Stroke) // each of its strokes; may be nil
	Progress func(bytes int64)      // how far it has been read; may be nil

	opened  *os.FileInfo // becomes what was read; may be nil
	unasked bool         // nobody waits for it, so that it is no time to take a file away
}

// examine reads a file that is already in the folder.
func (s *Shelf) examine(ctx context.Context, name string, look Look) (toolpath.File, error) {
	in, err := os.Open(s.path(name))
	if err != nil {
		return toolpath.File{}, err
	}
	defer in.Close()
	info, err := in.Stat()
	if err != nil {
		return toolpath.File{}, err
	}
	if look.opened != nil {
		*look.opened = info
	}
	hash := sha256.New()
	counted := &source{r: in, ctx: ctx, told: look.Progress}
	summary, err := s.scan(io.TeeReader(counted, hash), look.Stroke)
	return toolpath.File{Name: name, Size: counted.n, SHA256: hex.EncodeToString(hash.Sum(nil)), Stored: info.ModTime().UTC().Truncate(time.Millisecond), Summary: summary}, err
}

// scan reads a file to its end.
func (s *Shelf) scan(r io.Reader, stroke func(*toolpath.Stroke)) (toolpath.Summary, error) {
	how := *s.how.Load()
	how.Stroke = stroke
	return toolpath.Read(r, how)
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
	Sender  string // what sends it
	Whole   bool   // it is to be started at once: it is examined on its way, whatever its size
}

// atOnce is up to how many bytes a file is examined as it arrives. Of a larger one the
// beginning is, so that its sender need not wait: what it is, is worked out when it is
// safely here.
const atOnce = 4 << 20

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
	summary, err := s.arrive(io.TeeReader(body, io.MultiWriter(out, hash)), a.Whole)
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
	f := toolpath.File{Name: name, Size: body.n, SHA256: hex.EncodeToString(sum), Stored: time.Now().UTC().Truncate(time.Millisecond), Sender: a.Sender, Summary: summary}
	return s.place(ctx, f, tmp, a.Replace)
}

// arrive reads a file on its way and says what it is, as far as that is known when its
// last byte has come.
func (s *Shelf) arrive(in io.Reader, whole bool) (toolpath.Summary, error) {
	if whole {
		return s.scan(in, nil)
	}
	var head bytes.Buffer
	_, err := io.CopyN(&head, in, atOnce)
	if err == io.EOF {
		return s.scan(&head, nil)
	}
	if err != nil {
		return toolpath.Summary{}, err
	}
	lines := head.Bytes()
	lines = lines[:bytes.LastIndexByte(lines, '\n')+1]
	if len(lines) == 0 {
		lines = head.Bytes()
	}
	if _, err := s.scan(bytes.NewReader(lines), nil); err != nil && !errors.Is(err, toolpath.ErrNoCommands) {
		return toolpath.Summary{}, err
	}
	_, err = io.Copy(io.Discard, in)
	return toolpath.Summary{}, err
}

// place puts an arrived file where it belongs: it is staged under its digest, then
// the index is told, which decides, then it takes its name.
func (s *Shelf) place(ctx context.Context, f toolpath.File, tmp *arriving, replace bool) (toolpath.File, Outcome, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	outcome := Created
	old, err := s.index.File(ctx, f.Name)
	f.Tags = old.Tags
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
	if twin, ok := s.twin(ctx, f); ok && s.staging.link(f, s.path(twin.Name)) == nil { // its bytes are here under another name
		if !f.Surveyed() {
			f.Summary = twin.Summary
		}
	} else if err := s.staging.keep(f, tmp); err != nil {
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
	s.changed()
	return f, outcome, nil
}

// twin finds a file of another name whose bytes on the disk are those of f.
func (s *Shelf) twin(ctx context.Context, f toolpath.File) (toolpath.File, bool) {
	files, err := s.index.Files(ctx)
	if err != nil {
		return toolpath.File{}, false
	}
	for _, other := range files {
		if other.Name != f.Name && other.SHA256 == f.SHA256 && s.matches(other) {
			whole, err := s.index.File(ctx, other.Name) // with its marks
			return whole, err == nil
		}
	}
	return toolpath.File{}, false
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

// Known returns what is known of a file now.
func (s *Shelf) Known(ctx context.Context, name string) (toolpath.File, error) {
	composed, possible := asked(name)
	if !possible {
		return toolpath.File{}, fmt.Errorf("%w: %q", ErrMissing, name)
	}
	f, err := s.index.File(ctx, composed)
	if errors.Is(err, fs.ErrNotExist) {
		return f, fmt.Errorf("%w: %q", ErrMissing, name)
	}
	return f, err
}

// File returns what is known of a file, by this version of the computation: where it is
// not known yet, it is worked out.
func (s *Shelf) File(ctx context.Context, name string) (toolpath.File, error) {
	f, err := s.Known(ctx, name)
	for tries := 0; err == nil && !f.Surveyed() && tries < mostTries; tries++ {
		if f, err = s.renew(ctx, f.Name, Look{}, false); errors.Is(err, ErrChanged) { // another has come in its place
			f, err = s.Known(ctx, name)
		}
	}
	return f, err
}

// mostTries is how often a file is examined that is replaced again and again meanwhile.
const mostTries = 5

// Survey works out what a file is, and lets it be looked at. It takes no file away: one
// whose bytes are being changed by hand is ErrChanged.
func (s *Shelf) Survey(ctx context.Context, name string, look Look) (toolpath.File, error) {
	look.unasked = true
	return s.renew(ctx, name, look, true)
}

// renew examines a file anew, which has not been before, whose facts are an older
// version's or whose bytes have been changed by hand. Unless it must, it does not where
// somebody else just has. If another file has taken its place meanwhile, the error is
// ErrChanged, and the index is as it was.
func (s *Shelf) renew(ctx context.Context, name string, look Look, must bool) (toolpath.File, error) {
	lock, _ := s.renewing.LoadOrStore(name, new(sync.Mutex))
	lock.(*sync.Mutex).Lock()
	defer lock.(*sync.Mutex).Unlock()
	if !must {
		if f, err := s.index.File(ctx, name); err == nil && f.Surveyed() {
			return f, nil
		}
	}
	var read os.FileInfo
	look.opened = &read
	f, err := s.examine(ctx, name, look)
	switch {
	case errors.Is(err, fs.ErrNotExist):
		return f, s.gone(ctx, name)
	case ctx.Err() != nil:
		return f, ctx.Err()
	case errors.As(err, new(*fs.PathError)):
		return f, err
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	old, missing := s.index.File(ctx, name)
	if missing != nil {
		return f, missing
	}
	if now, gone := os.Stat(s.path(name)); gone != nil || !sameBytes(read, now) {
		return old, fmt.Errorf("%w: %s was changed or replaced while it was read", ErrChanged, name)
	}
	f.Tags = old.Tags
	switch {
	case old.SHA256 == f.SHA256: // as it was stored
		f.Stored, f.Sender = old.Stored, old.Sender
		if err != nil {
			f.Summary = toolpath.Summary{Version: toolpath.Version, Trouble: err.Error()}
		}
	case err != nil && look.unasked: // somebody may be writing it
		return old, fmt.Errorf("%w: %s is no G-code now: %w", ErrChanged, name, err)
	case err != nil: // as somebody has made it
		return f, errors.Join(fmt.Errorf("%s: %w", name, content{err}), s.index.DeleteFile(ctx, name))
	}
	return f, s.index.PutFile(ctx, f)
}

// sameBytes reports whether a file was left alone between two looks at it.
func sameBytes(before, after os.FileInfo) bool {
	return os.SameFile(before, after) && before.Size() == after.Size() && before.ModTime().Equal(after.ModTime())
}

// gone forgets a file that is not on the disk any more; one that is only just being put
// there is ErrChanged.
func (s *Shelf) gone(ctx context.Context, name string) error {
	s.mu.Lock()
	defer s.mu.Unlock()
	missing := fmt.Errorf("%w: %q", ErrMissing, name)
	f, err := s.index.File(ctx, name)
	if err != nil {
		return missing
	}
	if err := s.staging.finish(f, s.path(name)); err != nil {
		return disk(err)
	}
	if _, err := os.Stat(s.path(name)); err == nil {
		return fmt.Errorf("%w: %s has only just come", ErrChanged, name)
	}
	return errors.Join(missing, s.index.DeleteFile(ctx, name))
}

// Renew examines anew, one after another, the files whose bytes were changed on the disk
// since they were stored.
func (s *Shelf) Renew(ctx context.Context) {
	files, err := s.index.Files(ctx)
	if err != nil {
		return
	}
	for _, f := range files {
		if ctx.Err() == nil && s.touched(f) && !s.matches(f) {
			s.renew(ctx, f.Name, Look{}, true)
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
	s.changed()
	return nil
}

// source counts what is read from r and keeps the error that ended it, to tell
// a body that was cut short from a file that is wrong.
type source struct {
	r    io.Reader
	n    int64
	err  error
	ctx  context.Context // that ends it; may be nil
	told func(int64)     // what it has come to; may be nil
}

func (s *source) Read(p []byte) (int, error) {
	if s.ctx != nil && s.ctx.Err() != nil {
		return 0, s.ctx.Err()
	}
	n, err := s.r.Read(p)
	s.n += int64(n)
	if s.told != nil {
		s.told(s.n)
	}
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
