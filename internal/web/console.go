package web

import (
	"bytes"
	"embed"
	"html"
	"io/fs"
	"mime"
	"net/http"
	"path"
	"strconv"
	"strings"

	"github.com/go-chi/chi/v5"

	"diathermon/internal/api"
	"diathermon/internal/web/guard"
)

// built holds the console as its build leaves it.
//
//go:embed all:console
var built embed.FS

// console serves the built console. Its areas are addresses of one page.
func console(r chi.Router) {
	files, err := fs.Sub(built, "console")
	if err != nil {
		panic(err) // the folder is embedded above
	}
	assets := http.FileServerFS(files)
	r.Get("/assets/*", func(w http.ResponseWriter, r *http.Request) {
		w.Header().Set("Cache-Control", "private, max-age=31536000, immutable") // their names change with their contents
		if !packed(w, r, files) {
			assets.ServeHTTP(w, r)
		}
	})
	page := func(w http.ResponseWriter, r *http.Request) {
		b, err := fs.ReadFile(files, "index.html")
		b = bytes.Replace(b, []byte(`<base href="/">`), []byte(`<base href="`+html.EscapeString(guard.Base(r.Context()))+`/">`), 1)
		if err != nil {
			b = []byte("<!doctype html><title>Diathermon</title><p>This build has no console: run <code>make build</code>.")
		}
		w.Header().Set("Content-Type", "text/html; charset=utf-8")
		w.Header().Set("Cache-Control", "no-cache")
		w.Write(b)
	}
	for _, area := range append([]string{"/", "/shelf/*", "/motion/*", "/setup/*"}, api.Pages...) {
		r.Get(area, page)
	}
	r.Get("/favicon.svg", assets.ServeHTTP)
	r.Get("/sw.js", func(w http.ResponseWriter, r *http.Request) {
		w.Header().Set("Cache-Control", "no-cache")
		assets.ServeHTTP(w, r)
	})
}

// packings are how the build has packed what is text, the smaller first: what a request names
// them, and how their files end.
var packings = []struct{ coding, end string }{{"br", ".br"}, {"gzip", ".gz"}}

// packed serves a file as the build has packed it, where that was done and the browser takes
// it.
func packed(w http.ResponseWriter, r *http.Request, files fs.FS) bool {
	kind := mime.TypeByExtension(path.Ext(r.URL.Path))
	for _, p := range packings {
		if kind == "" || !accepts(r.Header.Get("Accept-Encoding"), p.coding) {
			continue
		}
		b, err := fs.ReadFile(files, strings.TrimPrefix(path.Clean(r.URL.Path), "/")+p.end)
		if err != nil {
			continue
		}
		w.Header().Set("Content-Type", kind)
		w.Header().Set("Content-Encoding", p.coding)
		w.Header().Set("Content-Length", strconv.Itoa(len(b)))
		w.Header().Add("Vary", "Accept-Encoding")
		w.Write(b)
		return true
	}
	return false
}

// accepts reports whether a request takes a coding (RFC 9110, 12.5.3); one of no weight is
// refused.
func accepts(header, coding string) bool {
	for item := range strings.SplitSeq(header, ",") {
		name, weight, _ := strings.Cut(strings.TrimSpace(item), ";")
		if !strings.EqualFold(strings.TrimSpace(name), coding) {
			continue
		}
		q, given := strings.CutPrefix(strings.TrimSpace(weight), "q=")
		v, err := strconv.ParseFloat(q, 64)
		return !given || err == nil && v > 0
	}
	return false
}
