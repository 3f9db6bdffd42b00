package web

import (
	"bytes"
	"embed"
	"html"
	"io/fs"
	"net/http"

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
		assets.ServeHTTP(w, r)
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
