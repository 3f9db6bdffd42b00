package dav

import (
	"context"
	"encoding/xml"
	"os"
	"path"
	"slices"
	"strings"
	"time"

	"golang.org/x/net/webdav"

	"diathermon/internal/core/toolpath"
)

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

// aside is a file or a folder that is kept aside, as the protocol sees it.
type aside struct{ os.FileInfo }

// ContentType is what the file is, as far as the host knows: bytes.
func (aside) ContentType(context.Context) (string, error) { return plainBytes, nil }

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
	for i, info := range out {
		out[i] = aside{info}
	}
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
	return o.files.dead.patch(o.path, callOf(o.ctx).self, patches), nil
}
