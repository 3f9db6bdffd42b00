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
	"time"

	"golang.org/x/net/webdav"

	"diathermon/internal/durable"
)

// dead keeps dead properties (RFC 4918, 4): what clients say of files, and nobody here
// understands. Nothing depends on them, so that they are written down now and then.
type dead struct {
	path string // of the file that has them

	mu      sync.Mutex
	all     map[string]map[string]said // by path, and by name as one word
	changed bool
}

// said is a property, and who has said it.
type said struct {
	webdav.Property
	Whose string
}

// bytes is how much is kept of it.
func (s said) bytes() int {
	return len(s.XMLName.Space) + len(s.XMLName.Local) + len(s.Lang) + len(s.InnerXML) + len(s.Whose)
}

// Bounds of what is kept, and how often it is written.
const (
	mostProperties  = 16        // of one file
	longestProperty = 2 << 10   // bytes, its name among them
	mostDescribed   = 2000      // files
	mostSaid        = 1 << 20   // bytes, together
	mostSaidByOne   = 256 << 10 // of one sender
	keepEvery       = time.Minute
)

func openDead(path string) (*dead, error) {
	d := &dead{path: path}
	b, err := os.ReadFile(path)
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return nil, err
	}
	if len(b) > 4*mostSaid || json.Unmarshal(b, &d.all) != nil || d.all == nil {
		d.all = map[string]map[string]said{}
	}
	return d, nil
}

// keep writes down what has changed.
func (d *dead) keep() {
	d.mu.Lock()
	defer d.mu.Unlock()
	if !d.changed {
		return
	}
	b, err := json.Marshal(d.all)
	if err == nil {
		err = durable.Replace(d.path, durable.Bytes(b))
	}
	d.changed = err != nil // it is tried again
}

func (d *dead) of(path string) map[xml.Name]webdav.Property {
	d.mu.Lock()
	defer d.mu.Unlock()
	out := map[xml.Name]webdav.Property{}
	for _, p := range d.all[path] {
		out[p.XMLName] = p.Property
	}
	return out
}

// patch changes properties, all of them or none.
func (d *dead) patch(path, whose string, patches []webdav.Proppatch) []webdav.Propstat {
	d.mu.Lock()
	defer d.mu.Unlock()
	done := webdav.Propstat{Status: http.StatusOK}
	now := maps.Clone(d.all[path])
	if now == nil {
		now = map[string]said{}
	}
	for _, change := range patches {
		for _, p := range change.Props {
			done.Props = append(done.Props, webdav.Property{XMLName: p.XMLName})
			key := p.XMLName.Space + " " + p.XMLName.Local
			if change.Remove {
				delete(now, key)
				continue
			}
			if now[key] = (said{p, whose}); now[key].bytes() > longestProperty || len(now) > mostProperties {
				done.Status = http.StatusInsufficientStorage
			}
		}
	}
	all, own := 0, 0
	count := func(of map[string]said) {
		for _, p := range of {
			all += p.bytes()
			if p.Whose == whose {
				own += p.bytes()
			}
		}
	}
	for at, of := range d.all {
		if at != path {
			count(of)
		}
	}
	count(now)
	if len(d.all) >= mostDescribed && d.all[path] == nil || all > mostSaid || own > mostSaidByOne {
		done.Status = http.StatusInsufficientStorage
	}
	if done.Status != http.StatusOK {
		return []webdav.Propstat{done}
	}
	if d.all[path] = now; len(now) == 0 {
		delete(d.all, path)
	}
	d.changed = true
	return []webdav.Propstat{done}
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
func (d *dead) forget(path string) {
	d.mu.Lock()
	defer d.mu.Unlock()
	d.changed = d.below(path, func(p string) { delete(d.all, p) }) || d.changed
}

// move gives the properties of what is at a path and below it to another.
func (d *dead) move(from, to string) {
	d.mu.Lock()
	defer d.mu.Unlock()
	gone := d.below(to, func(p string) { delete(d.all, p) })
	moved := d.below(from, func(p string) {
		d.all[to+strings.TrimPrefix(p, from)] = d.all[p]
		delete(d.all, p)
	})
	d.changed = gone || moved || d.changed
}
