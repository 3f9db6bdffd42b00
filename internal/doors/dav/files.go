package dav

import (
	"context"
	"crypto/rand"
	"encoding/xml"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"time"

	"golang.org/x/net/webdav"
	"golang.org/x/sys/unix"
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
	return info, err
}

// stored is a file of the shelf as the protocol sees it.
type stored struct{ file toolpath.File }

func (s stored) Name() string       { return s.file.Name }
func (s stored) Size() int64        { return s.file.Size }
func (s stored) Mode() os.FileMode  { return 0o644 }
func (s stored) ModTime() time.Time { return s.file.Stored }
func (s stored) IsDir() bool        { return false }
func (s stored) Sys() any           { return nil }

// ETag is that of the same file elsewhere on the host.
func (s stored) ETag(context.Context) (string, error) { return `"` + s.file.Digest + `"`, nil }

// ContentType is what the file is.
func (s stored) ContentType(context.Context) (string, error) {
	return "text/x-gcode; charset=utf-8", nil
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
		return &opened{File: body, files: f, ctx: ctx, path: p, info: info}, err
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

// arriving is a file that is being written.
type arriving struct{ opened }

// Write is what the protocol does not do: it hands a whole body to ReadFrom.
func (a *arriving) Write([]byte) (int, error) { return 0, fs.ErrInvalid }

// ReadFrom takes the whole of a body in.
func (a *arriving) ReadFrom(r io.Reader) (int64, error) {
	c := callOf(a.ctx)
	at := placed(a.path)
	if a.info != nil { // only a place was held
		return io.Copy(io.Discard, r)
	}
	counted := &counter{r: r}
	if !at.door {
		if err := a.files.room(); err != nil {
			return 0, c.fail(err)
		}
		return counted.n, a.hold(counted)
	}
	size := int64(-1)
	if c.method == "PUT" {
		size = c.size
	}
	file, err := a.files.take(a.ctx, a.path, counted, size)
	a.info = stored{file}
	return counted.n, c.fail(err)
}

// take stores what arrives at a path of the folder's that is for the shelf.
func (f *files) take(ctx context.Context, p string, body io.Reader, size int64) (toolpath.File, error) {
	c, at := callOf(ctx), placed(p)
	if at.then.Starts() {
		if err := c.may(access.Start); err != nil {
			return toolpath.File{}, err
		}
	}
	taken, err := f.intake.Take(ctx, shelf.Arrival{Name: at.name, Body: body, Size: size, Replace: true, Sender: c.sender}, at.then)
	if held, none := f.aside.Stat(local(p)); none == nil && held.Mode().IsRegular() && (err == nil || held.Size() == 0) {
		f.aside.Remove(local(p)) // which held its place
	}
	if err != nil {
		return taken.File, err
	}
	if at.dir != "/" {
		f.mu.Lock()
		f.sent[p] = true
		f.mu.Unlock()
	}
	if taken.Not != nil { // it is on the shelf, and that the client cannot be told otherwise
		return taken.File, notStarted{&api.Problem{Status: 409, Title: "it is on the shelf, and has not started", Detail: taken.Not.Error()}}
	}
	return taken.File, nil
}

// hold writes what is kept aside; nil is an empty file.
func (a *arriving) hold(body io.Reader) error {
	coming := incoming + rand.Text()
	out, err := a.files.aside.OpenFile(coming, os.O_CREATE|os.O_WRONLY|os.O_EXCL, durable.FileMode)
	if err != nil {
		return callOf(a.ctx).fail(err)
	}
	defer a.files.aside.Remove(coming) // unless it has taken its place
	if body != nil {
		var n int64
		if n, err = io.Copy(out, io.LimitReader(body, largestAside+1)); n > largestAside {
			err = fmt.Errorf("%w: at most %d bytes are kept aside", shelf.ErrLarge, int64(largestAside))
		}
	}
	if c := callOf(a.ctx); err == nil && c.method == "PUT" && c.size > 0 {
		if info, _ := out.Stat(); info != nil && info.Size() != c.size {
			err = fmt.Errorf("%w: %d of %d bytes came; send it again", shelf.ErrShort, info.Size(), c.size)
		}
	}
	if err = errors.Join(err, out.Close()); err != nil {
		return callOf(a.ctx).fail(err)
	}
	if err := named(a.files.aside.Rename(coming, local(a.path))); err != nil {
		return callOf(a.ctx).fail(err)
	}
	a.info, err = a.files.aside.Stat(local(a.path))
	return err
}

// incoming is how the names begin of what is on its way aside.
const incoming = ".incoming-"

// named words the errors of names that a disk does not take.
func named(err error) error {
	for _, why := range []error{unix.ENAMETOOLONG, unix.EINVAL, unix.EILSEQ} {
		if errors.Is(err, why) {
			return fmt.Errorf("%w: the disk does not take it: %w", shelf.ErrName, why)
		}
	}
	return err
}

type counter struct {
	r io.Reader
	n int64
}

func (c *counter) Read(p []byte) (int, error) {
	n, err := c.r.Read(p)
	c.n += int64(n)
	return n, err
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
		if err := f.aside.RemoveAll(local(p)); err != nil {
			return c.fail(err)
		}
	}
	return f.dead.forget(p)
}

// Rename gives what is at a path another one.
func (f *files) Rename(ctx context.Context, oldName, newName string) error {
	from, to := clean(oldName), clean(newName)
	if err := f.rename(ctx, from, to); err != nil {
		return callOf(ctx).fail(err)
	}
	return f.dead.move(from, to)
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

// notStarted says why a file that is on the shelf now has not begun.
type notStarted struct{ error }

// Unwrap is for errors.As.
func (n notStarted) Unwrap() error { return n.error }

// opened is what is at a path, to be read.
type opened struct {
	*os.File
	files *files
	ctx   context.Context
	path  string
	info  os.FileInfo
}

// Stat says what it is.
func (o *opened) Stat() (os.FileInfo, error) {
	if o.info == nil {
		return o.files.Stat(o.ctx, o.path)
	}
	return o.info, nil
}

// Close ends the reading.
func (o *opened) Close() error {
	if o.File == nil {
		return nil
	}
	return o.File.Close()
}

// Readdir lists a folder, with what is on the shelf.
func (o *opened) Readdir(int) ([]os.FileInfo, error) {
	out, err := o.File.Readdir(-1)
	if err != nil {
		return nil, err
	}
	out = slices.DeleteFunc(out, func(i os.FileInfo) bool {
		return !i.IsDir() && !i.Mode().IsRegular() || strings.HasPrefix(i.Name(), incoming)
	})
	shelved, err := o.files.shelf.Files(o.ctx)
	if err != nil {
		return nil, callOf(o.ctx).fail(err)
	}
	for _, file := range shelved {
		p := path.Join(o.path, file.Name)
		if _, there, err := o.files.onShelf(o.ctx, p); err == nil && there {
			out = slices.DeleteFunc(out, func(i os.FileInfo) bool { return i.Name() == file.Name })
			out = append(out, stored{file})
		}
	}
	return out, nil
}

// DeadProps are the properties that clients have given it, with what is to say of locks.
func (o *opened) DeadProps() (map[xml.Name]webdav.Property, error) {
	properties := o.files.dead.of(o.path)
	o.files.locks.describe(o.path, properties)
	if callOf(o.ctx).named {
		properties[supportedLock] = webdav.Property{XMLName: supportedLock, InnerXML: []byte(bothLocks)}
	}
	return properties, nil
}

// Patch changes them.
func (o *opened) Patch(patches []webdav.Proppatch) ([]webdav.Propstat, error) {
	return o.files.dead.patch(o.path, patches)
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
