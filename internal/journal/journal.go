// Package journal keeps on disk what it takes to go on with a run that was cut
// off: one append-only file for each run, and the recordings of runs that went
// wrong.
//
// A journal is text. Its first line holds, at a fixed place, how many line
// numbers may have been used; every other line is an entry with a checksum. What is
// written is safe from the end of the process at once and from a power cut after
// SyncEvery.
//
// Before a line is said the number is set in memory that outlives the process, so that
// no line waits for a disk; the first line follows with every entry. Where there is no
// such memory, the first line is written over before a line is said.
package journal

import (
	"bufio"
	"bytes"
	"crypto/sha256"
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
	firstWords = "diathermon journal "
	firstLine  = firstWords + "%d, boot %s, said %012d\n" // the first number is a counting
	saidDigits = 12
	block      = 64 << 10 // bytes by which a journal grows, so that most writes change no file size
	recordings = 20       // kept
	afterCut   = 3000     // lines that may have been said in SyncEvery before a power cut
)

// A counting is where the number of lines said is to be found.
type counting int

const (
	onDisk   counting = 1 // in the first line
	inMemory counting = 2 // in memory; the first line had it when the last entry was made
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
	log   *durable.Log
	said  int64          // where the number of lines said is in the file
	count *durable.Count // what keeps it in memory; nil: nothing does
}

// bootID names this start of the machine.
func bootID() string {
	b, err := os.ReadFile("/proc/sys/kernel/random/boot_id")
	if err != nil {
		return "unknown"
	}
	return strings.TrimSpace(string(b))
}

// countName names the memory in which the lines said of the journal at path are counted.
func countName(path string) string {
	if whole, err := filepath.Abs(path); err == nil {
		path = whole
	}
	return fmt.Sprintf("diathermon-%x", sha256.Sum256([]byte(path)))
}

// Begin makes the journal of a run.
func (f *Folder) Begin(r run.Record) (*Book, error) {
	path := filepath.Join(f.dir, r.ID+suffix)
	log, _, err := durable.Open(path, entries, options)
	if err != nil {
		return nil, fmt.Errorf("the run's journal cannot be written: %w", err)
	}
	how := inMemory
	count, err := durable.NewCount(countName(path))
	if err != nil {
		how = onDisk
	}
	head := fmt.Sprintf(firstLine, how, bootID(), 0)
	b := &Book{log, saidIn(head), count}
	if err := errors.Join(log.Append([]byte(head)), b.Note(run.Entry{Kind: run.Begins, At: r.Created, Record: &r})); err != nil {
		b.Close(false)
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
	if b.count != nil {
		b.write(b.count.Get())
	}
	if err := b.log.Append(durable.Line(e.Encode())); err != nil {
		return fmt.Errorf("the run's journal cannot be written on: %w", err)
	}
	return nil
}

// Said notes that all line numbers below next may have been used. Whether the disk
// takes it, the next entry tells.
func (b *Book) Said(next int) {
	if b.count != nil {
		b.count.Set(next)
		return
	}
	b.write(next)
}

// write writes the number of lines said into the first line.
func (b *Book) write(said int) {
	var digits [saidDigits]byte
	for i := len(digits) - 1; i >= 0; i-- {
		digits[i] = byte('0' + said%10)
		said /= 10
	}
	b.log.Over(b.said, digits[:])
}

// Close ends the book. A run that is over needs none any more, and nobody waits
// for the disk; one that may be picked up keeps it, safe on disk when Close
// returns.
func (b *Book) Close(keep bool) {
	if !keep {
		if b.count != nil {
			b.count.Remove()
		}
		b.log.Remove()
		return
	}
	if b.count != nil {
		b.write(b.count.Get())
		b.count.Close()
	}
	b.log.Close()
}

// Unfinished returns the run that was cut off last and its book to write on in, or nil
// if there is none. Journals that cannot be read are moved out of the way and named in
// the error; that is no reason not to go on.
func (f *Folder) Unfinished() (*run.Life, *Book, error) {
	var unread error
	var life *run.Life
	var book *Book
	for _, path := range slices.Backward(f.journals()) {
		l, b, err := read(path)
		switch {
		case errors.Is(err, fs.ErrNotExist):
		case err != nil:
			os.Rename(path, path+".unread")
			durable.RemoveCount(countName(path))
			unread = errors.Join(unread, fmt.Errorf("%s: %w", filepath.Base(path), err))
		case l.Stage() == run.Over: // Ended tells of it
			b.Close(true)
		case life != nil: // it was given up when a newer one began
			b.Close(false)
		default:
			life, book = l, b
		}
	}
	return life, book, unread
}

// Ended returns the runs that are over, as their journals tell that were left there: the
// records may not have had their end when the host's came. Remove lets them go.
func (f *Folder) Ended() (over []run.Record) {
	for _, path := range f.journals() {
		if life, book, err := read(path); err == nil {
			if book.Close(true); life.Stage() == run.Over {
				over = append(over, life.Record())
			}
		}
	}
	return over
}

// Remove removes the journal of a run that nobody writes on in.
func (f *Folder) Remove(id string) {
	path := filepath.Join(f.dir, id+suffix)
	os.Remove(path)
	durable.RemoveCount(countName(path))
}

// journals are the paths of those that are there, the oldest first: IDs are in the order of
// creation.
func (f *Folder) journals() []string {
	paths, _ := filepath.Glob(filepath.Join(f.dir, "*"+suffix)) // no error but of the pattern
	slices.Sort(paths)
	return paths
}

// read reads a journal up to its end or its first damaged line.
func read(path string) (*run.Life, *Book, error) {
	first, err := beginning(path)
	if err != nil {
		return nil, nil, err
	}
	log, data, err := durable.Open(path, entries, options)
	if err != nil {
		return nil, nil, err
	}
	if len(data) < len(first.text) { // who had it has just let it go
		return nil, nil, fs.ErrNotExist
	}
	life := &run.Life{}
	for line := range bytes.Lines(data[len(first.text):]) {
		if e, err := parse(line); err == nil {
			life.Tell(e)
		}
	}
	said, certain := max(first.said, life.Said()), first.boot == bootID()
	var count *durable.Count
	if first.counting == inMemory {
		if count, err = durable.OpenCount(countName(path)); err == nil {
			said = max(said, count.Get())
		} else { // from now on every line is written, for what was said before is doubtful for good
			certain, count = false, nil
		}
	}
	life.SaidBelow(said)
	if !certain {
		life.SaidMore(afterCut)
	}
	if count != nil {
		count.Set(said)
	}
	return life, &Book{log, saidIn(first.text), count}, nil
}

// A head is a journal's first line.
type head struct {
	text     string
	counting counting
	boot     string // the start of the machine in which it was written
	said     int    // how many line numbers may have been used, as far as it says
}

// beginning reads a journal's first line, and looks whether the second begins a run.
func beginning(path string) (head, error) {
	file, err := os.Open(path)
	if err != nil {
		return head{}, err
	}
	defer file.Close()
	in := bufio.NewReader(file)
	var h head
	h.text, err = in.ReadString('\n')
	words := strings.Fields(strings.ReplaceAll(h.text, ",", ""))
	if err != nil || len(words) != 7 || !strings.HasPrefix(h.text, firstWords) {
		return head{}, errors.New("it is no journal")
	}
	how, unknown := strconv.Atoi(words[2])
	said, damaged := strconv.Atoi(words[6])
	if unknown != nil || damaged != nil || how < int(onDisk) || how > int(inMemory) {
		return head{}, errors.New("its first line is damaged")
	}
	h.counting, h.boot, h.said = counting(how), words[4], said
	line, cut := in.ReadBytes('\n')
	if e, err := parse(line); cut != nil || err != nil || e.Kind != run.Begins || e.Record == nil {
		return head{}, errors.New("its beginning is damaged")
	}
	return h, nil
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
