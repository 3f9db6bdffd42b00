// Package journal keeps on disk what it takes to go on with a run that was cut
// off: one append-only file for each run, and the recordings of runs that went
// wrong.
//
// A journal is text. Its first line holds, at a fixed place, how many line
// numbers may have been used; it is written over before a line is said. Every
// other line is an entry with a checksum. What is written is safe from the end of
// the process at once and from a power cut after SyncEvery.
package journal

import (
	"bufio"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"golang.org/x/sys/unix"

	"diathermon/internal/core/run"
	"diathermon/internal/private"
)

// SyncEvery is how long an entry may wait to be forced onto the disk. A memory
// card wears with every write.
const SyncEvery = 5 * time.Second

const (
	suffix     = ".journal"
	firstLine  = "diathermon journal 1, boot %s, said %012d\n"
	block      = 64 << 10 // bytes by which a journal grows, so that most writes change no file size
	recordings = 20       // kept
	afterCut   = 3000     // lines that may have been said in SyncEvery before a power cut
)

// A Folder holds journals and recordings.
type Folder struct {
	dir string
}

// Open returns the folder at dir, made if need be.
func Open(dir string) (*Folder, error) {
	if err := private.Folder(dir); err != nil {
		return nil, fmt.Errorf("the folder of journals cannot be made: %w", err)
	}
	return &Folder{dir}, nil
}

// A Book is the journal of one run. Its methods are for one goroutine.
type Book struct {
	path   string
	file   *os.File
	boot   string
	at     int64 // where the next entry goes
	room   int64 // bytes the file has
	said   int64 // where the number of lines said is
	failed error

	mu    sync.Mutex
	dirty bool
	quit  chan struct{}
	done  chan struct{}
}

// bootID names this start of the machine.
func bootID() string {
	b, err := os.ReadFile("/proc/sys/kernel/random/boot_id")
	if err != nil {
		return "unknown"
	}
	return strings.TrimSpace(string(b))
}

// Begin makes the journal of a run.
func (f *Folder) Begin(r run.Record) (*Book, error) {
	path := filepath.Join(f.dir, r.ID+suffix)
	file, err := os.OpenFile(path, os.O_RDWR|os.O_CREATE|os.O_TRUNC, private.FileMode)
	if err != nil {
		return nil, fmt.Errorf("the run's journal cannot be written: %w", err)
	}
	b := open(path, file)
	head := fmt.Sprintf(firstLine, b.boot, 0)
	b.said = int64(len(head) - 13)
	if err := b.write([]byte(head)); err == nil {
		b.Note(run.Entry{Kind: run.Begins, At: r.Created, Record: &r})
	}
	if b.failed != nil {
		b.Close(false)
		return nil, b.failed
	}
	return b, nil
}

func open(path string, file *os.File) *Book {
	b := &Book{path: path, file: file, boot: bootID(), quit: make(chan struct{}), done: make(chan struct{})}
	go b.sync()
	return b
}

// write appends bytes and lets the file grow by blocks of zeros.
func (b *Book) write(data []byte) error {
	if b.failed != nil {
		return b.failed
	}
	if b.at+int64(len(data)) > b.room {
		if err := b.grow(); err != nil {
			b.failed = fmt.Errorf("the run's journal cannot be written on: %w", err)
			return b.failed
		}
		b.room += block
	}
	if _, err := b.file.WriteAt(data, b.at); err != nil {
		b.failed = fmt.Errorf("the run's journal cannot be written on: %w", err)
		return b.failed
	}
	b.at += int64(len(data))
	b.mu.Lock()
	b.dirty = true
	b.mu.Unlock()
	return nil
}

// grow makes room at the file's end without writing it: pages that were written in
// one go would be written again as a whole for every byte that changes in them.
func (b *Book) grow() error {
	err := unix.Fallocate(int(b.file.Fd()), 0, b.room, block)
	if errors.Is(err, unix.EOPNOTSUPP) || errors.Is(err, unix.ENOSYS) {
		_, err = b.file.WriteAt(make([]byte, block), b.room)
	}
	return err
}

// Note appends an entry. It reports the first error of the book, then and ever
// after.
func (b *Book) Note(e run.Entry) error { return b.write(e.Line()) }

// Said notes that all line numbers below next may have been used.
func (b *Book) Said(next int) {
	if b.failed == nil {
		var digits [12]byte
		for i := len(digits) - 1; i >= 0; i-- {
			digits[i] = byte('0' + next%10)
			next /= 10
		}
		_, b.failed = b.file.WriteAt(digits[:], b.said)
	}
}

// sync forces what was written onto the disk now and then.
func (b *Book) sync() {
	defer close(b.done)
	defer b.file.Close()
	tick := time.NewTicker(SyncEvery)
	defer tick.Stop()
	for {
		select {
		case <-b.quit:
			b.file.Sync()
			return
		case <-tick.C:
		}
		b.mu.Lock()
		dirty := b.dirty
		b.dirty = false
		b.mu.Unlock()
		if dirty {
			unix.Fdatasync(int(b.file.Fd()))
		}
	}
}

// Close ends the book. A run that is over needs none any more, and nobody waits
// for the disk; one that may be picked up keeps it, safe on disk when Close
// returns.
func (b *Book) Close(keep bool) {
	if !keep {
		os.Remove(b.path)
	}
	close(b.quit)
	if keep {
		<-b.done
	}
}

// Unfinished returns the run that was cut off last and its book to write on in, or nil if there is none. Journals that cannot be read are moved
// out of the way and named in the error; that is no reason not to go on.
func (f *Folder) Unfinished() (*run.Life, *Book, error) {
	paths, err := filepath.Glob(filepath.Join(f.dir, "*"+suffix))
	if err != nil {
		return nil, nil, err
	}
	slices.Sort(paths) // IDs are in the order of creation
	var unread error
	var life *run.Life
	var book *Book
	for i := len(paths) - 1; i >= 0; i-- {
		if life != nil { // older ones were given up when a newer began
			os.Remove(paths[i])
			continue
		}
		life, book, err = read(paths[i])
		if err != nil {
			os.Rename(paths[i], paths[i]+".unread")
			unread = errors.Join(unread, fmt.Errorf("%s: %w", filepath.Base(paths[i]), err))
		}
	}
	return life, book, unread
}

// read reads a journal up to its end or its first damaged line.
func read(path string) (*run.Life, *Book, error) {
	file, err := os.OpenFile(path, os.O_RDWR, 0)
	if err != nil {
		return nil, nil, err
	}
	in := bufio.NewReader(file)
	head, err := in.ReadString('\n')
	words := strings.Fields(strings.ReplaceAll(head, ",", ""))
	if err != nil || len(words) != 7 || words[1] != "journal" || words[2] != "1" {
		file.Close()
		return nil, nil, errors.New("it is no journal")
	}
	boot := words[4]
	said, err := strconv.Atoi(words[6])
	if err != nil {
		file.Close()
		return nil, nil, errors.New("its first line is damaged")
	}
	life := &run.Life{}
	at := int64(len(head))
	for {
		line, err := in.ReadString('\n')
		e, parse := run.ParseEntry(line)
		if err != nil || parse != nil { // zeros, or what a power cut left
			break
		}
		if life.Record().ID == "" && (e.Kind != run.Begins || e.Record == nil) {
			break
		}
		life.Tell(e)
		at += int64(len(line))
	}
	if life.Record().ID == "" {
		file.Close()
		return nil, nil, errors.New("its beginning is damaged")
	}
	info, err := file.Stat()
	if err != nil {
		file.Close()
		return nil, nil, err
	}
	said = max(said, life.Said())
	b := open(path, file)
	if b.boot != boot {
		said += afterCut
	}
	b.at, b.room, b.said = at, info.Size(), int64(len(head)-13)
	// What a damaged tail leaves must not follow the next entry.
	if b.room > b.at {
		if _, err := file.WriteAt(make([]byte, b.room-b.at), b.at); err != nil {
			b.failed = err
		}
	}
	life.SaidBelow(said)
	return life, b, nil
}

// Keep keeps the recording of a run, and the newest ones of others.
func (f *Folder) Keep(id string, write func(io.Writer) error) error {
	path := filepath.Join(f.dir, id+".zip")
	file, err := os.OpenFile(path+".new", os.O_WRONLY|os.O_CREATE|os.O_TRUNC, private.FileMode)
	if err != nil {
		return err
	}
	err = errors.Join(write(file), file.Close())
	if err == nil {
		err = os.Rename(path+".new", path)
	}
	if err != nil {
		os.Remove(path + ".new")
		return err
	}
	kept, err := filepath.Glob(filepath.Join(f.dir, "*.zip"))
	slices.Sort(kept)
	for len(kept) > recordings {
		os.Remove(kept[0])
		kept = kept[1:]
	}
	return err
}

// Recording opens the recording of a run, or fails with fs.ErrNotExist.
func (f *Folder) Recording(id string) (*os.File, error) {
	if strings.ContainsAny(id, "/\\.\x00") {
		return nil, fs.ErrNotExist
	}
	return os.Open(filepath.Join(f.dir, id+".zip"))
}
