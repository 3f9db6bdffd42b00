package shelf

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io/fs"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"diathermon/internal/digest"
)

// A part is the beginning of a file whose rest has not come: because it is sent in
// pieces, or was cut off. Whoever sent it may go on from there.

const (
	partPrefix     = "part-"
	mostParts      = 16
	mostPartsOfOne = 4
	partLife       = 24 * time.Hour
)

// A Beginning is what is here of a file.
type Beginning struct {
	Bytes  int64
	Digest string // of them
}

// Begun returns what is here of a file that somebody has begun to send.
func (s *Shelf) Begun(_ context.Context, whose, name string) (Beginning, error) {
	composed, err := Name(name)
	if err != nil {
		return Beginning{}, err
	}
	f, err := os.Open(s.staging.part(partKey(whose, composed)))
	if errors.Is(err, fs.ErrNotExist) {
		return Beginning{}, fmt.Errorf("%w: nothing is here that you have sent of %q", ErrMissing, name)
	}
	if err != nil {
		return Beginning{}, err
	}
	defer f.Close()
	sum, n, err := digest.Again(f, "")
	return Beginning{n, sum}, err
}

// partKey tells the parts of different senders and names apart: the first half is the
// sender's.
func partKey(whose, name string) string {
	by, sum := sha256.Sum256([]byte(whose)), sha256.Sum256([]byte(name))
	return hex.EncodeToString(by[:keyHalf/2]) + hex.EncodeToString(sum[:16])
}

const keyHalf = 16 // letters of a key that are its sender's

func (s staging) part(key string) string { return filepath.Join(s.dir, partPrefix+key) }

// resume makes a file of the first bytes of a part.
func (s staging) resume(a *arriving, key string, offset int64) error {
	if err := os.Rename(s.part(key), a.Name()); errors.Is(err, fs.ErrNotExist) {
		return fmt.Errorf("%w: nothing of it is here; send all of it", ErrGap)
	} else if err != nil {
		return err
	}
	f, err := os.OpenFile(a.Name(), os.O_RDWR, 0)
	if err != nil {
		return err
	}
	a.File.Close()
	a.File = f
	info, err := f.Stat()
	if err != nil {
		return err
	}
	if have := info.Size(); have < offset {
		return errors.Join(fmt.Errorf("%w: %d of them are; go on from byte %d, or send all of it", ErrGap, have, have), s.set(a, key))
	}
	return f.Truncate(offset)
}

// set puts what has come aside as a part.
func (s staging) set(a *arriving, key string) error {
	s.tidy(time.Now())
	if err := a.Sync(); err != nil {
		return disk(err)
	}
	return disk(os.Rename(a.Name(), s.part(key)))
}

// tidy removes parts that nobody has come back for; of one sender's many the oldest, and of
// everybody's the oldest of whoever has most.
func (s staging) tidy(now time.Time) {
	entries, err := os.ReadDir(s.dir)
	if err != nil {
		return
	}
	var parts []fs.FileInfo
	for _, e := range entries {
		if info, err := e.Info(); err == nil && strings.HasPrefix(e.Name(), partPrefix) {
			parts = append(parts, info)
		}
	}
	slices.SortFunc(parts, func(a, b fs.FileInfo) int { return a.ModTime().Compare(b.ModTime()) })
	of := func(p fs.FileInfo) string { return p.Name()[:min(len(partPrefix)+keyHalf, len(p.Name()))] }
	count := map[string]int{}
	for _, p := range parts {
		count[of(p)]++
	}
	most := func() (n int) { return slices.Max(append(slices.Collect(maps.Values(count)), 0)) }
	left := len(parts)
	for _, p := range parts { // the oldest first
		if n := count[of(p)]; now.Sub(p.ModTime()) > partLife || n > mostPartsOfOne || left >= mostParts && n == most() {
			os.Remove(filepath.Join(s.dir, p.Name()))
			count[of(p)]--
			left--
		}
	}
}

// A Coming is a file that is on its way.
type Coming struct {
	Name   string
	Sender string
	Size   int64 // of all of it; -1 if that is not known
	Since  time.Time

	offset int64
	body   *source
}

// Bytes is how many have come.
func (c *Coming) Bytes() int64 { return c.offset + c.body.n.Load() }

// watch lets a file be seen on its way until what it returns is called.
func (s *Shelf) watch(c *Coming) (over func()) {
	s.coming.Store(c, nil)
	return func() { s.coming.Delete(c) }
}

// Coming returns the files that are on their way, the first first.
func (s *Shelf) Coming() []*Coming {
	var out []*Coming
	s.coming.Range(func(c, _ any) bool { out = append(out, c.(*Coming)); return true })
	slices.SortFunc(out, func(a, b *Coming) int { return a.Since.Compare(b.Since) })
	return out
}
