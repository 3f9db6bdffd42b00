// Package durable keeps what must survive the end of the process, of the power, and
// of the room on the disk: files that only grow, and files that are replaced as a
// whole.
//
// It promises of a Log that it reads as the records that were appended, in their
// order, up to some record: at least all those before the last Sync that came back
// without an error, and none of which a byte is missing or spoilt. What the disk does
// not take is kept in memory and written with what follows, so that a full disk that
// is cleared again has cost nothing. Of Replace it promises that the file is what it
// was or what it is to be, whenever the process or the power ends.
//
// Folders and files that it makes are the service's user's alone. It leaves to those who
// write what a record is and how often it is forced onto the disk:
// a memory card wears with every write.
package durable

import (
	"bytes"
	"errors"
	"fmt"
	"hash/crc32"
	"io"
	"os"
	"path/filepath"
	"strconv"
	"sync"
	"sync/atomic"
	"time"

	"golang.org/x/sys/unix"
)

// Whole tells how many bytes the first record of data takes; 0 if it is not whole, or
// is spoilt. data may end in what a power cut left: zeros, or anything.
type Whole func(data []byte) int

// Lines are records that end with a line end and that good accepts.
func Lines(good func(line []byte) bool) Whole {
	return func(data []byte) int {
		end := bytes.IndexByte(data, '\n') + 1
		if end == 0 || !good(data[:end]) {
			return 0
		}
		return end
	}
}

// Line is body as a record of its own: a checksum, a space, body and a line end. No
// line end may be in body.
func Line(body []byte) []byte {
	return fmt.Appendf(nil, "%08x %s\n", crc32.ChecksumIEEE(body), body)
}

// Body returns what a line that Line made holds, and false for any other.
func Body(line []byte) ([]byte, bool) {
	sum, body, ok := bytes.Cut(bytes.TrimSuffix(line, []byte("\n")), []byte(" "))
	want, err := strconv.ParseUint(string(sum), 16, 32)
	return body, ok && err == nil && uint32(want) == crc32.ChecksumIEEE(body)
}

// Options are how a Log is written.
type Options struct {
	Block int64         // bytes by which the file grows, so that most writes change no size; 0: as it comes
	Every time.Duration // how often it is forced onto the disk; 0: when Sync is called
}

// most is how many bytes may wait for a disk that takes none.
const most = 4 << 20

// ErrFull means that the disk has taken nothing for so long that no more is kept for
// it.
var ErrFull = errors.New("the disk takes nothing any more")

// A Log is a file that only grows. Append, Over and Sync are for one goroutine.
type Log struct {
	path    string
	options Options
	file    *os.File // nil until something is written
	at      int64    // where the next record goes
	room    int64    // bytes that the file has
	due     []byte   // what the disk has not taken
	removed bool     // nothing more is written

	fresh atomic.Bool // its name may not be on the disk
	dirty atomic.Bool
	quit  chan struct{}
	done  sync.WaitGroup
}

// New returns a log that is not there yet: its file is made with the first Append.
func New(path string, o Options) *Log { return &Log{path: path, options: o} }

// Open opens the log at path and returns the records it holds, one behind the other.
// What follows the last whole one is cut off. A file that is not there is made with
// the first Append.
func Open(path string, whole Whole, o Options) (*Log, []byte, error) {
	l := New(path, o)
	f, err := sys.open(path, os.O_RDWR)
	if errors.Is(err, os.ErrNotExist) {
		return l, nil, nil
	}
	if err != nil {
		return nil, nil, err
	}
	data, err := io.ReadAll(f)
	for err == nil && l.at < int64(len(data)) {
		n := whole(data[l.at:])
		if n == 0 {
			break
		}
		l.at += int64(n)
	}
	if err == nil && l.at < int64(len(data)) {
		err = sys.truncate(f, l.at)
	}
	if err != nil {
		f.Close()
		return nil, nil, err
	}
	l.room = l.at
	l.begin(f)
	return l, data[:l.at], nil
}

// begin takes the file, and forces it onto the disk now and then.
func (l *Log) begin(f *os.File) {
	l.file, l.quit = f, make(chan struct{})
	if l.options.Every == 0 {
		return
	}
	l.done.Go(func() {
		tick := time.NewTicker(l.options.Every)
		defer tick.Stop()
		for {
			select {
			case <-l.quit:
				return
			case <-tick.C:
				l.force(f) // what fails is tried again
			}
		}
	})
}

// Append puts records at the file's end. After an error what was appended is written
// by the next Append or Sync that the disk takes, in its place.
func (l *Log) Append(records []byte) error {
	if l.removed {
		return nil
	}
	if len(l.due)+len(records) > most {
		return fmt.Errorf("%w: %s", ErrFull, l.path)
	}
	l.due = append(l.due, records...)
	return l.write()
}

// write brings what is due to the file.
func (l *Log) write() error {
	if len(l.due) == 0 {
		return nil
	}
	if l.file == nil {
		f, err := sys.open(l.path, os.O_RDWR|os.O_CREATE)
		if err != nil {
			return err
		}
		l.fresh.Store(true)
		l.begin(f)
	}
	end := l.at + int64(len(l.due))
	for l.options.Block > 0 && end > l.room {
		if err := sys.allocate(l.file, l.room, l.options.Block); err != nil {
			return err
		}
		l.room += l.options.Block
	}
	if err := sys.writeAt(l.file, l.due, l.at); err != nil {
		return err
	}
	l.at, l.due = end, l.due[:0]
	l.dirty.Store(true)
	return nil
}

// Over writes over bytes of a record that was appended, whose length stays: what is
// so small that a disk writes it in one go.
func (l *Log) Over(at int64, b []byte) error {
	if err := l.write(); err != nil {
		return err
	}
	if at+int64(len(b)) > l.at {
		return fmt.Errorf("%s: there is no record at %d", l.path, at)
	}
	return sys.writeAt(l.file, b, at)
}

// Sync returns when everything appended is on the disk.
func (l *Log) Sync() error {
	if err := l.write(); err != nil {
		return err
	}
	if l.file == nil {
		return nil
	}
	return l.force(l.file)
}

// force forces what was written onto the disk.
func (l *Log) force(f *os.File) error {
	if !l.dirty.Swap(false) {
		return nil
	}
	err := sys.sync(f)
	if err == nil && l.fresh.Load() {
		if err = SyncFolder(filepath.Dir(l.path)); err == nil {
			l.fresh.Store(false)
		}
	}
	if err != nil {
		l.dirty.Store(true)
	}
	return err
}

// Close ends the log, and returns when it is on the disk.
func (l *Log) Close() error {
	if l.file == nil {
		return l.write() // nothing was ever taken
	}
	close(l.quit)
	l.done.Wait()
	return errors.Join(l.Sync(), l.file.Close())
}

// Remove ends the log, of which nobody needs anything any more, nor what is appended
// after that. Nobody waits for the disk.
func (l *Log) Remove() error {
	err := sys.remove(l.path)
	if errors.Is(err, os.ErrNotExist) {
		err = nil
	}
	l.due, l.removed = nil, true
	if l.file != nil {
		close(l.quit)
		go func(f *os.File) {
			l.done.Wait()
			f.Close()
		}(l.file)
		l.file = nil
	}
	return err
}

// Replace makes the file at path what write writes.
func Replace(path string, write func(io.Writer) error) (err error) {
	next := path + ".new"
	f, err := sys.open(next, os.O_WRONLY|os.O_CREATE|os.O_TRUNC)
	if err != nil {
		return err
	}
	err = errors.Join(write(writer{f}), sys.sync(f), f.Close())
	if err == nil {
		err = sys.rename(next, path)
	}
	if err != nil {
		return errors.Join(err, sys.remove(next))
	}
	return SyncFolder(filepath.Dir(path))
}

// writer writes to a file one behind the other.
type writer struct{ f *os.File }

func (w writer) Write(b []byte) (int, error) { return sys.write(w.f, b) }

// Bytes writes b, for Replace.
func Bytes(b []byte) func(io.Writer) error {
	return func(w io.Writer) error {
		_, err := w.Write(b)
		return err
	}
}

// SyncFolder forces a folder's names onto the disk.
func SyncFolder(path string) error {
	f, err := sys.open(path, os.O_RDONLY)
	if err != nil {
		return err
	}
	defer f.Close()
	return sys.sync(f)
}

// disk is every call that may fail.
type disk interface {
	open(path string, flag int) (*os.File, error)
	write(f *os.File, b []byte) (int, error)
	writeAt(f *os.File, b []byte, at int64) error
	truncate(f *os.File, size int64) error
	allocate(f *os.File, from, n int64) error
	sync(f *os.File) error
	rename(from, to string) error
	remove(path string) error
}

var sys disk = system{}

type system struct{}

func (system) open(path string, flag int) (*os.File, error) {
	return os.OpenFile(path, flag, FileMode)
}

func (system) write(f *os.File, b []byte) (int, error) { return f.Write(b) }

func (system) writeAt(f *os.File, b []byte, at int64) error {
	_, err := f.WriteAt(b, at)
	return err
}

func (system) truncate(f *os.File, size int64) error { return f.Truncate(size) }

// allocate makes room at the file's end without writing it: pages that were written in
// one go would be written again as a whole for every byte that changes in them.
func (system) allocate(f *os.File, from, n int64) error {
	err := fallocate(f, from, n)
	if errors.Is(err, unix.EOPNOTSUPP) || errors.Is(err, unix.ENOSYS) {
		_, err = f.WriteAt(make([]byte, n), from)
	}
	return err
}

// fallocate makes room in a file, whatever signals come meanwhile.
func fallocate(f *os.File, from, n int64) (err error) {
	for err = unix.EINTR; err == unix.EINTR; {
		err = unix.Fallocate(int(f.Fd()), 0, from, n)
	}
	return err
}

func (system) sync(f *os.File) error { return f.Sync() }

func (system) rename(from, to string) error { return os.Rename(from, to) }

func (system) remove(path string) error { return os.Remove(path) }
