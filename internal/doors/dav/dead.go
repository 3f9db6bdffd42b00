package dav

import (
	"encoding/json"
	"encoding/xml"
	"errors"
	"io/fs"
	"maps"
	"net/http"
	"os"
	"strings"
	"sync"

	"golang.org/x/net/webdav"

	"diathermon/internal/durable"
)

// dead keeps dead properties (RFC 4918, 4): what clients say of files, and nobody here
// understands.
type dead struct {
	path string // of the file that has them
	mu   sync.Mutex
	all  map[string]map[string]webdav.Property // by path, and by name as one word
}

// Bounds of what is kept.
const (
	mostProperties  = 32 // of one file
	longestProperty = 8 << 10
	mostDescribed   = 5000 // files
)

func openDead(path string) (*dead, error) {
	d := &dead{path: path, all: map[string]map[string]webdav.Property{}}
	b, err := os.ReadFile(path)
	if errors.Is(err, fs.ErrNotExist) {
		return d, nil
	}
	if err != nil {
		return nil, err
	}
	if json.Unmarshal(b, &d.all) != nil { // nothing depends on them
		d.all = map[string]map[string]webdav.Property{}
	}
	return d, nil
}

func (d *dead) write() error {
	b, err := json.Marshal(d.all)
	if err != nil {
		return err
	}
	return durable.Replace(d.path, durable.Bytes(b))
}

func (d *dead) of(path string) map[xml.Name]webdav.Property {
	d.mu.Lock()
	defer d.mu.Unlock()
	out := map[xml.Name]webdav.Property{}
	for _, p := range d.all[path] {
		out[p.XMLName] = p
	}
	return out
}

// patch changes properties, all of them or none.
func (d *dead) patch(path string, patches []webdav.Proppatch) ([]webdav.Propstat, error) {
	d.mu.Lock()
	defer d.mu.Unlock()
	done := webdav.Propstat{Status: http.StatusOK}
	now := maps.Clone(d.all[path])
	if now == nil {
		now = map[string]webdav.Property{}
	}
	for _, change := range patches {
		for _, p := range change.Props {
			done.Props = append(done.Props, webdav.Property{XMLName: p.XMLName})
			key := p.XMLName.Space + " " + p.XMLName.Local
			if change.Remove {
				delete(now, key)
				continue
			}
			if now[key] = p; len(p.InnerXML) > longestProperty || len(now) > mostProperties {
				done.Status = http.StatusInsufficientStorage
			}
		}
	}
	if len(d.all) >= mostDescribed && d.all[path] == nil {
		done.Status = http.StatusInsufficientStorage
	}
	if done.Status != http.StatusOK {
		return []webdav.Propstat{done}, nil
	}
	if d.all[path] = now; len(now) == 0 {
		delete(d.all, path)
	}
	return []webdav.Propstat{done}, d.write()
}

// below calls f for a path and all that are below it.
func (d *dead) below(path string, f func(p string)) (any bool) {
	for p := range maps.Clone(d.all) {
		if p == path || strings.HasPrefix(p, path+"/") {
			f(p)
			any = true
		}
	}
	return any
}

// forget drops the properties of what is at a path and below it.
func (d *dead) forget(path string) error {
	d.mu.Lock()
	defer d.mu.Unlock()
	if d.below(path, func(p string) { delete(d.all, p) }) {
		return d.write()
	}
	return nil
}

// move gives the properties of what is at a path and below it to another.
func (d *dead) move(from, to string) error {
	d.mu.Lock()
	defer d.mu.Unlock()
	gone := d.below(to, func(p string) { delete(d.all, p) })
	if d.below(from, func(p string) {
		d.all[to+strings.TrimPrefix(p, from)] = d.all[p]
		delete(d.all, p)
	}) || gone {
		return d.write()
	}
	return nil
}
