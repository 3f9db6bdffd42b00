// Package folder takes in what is put into a folder on the host's disk, which may be
// shared with others.
//
// A file is taken when nobody writes it any more, and leaves the folder when it is on the
// shelf. If the folder may start, what is put into its folders print and queue begins
// then, or waits in turn. What cannot be taken goes into the folder answers, with a text
// beside it that says why.
//
// It promises that a file is started once at the most, that one that is still being
// written is left alone, and that nothing is followed out of the folder.
package folder

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"log/slog"
	"os"
	"path"
	"sync"
	"syscall"
	"time"

	"golang.org/x/sys/unix"

	"diathermon/internal/core/toolpath"
	"diathermon/internal/doors"
	"diathermon/internal/shelf"
)

// Intake takes files in.
type Intake interface {
	Take(ctx context.Context, a shelf.Arrival, then doors.Then) (doors.Taken, error)
	After(ctx context.Context, f toolpath.File, then doors.Then, sender string) doors.Taken
}

const (
	answers = "answers" // the folder of what was not taken

	lookEvery = 2 * time.Second
	quietFor  = 4 * time.Second  // that a file is left alone before it is taken
	unsureFor = 30 * time.Second // the same where nobody tells whether it is being written
	emptyFor  = time.Hour        // after which an empty file is nobody's

	mostEntries = 5000 // of a folder that are looked at
	mostAnswers = 200
	sender      = "folder"
)

// A Folder is watched.
type Folder struct {
	Path  string
	Start bool // what is in print and queue is started
	In    Intake
	Log   *slog.Logger

	mu    sync.Mutex
	state State
	seen  map[string]*sight // by path
}

// State is how the folder is.
type State struct {
	There bool
	Since time.Time
	Why   string // it is not there
	Taken int    // files, since the host began
	Last  string // what was said last of a file that was not taken
}

// sight is a file as it was when it was looked at last.
type sight struct {
	is      version
	since   time.Time // it has been so
	retry   time.Time // not before then
	settled bool      // it has been answered, and is left alone until it changes
}

// version tells a file's states apart.
type version struct {
	inode   uint64
	size    int64
	changed syscall.Timespec
}

// State tells how the folder is.
func (f *Folder) State() State {
	f.mu.Lock()
	defer f.mu.Unlock()
	return f.state
}

// Work watches until ctx ends. It looks again and again, because of what happens on
// another computer's disk nobody tells.
func (f *Folder) Work(ctx context.Context) {
	every := time.NewTicker(lookEvery)
	defer every.Stop()
	for {
		f.Look(ctx, time.Now())
		select {
		case <-every.C:
		case <-ctx.Done():
			return
		}
	}
}

// Look looks once.
func (f *Folder) Look(ctx context.Context, now time.Time) {
	root, err := os.OpenRoot(f.Path)
	if err != nil {
		f.note(now, err)
		return
	}
	defer root.Close()
	kinds := []doors.Then{doors.Store}
	if f.Start {
		kinds = doors.Thens
	}
	there := map[string]bool{}
	for _, then := range kinds {
		dir := "."
		if then != doors.Store {
			dir = string(then)
			root.Mkdir(dir, 0o777)
		}
		if err := f.lookInto(ctx, root, dir, then, now, there); err != nil {
			f.note(now, err)
			return
		}
	}
	f.note(now, nil)
	for p := range f.seen {
		if !there[p] {
			delete(f.seen, p)
		}
	}
}

// note keeps whether the folder is there, and logs when that changes.
func (f *Folder) note(now time.Time, err error) {
	f.mu.Lock()
	defer f.mu.Unlock()
	why := ""
	if err != nil {
		why = err.Error()
	}
	if first := f.state.Since.IsZero(); first || f.state.There != (err == nil) {
		f.state.There, f.state.Since = err == nil, now
		if err != nil {
			f.Log.Warn("the watched folder cannot be read; files that are put there wait", "folder", f.Path, "error", err)
		} else if !first {
			f.Log.Info("the watched folder is back", "folder", f.Path)
		}
	}
	f.state.Why = why
}

func (f *Folder) lookInto(ctx context.Context, root *os.Root, dir string, then doors.Then, now time.Time, there map[string]bool) error {
	in, err := root.Open(dir)
	if err != nil {
		return err
	}
	entries, err := in.ReadDir(mostEntries)
	in.Close()
	if err != nil && len(entries) == 0 && err != io.EOF {
		return err
	}
	for _, e := range entries {
		p := path.Join(dir, e.Name())
		if ctx.Err() != nil || !e.Type().IsRegular() || doors.Passing(e.Name()) {
			continue
		}
		there[p] = true
		if f.quiet(root, p, then, now) {
			f.take(ctx, root, p, e.Name(), then, now)
		}
	}
	return nil
}

// versionOf is a file's state, and whether the file is one and has no second name.
func versionOf(info fs.FileInfo) (version, bool) {
	st, ok := info.Sys().(*syscall.Stat_t)
	if !ok || !info.Mode().IsRegular() {
		return version{}, false
	}
	return version{st.Ino, st.Size, st.Ctim}, st.Nlink == 1
}

// quiet reports whether a file can be taken now: nobody has changed it for a while, and
// nobody has it open to write.
func (f *Folder) quiet(root *os.Root, p string, then doors.Then, now time.Time) bool {
	info, err := root.Lstat(p)
	if err != nil {
		return false
	}
	is, alone := versionOf(info)
	if !alone {
		return false
	}
	if f.seen == nil {
		f.seen = map[string]*sight{}
	}
	s := f.seen[p]
	if s == nil || s.is != is {
		f.seen[p] = &sight{is: is, since: now}
		return false
	}
	lasted := now.Sub(s.since)
	if s.settled || now.Before(s.retry) || lasted < quietFor || is.size == 0 && lasted < emptyFor {
		return false
	}
	in, err := open(root, p)
	if err != nil {
		return false
	}
	defer in.Close()
	switch err := unwritten(in); {
	case errors.Is(err, unix.EAGAIN): // somebody has
		s.since = now
		return false
	case err != nil: // this disk does not tell
		return lasted >= unsureFor
	}
	return true
}

// open opens a file to be read, and nothing else that has its name by then.
func open(root *os.Root, p string) (*os.File, error) {
	return root.OpenFile(p, os.O_RDONLY|unix.O_NOFOLLOW|unix.O_NONBLOCK, 0)
}

// unwritten fails with EAGAIN while somebody has the file open to write: a lease to read
// cannot be had then (fcntl(2)).
func unwritten(in *os.File) error {
	if _, err := unix.FcntlInt(in.Fd(), unix.F_SETLEASE, unix.F_RDLCK); err != nil {
		return err
	}
	_, err := unix.FcntlInt(in.Fd(), unix.F_SETLEASE, unix.F_UNLCK)
	return err
}

// take takes a file in.
func (f *Folder) take(ctx context.Context, root *os.Root, p, name string, then doors.Then, now time.Time) {
	s := f.seen[p]
	in, err := open(root, p)
	if err != nil {
		return
	}
	defer in.Close()
	same := func() bool {
		info, err := in.Stat()
		if err != nil {
			return false
		}
		is, alone := versionOf(info)
		return alone && is == s.is && !errors.Is(unwritten(in), unix.EAGAIN)
	}
	if !same() {
		return
	}
	t, err := f.In.Take(ctx, shelf.Arrival{Name: name, Body: in, Size: s.is.size, Replace: true, Sender: sender, Whole: then == doors.Print}, doors.Store)
	switch {
	case ctx.Err() != nil:
		return
	case err != nil:
		f.answer(root, p, name, err, now)
		return
	case !same(): // the rest of it comes as another version
		return
	}
	if err := root.Remove(p); err != nil {
		f.settle(p, fmt.Sprintf("%s is on the shelf, and cannot be taken out of the folder: %v. It has not been started: let the host's user write there.", name, errors.Unwrap(err)))
		f.write(root, name, f.State().Last)
		return
	}
	delete(f.seen, p)
	f.mu.Lock()
	f.state.Taken++
	f.mu.Unlock()
	f.Log.Info("a file was taken from the folder", "file", name, "then", then)
	root.Remove(path.Join(answers, name+".txt"))
	switch t = f.In.After(ctx, t.File, then, sender); {
	case t.Not != nil:
		f.write(root, name, fmt.Sprintf("%s is on the shelf, and has not started: %v", name, t.Not))
	case t.Why != nil:
		f.write(root, name, fmt.Sprintf("%s is on the shelf and waits in turn as number %d; it has not started: %v", name, t.Place, t.Why))
	}
}

// retryAfter is how long a file waits that could not be taken for a reason that may pass.
const retryAfter = time.Minute

// answer says why a file was not taken, and puts it out of the way.
func (f *Folder) answer(root *os.Root, p, name string, err error, now time.Time) {
	text := fmt.Sprintf("%s was not taken: %v", name, err)
	lasting := errors.Is(err, shelf.ErrContent) || errors.Is(err, shelf.ErrName) || errors.Is(err, shelf.ErrLarge)
	if !lasting {
		f.seen[p].retry = now.Add(retryAfter)
		f.write(root, name, text+"\nIt is tried again every minute.")
		return
	}
	f.write(root, name, text)
	if f.room(root) {
		if root.Rename(p, path.Join(answers, name)) == nil {
			return
		}
	}
	f.settle(p, text)
}

// settle leaves a file alone until it changes.
func (f *Folder) settle(p, text string) {
	f.seen[p].settled = true
	f.mu.Lock()
	f.state.Last = text
	f.mu.Unlock()
}

// room makes the folder of answers, and reports whether there is room for more.
func (f *Folder) room(root *os.Root) bool {
	root.Mkdir(answers, 0o777)
	in, err := root.Open(answers)
	if err != nil {
		return false
	}
	defer in.Close()
	there, _ := in.ReadDir(mostAnswers + 1)
	return len(there) < mostAnswers
}

// write puts a text beside what is told of.
func (f *Folder) write(root *os.Root, name, text string) {
	f.mu.Lock()
	repeated := f.state.Last == text
	f.state.Last = text
	f.mu.Unlock()
	if !repeated {
		f.Log.Warn("the watched folder", "file", name, "answer", text)
	}
	if !f.room(root) {
		return
	}
	out, err := root.OpenFile(path.Join(answers, name+".txt"), os.O_CREATE|os.O_WRONLY|os.O_TRUNC|unix.O_NOFOLLOW, 0o666)
	if err != nil {
		return
	}
	fmt.Fprintln(out, text)
	out.Close()
}
