package shelf

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"slices"
	"strings"

	"diathermon/internal/core/toolpath"
)

// A Change is what a person changes of a stored file; nil is left as it is.
type Change struct {
	Name *string
	Tags []string
}

// Bounds of a file's tags.
const (
	mostTags   = 12
	longestTag = 24 // characters
)

// ErrTag means that a tag cannot be one.
var ErrTag = errors.New("this cannot be a tag")

// Change changes a file's name or its tags and returns it as it is then.
func (s *Shelf) Change(ctx context.Context, name string, c Change) (toolpath.File, error) {
	tags, err := tagged(c.Tags)
	if err != nil {
		return toolpath.File{}, err
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	f, err := s.Known(ctx, name)
	if err != nil {
		return f, err
	}
	changed := f
	if c.Tags != nil {
		changed.Tags = tags
	}
	if c.Name != nil {
		if changed.Name, err = Name(*c.Name); err != nil {
			return f, err
		}
	}
	if changed.Name == f.Name {
		return changed, s.index.PutFile(ctx, changed)
	}
	return changed, s.rename(ctx, f, changed)
}

// rename gives a file another name: for a moment it has both, so that whenever the
// process ends it has one.
func (s *Shelf) rename(ctx context.Context, f, changed toolpath.File) error {
	if s.inUse(f.Name) {
		return fmt.Errorf("%w: %q is being printed and cannot be renamed now", ErrTaken, f.Name)
	}
	switch _, err := s.index.File(ctx, changed.Name); {
	case err == nil:
		return fmt.Errorf("%w: another file called %q is on the shelf", ErrTaken, changed.Name)
	case !errors.Is(err, fs.ErrNotExist):
		return err
	}
	if err := s.staging.finish(f, s.path(f.Name)); err != nil { // what was in doubt
		return disk(err)
	}
	if _, err := os.Lstat(s.path(changed.Name)); err == nil {
		return fmt.Errorf("%w: there is a file called %q in the shelf's folder", ErrTaken, changed.Name)
	}
	if err := s.staging.link(changed, s.path(f.Name)); err != nil {
		return disk(err)
	}
	step("linked")
	if err := s.index.PutFile(ctx, changed); err != nil {
		if known, there := s.knows(changed); known && !there {
			s.staging.forget(changed)
		}
		return err
	}
	step("indexed")
	if err := s.staging.finish(changed, s.path(changed.Name)); err != nil {
		return disk(err)
	}
	step("placed")
	if err := s.index.DeleteFile(ctx, f.Name); err != nil {
		return err
	}
	step("forgotten")
	if err := os.Remove(s.path(f.Name)); err != nil && !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	return nil
}

// tagged returns tags as they are kept: trimmed, each once, in order.
func tagged(tags []string) ([]string, error) {
	out := make([]string, 0, len(tags))
	for _, t := range tags {
		t = strings.Join(strings.Fields(strings.ToValidUTF8(t, "")), " ")
		if n := len([]rune(t)); n == 0 || n > longestTag || strings.ContainsFunc(t, func(r rune) bool { return r < ' ' || r == 0x7f }) {
			return nil, fmt.Errorf("%w: %q; a tag has 1 to %d characters", ErrTag, t, longestTag)
		}
		if !slices.Contains(out, t) {
			out = append(out, t)
		}
	}
	if len(out) > mostTags {
		return nil, fmt.Errorf("%w: there are %d of them, and a file has at most %d", ErrTag, len(out), mostTags)
	}
	slices.Sort(out)
	return out, nil
}
