package shelf

import (
	"bytes"
	"crypto/sha256"
	"hash"
	"io"
	"os"
	"path/filepath"
	"sync/atomic"

	"golang.org/x/sys/unix"

	"diathermon/internal/digest"
	"diathermon/internal/durable"
)

// A landing hands out the bytes of a body and puts them into a file and into its digest.
// It goes by blocks, none of which is copied on its way; while one is written, the next
// one comes.
type landing struct {
	body   io.Reader
	sum    digest.Sum
	wanted []byte    // the SHA-256 that was announced; nil if none was
	sha256 hash.Hash // nil without it
	rest   []byte    // of a block, that was not handed out yet
	err    error     // that ended the body

	free    chan []byte
	filled  chan []byte
	written chan error            // once, at its end
	failed  atomic.Pointer[error] // that the file has met
}

const (
	// blocks is how many may be on their way to the file.
	blocks = 4

	// pushes is after how many bytes the disk is asked to begin writing them, so that
	// it is at work while more come and little is left to wait for at the end.
	pushes = 4 << 20
)

// land begins; end must be called. The first bytes of the body, so many as had come
// before, are in the file already.
func land(body io.Reader, file *os.File, before int64, announced []byte) *landing {
	l := &landing{body: body, sum: digest.New(), wanted: announced, free: make(chan []byte, blocks), filled: make(chan []byte, blocks), written: make(chan error, 1)}
	if announced != nil {
		l.sha256 = sha256.New()
	}
	for range blocks {
		l.free <- make([]byte, blockSize)
	}
	go l.write(file, before)
	return l
}

// write puts the filled blocks into the file. After an error it only takes them.
func (l *landing) write(file *os.File, before int64) {
	var err error
	var at int64
	pushed := before
	for block := range l.filled {
		if err == nil {
			there := min(max(before-at, 0), int64(len(block)))
			if _, err = file.WriteAt(block[there:], at+there); err != nil {
				l.failed.Store(&err)
			}
			at += int64(len(block))
			if at-pushed >= pushes {
				unix.SyncFileRange(int(file.Fd()), pushed, at-pushed, unix.SYNC_FILE_RANGE_WRITE) // to be early: all of it is forced at the end
				pushed = at
				if err = durable.Spare(filepath.Dir(file.Name()), 0); err != nil {
					l.failed.Store(&err)
				}
			}
		}
		l.free <- block[:cap(block)]
	}
	l.written <- err
}

// Read hands out bytes that are on their way to the file.
func (l *landing) Read(p []byte) (int, error) {
	if len(l.rest) == 0 {
		l.next()
	}
	if len(l.rest) == 0 {
		return 0, l.err
	}
	n := copy(p, l.rest)
	l.rest = l.rest[n:]
	return n, nil
}

// drain lets the rest of the body land.
func (l *landing) drain() error {
	for l.err == nil {
		l.next()
	}
	if l.err == io.EOF {
		return nil
	}
	return l.err
}

// next lets a block land. That of before has been handed out by then, so that it does not
// matter if it is the one that is filled now.
func (l *landing) next() {
	if l.err != nil {
		return
	}
	if failed := l.failed.Load(); failed != nil {
		l.err = *failed
		return
	}
	block := <-l.free
	n, err := io.ReadFull(l.body, block)
	if err == io.ErrUnexpectedEOF {
		err = io.EOF // if the body was cut short, its own reader knows
	}
	l.rest, l.err = block[:n], err
	l.sum.Write(l.rest)
	if l.sha256 != nil {
		l.sha256.Write(l.rest)
	}
	l.filled <- l.rest
}

// end waits until the file has all that landed.
func (l *landing) end() error {
	close(l.filled)
	return <-l.written
}

// asAnnounced reports whether what has landed has the digest that was announced, if one
// was.
func (l *landing) asAnnounced() bool {
	return l.sha256 == nil || bytes.Equal(l.sha256.Sum(nil), l.wanted)
}
