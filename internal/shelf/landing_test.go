package shelf

import (
	"errors"
	"io/fs"
	"os"
	"testing"
)

// zeros is a body without an end.
type zeros struct{ n int }

func (z *zeros) Read(p []byte) (int, error) { z.n += len(p); clear(p); return len(p), nil }

func TestABodyIsNotReadOnWhenTheDiskTakesNoMore(t *testing.T) {
	full, err := os.OpenFile("/dev/full", os.O_WRONLY, 0)
	if err != nil {
		t.Skip(err)
	}
	defer full.Close()
	body := &zeros{}
	l := land(body, full, 0, nil)
	err = errors.Join(l.drain(), l.end())
	var path *fs.PathError
	if !errors.As(err, &path) || body.n > 3*blocks*blockSize {
		t.Errorf("after %d bytes: %v", body.n, err)
	}
}
