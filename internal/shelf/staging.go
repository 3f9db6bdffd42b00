package shelf

import (
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"time"

	"diathermon/internal/core/toolpath"
	"diathermon/internal/digest"
	"diathermon/internal/durable"
)

// staging is where files are on their way: what arrives, and what the index is just
// being told of or told to forget, under its digest. A staged file whose digest the
// index has belongs on the shelf; any other is to go. So it is the index alone that
// decides, whenever the process ends.
type staging struct{ dir string }

const stagingName = ".staging"

// step is called between the steps of a change; tests let the process end there.
var step = func(string) {}

// arriving is a file whose bytes are being written.
type arriving struct{ *os.File }

// create begins a file with the first bytes of the part that was kept under a key,
// which is no part any more.
func (s staging) create(key string, offset int64) (*arriving, error) {
	f, err := os.CreateTemp(s.dir, "arriving-")
	if err != nil {
		return nil, err
	}
	a := &arriving{f}
	if offset == 0 {
		os.Remove(s.part(key))
		return a, nil
	}
	if err := s.resume(a, key, offset); err != nil {
		a.drop()
		return nil, err
	}
	return a, nil
}

// drop closes the file and removes it unless it was kept.
func (a *arriving) drop() {
	a.Close()
	os.Remove(a.Name())
}

// place is where a file of that name and digest is staged.
func (s staging) place(f toolpath.File) string {
	name := sha256.Sum256([]byte(f.Name))
	return filepath.Join(s.dir, f.Digest+"-"+hex.EncodeToString(name[:8]))
}

// again computes the digest of what has arrived, of the kind of one that is known.
func (a *arriving) again(known string) (string, error) {
	if _, err := a.Seek(0, io.SeekStart); err != nil {
		return "", err
	}
	sum, _, err := digest.Again(a, known)
	return sum, err
}

// keep stages what has arrived.
func (s staging) keep(f toolpath.File, a *arriving) error {
	if err := os.Rename(a.Name(), s.place(f)); err != nil {
		return err
	}
	return durable.SyncFolder(s.dir)
}

// link stages bytes that are on the shelf already, without a copy of them.
func (s staging) link(f toolpath.File, path string) error {
	to := s.place(f)
	os.Remove(to)
	if err := os.Link(path, to); err != nil {
		return err
	}
	return durable.SyncFolder(s.dir)
}

// withdraw takes a file off the shelf to be staged. A file that is gone already is
// no error.
func (s staging) withdraw(f toolpath.File, path string) error {
	err := os.Rename(path, s.place(f))
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	return durable.SyncFolder(s.dir)
}

// finish puts a staged file where it belongs, if it is staged.
func (s staging) finish(f toolpath.File, path string) error {
	err := os.Rename(s.place(f), path)
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	if err != nil {
		return err
	}
	return errors.Join(durable.SyncFolder(filepath.Dir(path)), durable.SyncFolder(s.dir))
}

func (s staging) forget(f toolpath.File) { os.Remove(s.place(f)) }

// clear removes whatever is staged but parts, for which somebody may come back.
func (s staging) clear() {
	entries, err := os.ReadDir(s.dir)
	if err != nil {
		return
	}
	for _, e := range entries {
		if !strings.HasPrefix(e.Name(), partPrefix) {
			os.Remove(filepath.Join(s.dir, e.Name()))
		}
	}
	s.tidy(time.Now())
}
