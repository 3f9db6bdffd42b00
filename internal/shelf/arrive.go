package shelf

import (
	"bytes"
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"sync/atomic"
	"syscall"
	"time"

	"diathermon/internal/core/toolpath"
	"diathermon/internal/digest"
	"diathermon/internal/durable"
)

// Arrival describes a file that is to be stored.
type Arrival struct {
	Name    string
	Body    io.Reader
	Size    int64  // of the whole file, as announced; -1 if it was not
	SHA256  []byte // as announced; nil if it was not
	Replace bool   // other bytes of the same name may go
	Sender  string // what sends it, by name
	Whose   string // the same, whatever it is called: a beginning is nobody else's
	Whole   bool   // it is to be started at once: it is examined on its way, whatever its size
	Offset  int64  // of Body in the file: as much of it is here as a part
	Piece   bool   // Body ends before the file does, and the rest is to follow
}

// Up to how many bytes a file is examined as it arrives; of a larger one only so many are
// judged, so that its sender need not wait: what it is, is worked out when it is safely
// here.
const (
	atOnce = 4 << 20
	judged = 512 << 10
)

// mostFiles is how many lie on the shelf: all of them are listed at a time.
const mostFiles = 4000

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
	if err := durable.Spare(s.dir, a.Size-a.Offset); err != nil {
		return none, "", disk(err)
	}
	key := partKey(a.Whose, name)
	tmp, err := s.staging.create(key, a.Offset)
	if err != nil {
		return none, "", disk(err)
	}
	defer tmp.drop()
	body := &source{r: io.LimitReader(a.Body, s.maxBytes+1-a.Offset)}
	defer s.watch(&Coming{Name: name, Sender: a.Sender, Size: a.Size, Since: time.Now(), offset: a.Offset, body: body})()
	landing := land(io.MultiReader(io.NewSectionReader(tmp.File, 0, a.Offset), body), tmp.File, a.Offset, a.SHA256)
	summary, err := s.arrive(landing, a)
	err = errors.Join(err, landing.end())
	came := a.Offset + body.n.Load()
	switch {
	case came > s.maxBytes:
		return none, "", fmt.Errorf("%w: at most %d bytes are taken", ErrLarge, s.maxBytes)
	case a.Piece && err == nil && body.err == nil && came < a.Size:
		return toolpath.File{Name: name, Size: came}, "", cmp.Or(s.staging.set(tmp, key), ErrMore)
	case body.err != nil && came > 0 && came < a.Size && s.staging.set(tmp, key) == nil:
		return none, "", fmt.Errorf("%w: %d of %d bytes came; they are kept for a day: send the rest, or all of it again", ErrShort, came, a.Size)
	case body.err != nil, err == nil && a.Size >= 0 && came != a.Size:
		return none, "", fmt.Errorf("%w: %d of %s bytes came; send it again", ErrShort, came, announced(a.Size))
	case errors.Is(err, ErrContent):
		return none, "", fmt.Errorf("%s: %w", name, err)
	case errors.As(err, new(*fs.PathError)) || errors.Is(err, syscall.ENOSPC) || errors.Is(err, durable.ErrSpare):
		return none, "", disk(err)
	case err != nil:
		return none, "", fmt.Errorf("%s: %w", name, content{err})
	}
	if !landing.asAnnounced() {
		return none, "", fmt.Errorf("%w: its bytes do not match the digest that came with it; send it again", ErrShort)
	}
	if err := tmp.Sync(); err != nil {
		return none, "", disk(err)
	}
	f := toolpath.File{Name: name, Size: came, Digest: landing.sum.String(), Stored: time.Now().UTC().Truncate(time.Millisecond), Sender: a.Sender, Summary: summary}
	return s.place(ctx, f, tmp, a.Replace)
}

// arrive reads a file on its way and says what it is, as far as that is known when its
// last byte has come.
func (s *Shelf) arrive(in *landing, a Arrival) (toolpath.Summary, error) {
	if a.Whole {
		return toolpath.Read(in, s.Reading())
	}
	var head bytes.Buffer
	if _, err := io.CopyN(&head, in, judged); err != nil && err != io.EOF {
		return toolpath.Summary{}, err
	}
	if a.Size <= atOnce && !a.Piece { // or it has not said
		switch _, err := io.CopyN(&head, in, int64(atOnce-head.Len())); err {
		case io.EOF:
			return toolpath.Read(&head, s.Reading())
		case nil:
		default:
			return toolpath.Summary{}, err
		}
	}
	beginning := head.Bytes()[:min(judged, head.Len())]
	if end := bytes.LastIndexByte(beginning, '\n'); end >= 0 {
		beginning = beginning[:end+1]
	}
	if _, err := toolpath.Read(bytes.NewReader(beginning), s.Reading()); err != nil && !errors.Is(err, toolpath.ErrNoCommands) {
		return toolpath.Summary{}, err
	}
	return toolpath.Summary{}, in.drain()
}

// place puts an arrived file where it belongs: it is staged under its digest, then
// the index is told, which decides, then it takes its name.
func (s *Shelf) place(ctx context.Context, f toolpath.File, tmp *arriving, replace bool) (toolpath.File, Outcome, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	outcome := Created
	old, err := s.index.File(ctx, f.Name)
	f.Tags = old.Tags
	if err == nil && old.Size == f.Size && !digest.Alike(old.Digest, f.Digest) { // stored by an older version
		if f.Digest, err = tmp.again(old.Digest); err != nil {
			return toolpath.File{}, "", disk(err)
		}
	}
	all, unlisted := s.index.Files(ctx)
	switch {
	case unlisted != nil:
		return toolpath.File{}, "", unlisted
	case errors.Is(err, fs.ErrNotExist) && len(all) >= mostFiles:
		return toolpath.File{}, "", fmt.Errorf("%w: %d files lie there; remove some", ErrCrowded, len(all))
	case errors.Is(err, fs.ErrNotExist):
	case err != nil:
		return toolpath.File{}, "", err
	case old.Digest == f.Digest && old.Version == f.Version && s.matches(ctx, old):
		return old, Same, nil
	case old.Digest == f.Digest: // whose bytes were changed by hand, or read by an older version
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
	if twin, ok := s.twin(ctx, f, all); ok && s.staging.link(f, s.path(twin.Name)) == nil { // its bytes are here under another name
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

// twin finds a file of another name, of all that there are, whose bytes on the disk are
// those of f.
func (s *Shelf) twin(ctx context.Context, f toolpath.File, all []toolpath.File) (toolpath.File, bool) {
	for _, other := range all {
		if other.Name != f.Name && other.Digest == f.Digest && s.matches(ctx, other) {
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
		return true, now.Digest == f.Digest
	case errors.Is(err, fs.ErrNotExist):
		return true, false
	}
	return false, false
}

// source counts what is read from r and keeps the error that ended it, to tell
// a body that was cut short from a file that is wrong.
type source struct {
	r    io.Reader
	n    atomic.Int64
	err  error
	ctx  context.Context // that ends it; may be nil
	told func(int64)     // what it has come to; may be nil
}

func (s *source) Read(p []byte) (int, error) {
	if s.ctx != nil && s.ctx.Err() != nil {
		return 0, s.ctx.Err()
	}
	n, err := s.r.Read(p)
	if now := s.n.Add(int64(n)); s.told != nil {
		s.told(now)
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
