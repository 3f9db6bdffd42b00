package shelf

import (
	"context"
	"errors"
	"fmt"
	"hash/maphash"
	"io"
	"io/fs"
	"os"

	"diathermon/internal/core/toolpath"
	"diathermon/internal/digest"
)

// blockSize is how much of a file is looked at together while it is printed.
const blockSize = 256 << 10

// Open opens a file by its digest, to be printed. All of it is read before anything
// is returned; and what is read then is compared once more, a block at a time, so
// that not a byte is handed out that is not of that digest, whatever becomes of the
// file meanwhile. If the bytes on disk are others, the error is ErrChanged, and the
// index knows what they are.
func (s *Shelf) Open(ctx context.Context, f toolpath.File) (io.ReadCloser, error) {
	v, err := s.open(ctx, f)
	if err == nil {
		return v, nil
	}
	if !errors.Is(err, ErrChanged) {
		return nil, err
	}
	if _, again := s.renew(ctx, f.Name, nil, true); again != nil {
		return nil, fmt.Errorf("%w: %s is not what was stored, and cannot be printed: %w", ErrChanged, f.Name, again)
	}
	return nil, fmt.Errorf("%w: %s is not what was stored; it has been read anew: look at it, then start it again", ErrChanged, f.Name)
}

func (s *Shelf) open(ctx context.Context, f toolpath.File) (*verified, error) {
	s.mu.Lock()
	err := s.staging.finish(f, s.path(f.Name)) // what was in doubt
	s.mu.Unlock()
	if err != nil {
		return nil, disk(err)
	}
	file, err := os.Open(s.path(f.Name))
	if errors.Is(err, fs.ErrNotExist) {
		return nil, fmt.Errorf("%w: %q", ErrMissing, f.Name)
	}
	if err != nil {
		return nil, err
	}
	v := &verified{file: file, name: f.Name, size: f.Size, seed: maphash.MakeSeed(), block: make([]byte, blockSize)}
	if err := v.learn(ctx, f.Digest); err != nil {
		file.Close()
		return nil, err
	}
	return v, nil
}

// matches reports whether a file's bytes on disk are those of its digest; if the context
// ends before that is known, they are not.
func (s *Shelf) matches(ctx context.Context, f toolpath.File) bool {
	file, err := os.Open(s.path(f.Name))
	if err != nil {
		return false
	}
	defer file.Close()
	sum, n, err := digest.Again(&source{r: file, ctx: ctx}, f.Digest)
	return err == nil && n == f.Size && sum == f.Digest
}

// verified reads a file whose digest was right when it was opened, and notices if it
// is changed after that.
type verified struct {
	file  *os.File
	name  string
	size  int64
	seed  maphash.Seed
	sums  []uint64 // of its blocks
	block []byte
	at    int    // the next block
	rest  []byte // of the block before it
}

// learn reads all of the file once.
func (v *verified) learn(ctx context.Context, known string) error {
	sum, total := digest.Like(known), int64(0)
	for {
		n, err := io.ReadFull(v.file, v.block)
		sum.Write(v.block[:n])
		total += int64(n)
		if n > 0 {
			v.sums = append(v.sums, maphash.Bytes(v.seed, v.block[:n]))
		}
		switch {
		case err == io.EOF || err == io.ErrUnexpectedEOF:
			if total != v.size || sum.String() != known {
				return v.changed()
			}
			_, err := v.file.Seek(0, io.SeekStart)
			return err
		case err != nil:
			return err
		case total > v.size:
			return v.changed()
		case ctx.Err() != nil:
			return ctx.Err()
		}
	}
}

func (v *verified) changed() error {
	return fmt.Errorf("%w: %s is not what it was when it was stored", ErrChanged, v.name)
}

// Read hands out bytes of blocks that are what they were.
func (v *verified) Read(p []byte) (int, error) {
	if len(v.rest) == 0 {
		if v.at == len(v.sums) {
			return 0, io.EOF
		}
		want := int(min(blockSize, v.size-int64(v.at)*blockSize))
		n, err := io.ReadFull(v.file, v.block[:want])
		if err != nil && err != io.ErrUnexpectedEOF && err != io.EOF {
			return 0, err
		}
		if n != want || maphash.Bytes(v.seed, v.block[:n]) != v.sums[v.at] {
			return 0, v.changed()
		}
		v.rest = v.block[:n]
		v.at++
	}
	n := copy(p, v.rest)
	v.rest = v.rest[n:]
	return n, nil
}

// Close closes the file.
func (v *verified) Close() error { return v.file.Close() }
