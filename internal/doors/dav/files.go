package dav

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"strings"
	"sync"
	"time"

	"golang.org/x/net/webdav"
	"golang.org/x/text/unicode/norm"

	"diathermon/internal/api"
	"diathermon/internal/core/access"
	"diathermon/internal/core/toolpath"
	"diathermon/internal/doors"
	"diathermon/internal/durable"
	"diathermon/internal/shelf"
)

// Shelf is where the files are that are seen at the top of the folder.
type Shelf interface {
	Files(ctx context.Context) ([]toolpath.File, error)
	Known(ctx context.Context, name string) (toolpath.File, error)
	Read(name string) (*os.File, error)
	Change(ctx context.Context, name string, c shelf.Change) (toolpath.File, error)
	Remove(ctx context.Context, name string) error
}

// Intake takes files in.
type Intake interface {
	Take(ctx context.Context, a shelf.Arrival, then doors.Then) (doors.Taken, error)
}

const (
	mostAside    = 4 << 30 // bytes that are kept aside
	largestAside = 2 << 30 // of one file
	mostNames    = 5000    // files and folders that are
	leftBehind   = 24 * time.Hour
)

// files is what the protocol sees: the shelf, and what is kept aside.
type files struct {
	shelf  Shelf
	intake Intake
	aside  *os.Root
	dead   *dead
	locks  *locks

	mu   sync.Mutex
	sent map[string]bool // paths in print and queue whose files went to the shelf
}

func open(dir string, s Shelf, in Intake) (*files, error) {
	for _, folder := range []string{dir, filepath.Join(dir, string(doors.Print)), filepath.Join(dir, string(doors.Queue))} {
		if err := durable.Folder(folder); err != nil {
			return nil, err
		}
	}
	aside, err := os.OpenRoot(dir)
	if err != nil {
		return nil, err
	}
	dead, err := openDead(dir + ".properties")
	return &files{shelf: s, intake: in, aside: aside, dead: dead, locks: &locks{}, sent: map[string]bool{}}, err
}

// local is a cleaned path as the root that is kept aside wants it.
func local(p string) string {
	if p == "/" {
		return "."
	}
	return strings.TrimPrefix(p, "/")
}

// clean is a path as it is used here: from the root, in composed Unicode.
func clean(p string) string { return norm.NFC.String(path.Clean("/" + p)) }

// onShelf returns the file of the shelf that is seen at a path, if there is one.
func (f *files) onShelf(ctx context.Context, p string) (toolpath.File, bool, error) {
	at := placed(p)
	f.mu.Lock()
	seen := at.dir == "/" || f.sent[p]
	f.mu.Unlock()
	if !at.door || !seen {
		return toolpath.File{}, false, nil
	}
	file, err := f.shelf.Known(ctx, at.name)
	if errors.Is(err, shelf.ErrMissing) {
		return file, false, nil
	}
	return file, err == nil, err
}

// Stat says what is at a path.
func (f *files) Stat(ctx context.Context, name string) (os.FileInfo, error) {
	p := clean(name)
	file, there, err := f.onShelf(ctx, p)
	switch {
	case err != nil:
		return nil, callOf(ctx).fail(err)
	case there:
		return stored{file}, nil
	}
	info, err := f.aside.Stat(local(p))
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return nil, fs.ErrNotExist // a name that no disk takes is at least not there
	}
	if err != nil {
		return nil, err
	}
	return aside{info}, nil
}

// Mkdir makes a folder of somebody's own.
func (f *files) Mkdir(ctx context.Context, name string, _ os.FileMode) error {
	p := clean(name)
	c := callOf(ctx)
	if _, there, err := f.onShelf(ctx, p); err != nil {
		return c.fail(err)
	} else if there {
		return fs.ErrExist
	}
	if dir := path.Dir(p); dir != "/" && fixed(dir) {
		return c.fail(&api.Problem{Status: 403, Title: "this folder takes files alone", Detail: "make your folder beside it"})
	}
	if err := f.room(); err != nil {
		return c.fail(err)
	}
	if there, err := f.aside.Stat(local(p)); c.method == "COPY" && err == nil && !there.IsDir() {
		f.aside.Remove(local(p)) // the folder takes its place
	}
	return f.aside.Mkdir(local(p), durable.FolderMode)
}

// OpenFile opens what is at a path. What is opened to be written arrives by its ReadFrom.
func (f *files) OpenFile(ctx context.Context, name string, flag int, _ os.FileMode) (webdav.File, error) {
	p := clean(name)
	c := callOf(ctx)
	file, there, err := f.onShelf(ctx, p)
	if err != nil {
		return nil, c.fail(err)
	}
	if flag&(os.O_WRONLY|os.O_RDWR) == 0 {
		if there {
			body, err := f.shelf.Read(file.Name)
			if err != nil {
				return nil, c.fail(err)
			}
			return &opened{File: body, files: f, ctx: ctx, path: p, info: stored{file}}, nil
		}
		body, err := f.aside.Open(local(p))
		if err != nil {
			return nil, err
		}
		info, err := body.Stat()
		return &opened{File: body, files: f, ctx: ctx, path: p, info: aside{info}}, err
	}
	if flag&os.O_CREATE == 0 { // properties of it are changed
		info, err := f.Stat(ctx, name)
		return &opened{files: f, ctx: ctx, path: p, info: info}, err
	}
	if fixed(p) {
		return nil, fs.ErrExist
	}
	if up, err := f.aside.Stat(local(path.Dir(p))); err != nil || !up.IsDir() {
		return nil, fs.ErrNotExist
	}
	if info, err := f.aside.Stat(local(p)); err == nil && info.IsDir() {
		return nil, c.fail(&api.Problem{Status: 405, Title: "a folder of that name is there", Detail: "choose another name, or put it into the folder"})
	}
	a := &arriving{opened: opened{files: f, ctx: ctx, path: p}}
	if c.method == "LOCK" || c.size == 0 && c.method != "COPY" { // a place is held
		if there {
			a.info = stored{file}
			return a, nil
		}
		return a, a.hold(nil)
	}
	return a, nil
}

// entries is how many files and folders are listed of a folder at the most.
func (f *files) entries(ctx context.Context, p string) int {
	shelved, _ := f.shelf.Files(ctx)
	n := len(shelved)
	if dir, err := f.aside.Open(local(p)); err == nil {
		defer dir.Close()
		names, _ := dir.Readdirnames(-1)
		n += len(names)
	}
	return n
}

// room is the problem with keeping one more aside, if there is one.
func (f *files) room() error {
	names, bytes := 0, int64(0)
	err := fs.WalkDir(f.aside.FS(), ".", func(_ string, d fs.DirEntry, err error) error {
		if info, gone := d.Info(); err == nil && gone == nil && info.Mode().IsRegular() {
			bytes += info.Size()
		}
		if names++; names > mostNames || bytes > mostAside {
			return &api.Problem{Status: 507, Title: "too much is kept aside in the folder", Detail: fmt.Sprintf("at most %d files and folders of your own, and %d bytes in them, are possible beside those of the shelf: remove some", mostNames, int64(mostAside))}
		}
		return nil
	})
	return err
}

// RemoveAll removes what is at a path and below it.
func (f *files) RemoveAll(ctx context.Context, name string) error {
	p := clean(name)
	c := callOf(ctx)
	file, there, err := f.onShelf(ctx, p)
	switch {
	case err != nil:
		return c.fail(err)
	case fixed(p):
		return c.fail(&api.Problem{Status: 403, Title: "this folder is always there", Detail: "remove what is in it"})
	case there && (c.method == "MOVE" || c.method == "COPY"): // what comes in its place replaces it, if it is taken
		return nil
	case there && placed(p).dir != "/": // seen here because it came by here
		f.mu.Lock()
		delete(f.sent, p)
		f.mu.Unlock()
		return nil
	case there:
		if err := c.may(access.Keep); err != nil {
			return c.fail(err)
		}
		if err := f.shelf.Remove(ctx, file.Name); err != nil {
			return c.fail(err)
		}
	default:
		if info, err := f.aside.Stat(local(p)); err == nil && info.Mode().IsRegular() && (c.method == "MOVE" || c.method == "COPY") {
			return nil // what comes in its place may be refused
		}
		if err := f.aside.RemoveAll(local(p)); err != nil {
			return c.fail(err)
		}
	}
	f.dead.forget(p)
	return nil
}

// Rename gives what is at a path another one.
func (f *files) Rename(ctx context.Context, oldName, newName string) error {
	from, to := clean(oldName), clean(newName)
	if err := f.rename(ctx, from, to); err != nil {
		return callOf(ctx).fail(err)
	}
	f.dead.move(from, to)
	return nil
}

func (f *files) rename(ctx context.Context, from, to string) error {
	if fixed(from) || fixed(to) {
		return &api.Problem{Status: 403, Title: "this folder is always there", Detail: "move what is in it"}
	}
	file, shelved, err := f.onShelf(ctx, from)
	if err != nil {
		return err
	}
	at := placed(to)
	if shelved {
		return f.renameShelved(ctx, file, from, to, at)
	}
	info, err := f.aside.Stat(local(from))
	if err != nil {
		return err
	}
	if info.IsDir() && at.dir != "/" && fixed(at.dir) {
		return &api.Problem{Status: 403, Title: "this folder takes files alone", Detail: "move the folder elsewhere"}
	}
	if there, err := f.aside.Stat(local(to)); info.IsDir() && err == nil && !there.IsDir() {
		f.aside.Remove(local(to))
	}
	if info.IsDir() || !at.door || info.Size() == 0 {
		return named(f.aside.Rename(local(from), local(to)))
	}
	body, err := f.aside.Open(local(from))
	if err != nil {
		return err
	}
	defer body.Close()
	_, err = f.take(ctx, to, body, info.Size())
	if err != nil && !errors.As(err, new(notStarted)) {
		return err
	}
	return errors.Join(err, f.aside.Remove(local(from)))
}

// renameShelved moves a file of the shelf: under another name there, aside, or into the
// folder that has it started.
func (f *files) renameShelved(ctx context.Context, file toolpath.File, from, to string, at place) error {
	c := callOf(ctx)
	old, taken, err := f.onShelf(ctx, to)
	if err != nil {
		return err
	}
	body, err := f.shelf.Read(file.Name)
	if err != nil {
		return err
	}
	defer body.Close()
	switch {
	case at.door && at.dir != "/": // it stays where it is, and begins
		_, err := f.take(ctx, to, body, file.Size)
		return err
	case !at.door:
		if err := c.may(access.Keep); err != nil {
			return err
		}
		if err := f.room(); err != nil {
			return err
		}
		a := &arriving{opened{files: f, ctx: ctx, path: to}}
		if err := a.hold(body); err != nil {
			return err
		}
		return f.shelf.Remove(ctx, file.Name)
	case taken:
		if err := c.may(access.Keep); err != nil {
			return err
		}
		if old.Name == file.Name {
			return nil
		}
		if err := f.shelf.Remove(ctx, old.Name); err != nil {
			return err
		}
	}
	f.aside.Remove(local(to)) // which held its place
	_, err = f.shelf.Change(ctx, file.Name, shelf.Change{Name: &at.name})
	return err
}

// tidy removes names for the time being and places that nobody has filled, when they are
// old.
func (f *files) tidy(now time.Time) {
	var old []string
	fs.WalkDir(f.aside.FS(), ".", func(p string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() {
			return nil
		}
		if info, err := d.Info(); err == nil && now.Sub(info.ModTime()) > leftBehind && (info.Size() == 0 || doors.Passing(d.Name())) {
			old = append(old, p)
		}
		return nil
	})
	for _, p := range old {
		f.aside.Remove(p)
	}
}
