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
	"bytes"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"time"

	"diathermon/internal/core/run"
	"diathermon/internal/durable"
)

// SyncEvery is how long an entry may wait to be forced onto the disk. A memory
// card wears with every write.
const SyncEvery = 5 * time.Second

const (
	suffix     = ".journal"
	firstWords = "diathermon journal 1,"
	firstLine  = firstWords + " boot %s, said %012d\n"
	saidDigits = 12
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
	if err := durable.Folder(dir); err != nil {
		return nil, fmt.Errorf("the folder of journals cannot be made: %w", err)
	}
	return &Folder{dir}, nil
}

// A Book is the journal of one run. Its methods are for one goroutine.
type Book struct {
	log  *durable.Log
	said int64 // where the number of lines said is
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
	log, _, err := durable.Open(filepath.Join(f.dir, r.ID+suffix), entries, options)
	if err != nil {
		return nil, fmt.Errorf("the run's journal cannot be written: %w", err)
	}
	head := fmt.Sprintf(firstLine, bootID(), 0)
	b := &Book{log, saidIn(head)}
	if err := errors.Join(log.Append([]byte(head)), b.Note(run.Entry{Kind: run.Begins, At: r.Created, Record: &r})); err != nil {
		log.Remove()
		return nil, fmt.Errorf("the run's journal cannot be written: %w", err)
	}
	return b, nil
}

var options = durable.Options{Block: block, Every: SyncEvery}

// entries are a journal's lines: its first one, and those with a checksum.
var entries = durable.Lines(func(line []byte) bool {
	if bytes.HasPrefix(line, []byte(firstWords)) {
		return true
	}
	_, err := parse(line)
	return err == nil
})

// parse reads the entry of a line with a checksum.
func parse(line []byte) (run.Entry, error) {
	text, whole := durable.Body(line)
	if !whole {
		return run.Entry{}, fmt.Errorf("a damaged line: %.40q", line)
	}
	return run.ParseEntry(text)
}

// saidIn is where in the first line the number of lines said is.
func saidIn(head string) int64 { return int64(len(head) - saidDigits - 1) }

// Note appends an entry. One that the disk does not take is written with the next.
func (b *Book) Note(e run.Entry) error {
	if err := b.log.Append(durable.Line(e.Encode())); err != nil {
		return fmt.Errorf("the run's journal cannot be written on: %w", err)
	}
	return nil
}

// Said notes that all line numbers below next may have been used. Whether the disk
// takes it, the next entry tells.
func (b *Book) Said(next int) {
	var digits [saidDigits]byte
	for i := len(digits) - 1; i >= 0; i-- {
		digits[i] = byte('0' + next%10)
		next /= 10
	}
	b.log.Over(b.said, digits[:])
}

// Close ends the book. A run that is over needs none any more, and nobody waits
// for the disk; one that may be picked up keeps it, safe on disk when Close
// returns.
func (b *Book) Close(keep bool) {
	if keep {
		b.log.Close()
	} else {
		b.log.Remove()
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
	boot, said, head, err := beginning(path)
	if err != nil {
		return nil, nil, err
	}
	log, data, err := durable.Open(path, entries, options)
	if err != nil {
		return nil, nil, err
	}
	life := &run.Life{}
	for line := range bytes.Lines(data[len(head):]) {
		if e, err := parse(line); err == nil {
			life.Tell(e)
		}
	}
	if said = max(said, life.Said()); boot != bootID() {
		said += afterCut
	}
	life.SaidBelow(said)
	return life, &Book{log, saidIn(head)}, nil
}

// beginning reads a journal's first line, and looks whether the second begins a run.
func beginning(path string) (boot string, said int, head string, err error) {
	file, err := os.Open(path)
	if err != nil {
		return "", 0, "", err
	}
	defer file.Close()
	in := bufio.NewReader(file)
	head, err = in.ReadString('\n')
	words := strings.Fields(strings.ReplaceAll(head, ",", ""))
	if err != nil || len(words) != 7 || !strings.HasPrefix(head, firstWords) {
		return "", 0, "", errors.New("it is no journal")
	}
	if said, err = strconv.Atoi(words[6]); err != nil {
		return "", 0, "", errors.New("its first line is damaged")
	}
	line, cut := in.ReadBytes('\n')
	if e, err := parse(line); cut != nil || err != nil || e.Kind != run.Begins || e.Record == nil {
		return "", 0, "", errors.New("its beginning is damaged")
	}
	return words[4], said, head, nil
}

// Keep keeps the recording of a run, and the newest ones of others.
func (f *Folder) Keep(id string, write func(io.Writer) error) error {
	if err := durable.Replace(filepath.Join(f.dir, id+".zip"), write); err != nil {
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
