package shelf

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"sync"
	"syscall"
	"time"

	"diathermon/internal/core/toolpath"
	"diathermon/internal/digest"
)

// Look is what who has a file examined wants to see of it.
type Look struct {
	Stroke   func(*toolpath.Stroke) // each of its strokes; may be nil
	Progress func(bytes int64)      // how far it has been read; may be nil

	opened  *os.FileInfo // becomes what was read; may be nil
	unasked bool         // nobody waits for it, so that it is no time to take a file away
}

// examine reads a file that is already in the folder. Its digest is of the kind of the
// one that is known of it.
func (s *Shelf) examine(ctx context.Context, name, known string, look Look) (toolpath.File, error) {
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
	sum := digest.Like(known)
	counted := &source{r: in, ctx: ctx, told: look.Progress}
	summary, err := s.scan(io.TeeReader(counted, sum), look.Stroke)
	return toolpath.File{Name: name, Size: counted.n.Load(), Digest: sum.String(), Stored: info.ModTime().UTC().Truncate(time.Millisecond), Summary: summary}, err
}

// scan reads a file to its end.
func (s *Shelf) scan(r io.Reader, stroke func(*toolpath.Stroke)) (toolpath.Summary, error) {
	how := *s.how.Load()
	how.Stroke = stroke
	return toolpath.Read(r, how)
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
	known, err := s.index.File(ctx, name)
	if errors.Is(err, fs.ErrNotExist) {
		return known, fmt.Errorf("%w: %q", ErrMissing, name)
	} else if err != nil {
		return known, err
	}
	var read os.FileInfo
	look.opened = &read
	f, err := s.examine(ctx, name, known.Digest, look)
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
	if errors.Is(missing, fs.ErrNotExist) {
		return f, fmt.Errorf("%w: %q left it, or got another name, while it was read", ErrMissing, name)
	} else if missing != nil {
		return f, missing
	}
	if now, gone := os.Stat(s.path(name)); gone != nil || !sameBytes(read, now) {
		return old, fmt.Errorf("%w: %s was changed or replaced while it was read", ErrChanged, name)
	}
	f.Tags = old.Tags
	switch {
	case old.Digest == f.Digest: // as it was stored
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

// Reading is how files are read now.
func (s *Shelf) Reading() toolpath.Options { return *s.how.Load() }

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
