package dav

import (
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"

	"golang.org/x/sys/unix"

	"diathermon/internal/api"
	"diathermon/internal/core/access"
	"diathermon/internal/core/toolpath"
	"diathermon/internal/durable"
	"diathermon/internal/shelf"
)

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
		err := a.hold(counted)
		return counted.n, err
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
	taken, err := f.intake.Take(ctx, shelf.Arrival{Name: at.name, Body: body, Size: size, Replace: true, Sender: c.sender, Whose: c.self}, at.then)
	if held, none := f.aside.Stat(local(p)); none == nil && held.Mode().IsRegular() && (err == nil || held.Size() == 0) {
		f.aside.Remove(local(p)) // which held its place
	}
	if err != nil {
		return taken.File, err
	}
	if at.dir != "/" {
		f.mu.Lock()
		for old := range f.sent { // any of them
			if len(f.sent) < mostNames {
				break
			}
			delete(f.sent, old)
		}
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
	if err := durable.Spare(a.files.aside.Name(), callOf(a.ctx).size); err != nil {
		return callOf(a.ctx).fail(fmt.Errorf("%w: %w", shelf.ErrFull, err))
	}
	coming := incoming + rand.Text()
	out, err := a.files.aside.OpenFile(coming, os.O_CREATE|os.O_WRONLY|os.O_EXCL, durable.FileMode)
	if err != nil {
		return callOf(a.ctx).fail(err)
	}
	defer a.files.aside.Remove(coming) // unless it has taken its place
	if body != nil {
		var n int64
		if n, err = io.Copy(sparing{out, a.files.aside.Name()}, io.LimitReader(body, largestAside+1)); n > largestAside {
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
	info, err := a.files.aside.Stat(local(a.path))
	a.info = aside{info}
	return err
}

// sparing writes what comes from outside as long as that leaves enough for prints.
type sparing struct {
	to  io.Writer
	dir string
}

func (s sparing) Write(p []byte) (int, error) {
	if err := durable.Spare(s.dir, int64(len(p))); err != nil {
		return 0, fmt.Errorf("%w: %w", shelf.ErrFull, err)
	}
	return s.to.Write(p)
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

// notStarted says why a file that is on the shelf now has not begun.
type notStarted struct{ error }

// Unwrap is for errors.As.
func (n notStarted) Unwrap() error { return n.error }
