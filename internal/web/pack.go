package web

import (
	"bytes"
	"compress/gzip"
	"mime"
	"net/http"
	"slices"
	"strconv"
	"sync"
)

// packedTypes are the answers that are worth packing.
var packedTypes = []string{"application/json", "application/problem+json", "text/html", "text/css", "text/javascript", "image/svg+xml"}

// How much of an answer there is at the least, and at the most, for it to be packed.
const (
	leastPacked = 1 << 10
	mostPacked  = 2 << 20
)

// pack sends answers as gzip to those who take it. An answer is packed whole before any of it
// goes out, so that somebody who takes it slowly holds its bytes and no packer, of which each
// takes most of a megabyte.
func pack(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if !accepts(r.Header.Get("Accept-Encoding"), "gzip") || r.Method == http.MethodHead {
			next.ServeHTTP(w, r)
			return
		}
		p := &packing{ResponseWriter: w}
		next.ServeHTTP(p, r)
		p.end()
	})
}

// packing is an answer that may be packed.
type packing struct {
	http.ResponseWriter
	status int // 0: nothing was said yet
	waits  bool
	body   bytes.Buffer
}

// WriteHeader finds out whether the answer is packed.
func (p *packing) WriteHeader(status int) {
	if status < 200 || p.status != 0 {
		p.ResponseWriter.WriteHeader(status)
		return
	}
	p.status = status
	h := p.Header()
	media, _, _ := mime.ParseMediaType(h.Get("Content-Type"))
	if slices.Contains(packedTypes, media) {
		h.Add("Vary", "Accept-Encoding")
		p.waits = h.Get("Content-Encoding") == "" && h.Get("Content-Range") == "" && status != http.StatusNoContent && status != http.StatusNotModified
	}
	if !p.waits {
		p.ResponseWriter.WriteHeader(status)
	}
}

func (p *packing) Write(b []byte) (int, error) {
	if p.status == 0 {
		p.WriteHeader(http.StatusOK)
	}
	if p.waits && p.body.Len()+len(b) > mostPacked {
		if err := p.plain(); err != nil {
			return 0, err
		}
	}
	if p.waits {
		return p.body.Write(b)
	}
	return p.ResponseWriter.Write(b)
}

// plain sends what has come as it is, and what is to come.
func (p *packing) plain() error {
	if !p.waits {
		return nil
	}
	p.waits = false
	p.ResponseWriter.WriteHeader(p.status)
	_, err := p.ResponseWriter.Write(p.body.Bytes())
	p.body = bytes.Buffer{}
	return err
}

// Flush sends what was written.
func (p *packing) Flush() {
	p.plain()
	http.NewResponseController(p.ResponseWriter).Flush()
}

// Unwrap is for http.ResponseController.
func (p *packing) Unwrap() http.ResponseWriter { return p.ResponseWriter }

var packers = sync.Pool{New: func() any { z, _ := gzip.NewWriterLevel(nil, 5); return z }}

// end sends the answer, if it waits still.
func (p *packing) end() {
	if !p.waits || p.body.Len() < leastPacked {
		p.plain()
		return
	}
	var out bytes.Buffer
	z := packers.Get().(*gzip.Writer)
	z.Reset(&out)
	z.Write(p.body.Bytes())
	z.Close()
	packers.Put(z)
	p.body = bytes.Buffer{}
	h := p.Header()
	h.Set("Content-Encoding", "gzip")
	h.Set("Content-Length", strconv.Itoa(out.Len()))
	p.ResponseWriter.WriteHeader(p.status)
	p.ResponseWriter.Write(out.Bytes())
}
