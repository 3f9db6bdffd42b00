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

// A Reader examines a file that is open, as Examine does.
type Reader func(ctx context.Context, in *os.File, known string, how toolpath.Options) (toolpath.File, error)

// Examine reads a file to its end and says what it is: its size, its digest, which is of the
// kind of the one that is known of it, and its facts. Progress is told how many bytes have
// been read, if it is not nil. What is wrong with its content is ErrContent.
func Examine(
	ctx context.Context, in io.Reader, known string, how toolpath.Options, progress func(bytes int64),
) (toolpath.File, error) {
	sum := digest.Like(known)
	counted := &source{r: in, ctx: ctx, told: progress}
	all := io.TeeReader(counted, sum)
	summary, err := toolpath.Read(all, how)
	if err != nil && counted.err == nil { // which file that is, all of it says
		if _, broken := io.Copy(io.Discard, all); broken != nil {
			return toolpath.File{}, broken
		}
		err = content{err}
	}
	return toolpath.File{Size: counted.n.Load(), Digest: sum.String(), Summary: summary}, err
}

// Content is an error of what a file holds, in these words.
func Content(words string) error { return content{errors.New(words)} }

// look examines a file that is already in the folder, by itself or by another reader, and
// returns besides what was opened.
func (s *Shelf) look(
	ctx context.Context, name, known string, by Reader,
) (f toolpath.File, opened os.FileInfo, err error) {
	in, err := os.Open(s.path(name))
	if err != nil {
		return f, nil, err
	}
	defer in.Close()
	if opened, err = in.Stat(); err != nil {
		return f, nil, err
	}
	if how := s.Reading(); by != nil {
		f, err = by(ctx, in, known, how)
	} else {
		f, err = Examine(ctx, in, known, how, nil)
	}
	f.Name, f.Stored = name, opened.ModTime().UTC().Truncate(time.Millisecond)
	return f, opened, err
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
		if f, err = s.renew(ctx, f.Name, nil, false); errors.Is(err, ErrChanged) { // another has come in its place
			f, err = s.Known(ctx, name)
		}
	}
	return f, err
}

// mostTries is how often a file is examined that is replaced again and again meanwhile.
const mostTries = 5

// Survey works out what a file is as that reader says. It takes no file away: one whose
// bytes are being changed by hand is ErrChanged.
func (s *Shelf) Survey(ctx context.Context, name string, by Reader) (toolpath.File, error) {
	return s.renew(ctx, name, by, true)
}

// renew examines a file anew, which has not been before, whose facts are an older
// version's or whose bytes have been changed by hand; by another reader where nobody waits
// for it, so that it is no time to take a file away. Unless it must, it does not where
// somebody else just has. If another file has taken its place meanwhile, the error is
// ErrChanged, and the index is as it was.
func (s *Shelf) renew(ctx context.Context, name string, by Reader, must bool) (toolpath.File, error) {
	if by == nil { // who waits for a file does not wait for one that nobody waits for
		lock, _ := s.renewing.LoadOrStore(name, new(sync.Mutex))
		lock.(*sync.Mutex).Lock()
		defer lock.(*sync.Mutex).Unlock()
	}
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
	f, read, err := s.look(ctx, name, known.Digest, by)
	switch {
	case errors.Is(err, fs.ErrNotExist):
		return f, s.gone(ctx, name)
	case ctx.Err() != nil:
		return f, ctx.Err()
	case err != nil && !errors.Is(err, ErrContent):
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
	case err != nil && by != nil: // somebody may be writing it
		return old, fmt.Errorf("%w: %s is no G-code now: %w", ErrChanged, name, err)
	case err != nil: // as somebody has made it
		return f, errors.Join(fmt.Errorf("%s: %w", name, err), s.index.DeleteFile(ctx, name))
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
		if ctx.Err() == nil && s.touched(f) && !s.matches(ctx, f) {
			s.renew(ctx, f.Name, nil, true)
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
