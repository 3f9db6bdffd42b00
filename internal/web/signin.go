package web

import (
	_ "embed"
	"encoding/json"
	"fmt"
	"html/template"
	"mime"
	"net/http"
	"strings"
	"time"
	"unicode"
	"unicode/utf8"

	"github.com/go-chi/chi/v5"

	"diathermon/internal/api"
)

//go:embed signin.html
var signInPage string

var signInTemplate = template.Must(template.New("sign-in").Parse(signInPage))

//go:embed signin.js
var signInScript []byte

// signIn mounts the one door that needs no token: a page for people, and the
// same address for programs that pair.
func (s *Server) signIn(r chi.Router) {
	r.Get("/sign-in", func(w http.ResponseWriter, r *http.Request) { s.showSignIn(w, http.StatusOK, "") })
	r.Get("/sign-in.js", func(w http.ResponseWriter, r *http.Request) {
		w.Header().Set("Content-Type", "text/javascript; charset=utf-8")
		w.Write(signInScript)
	})
	r.Post("/sign-in", s.takeSignIn)
	r.With(s.Access.required).Post("/sign-out", s.signOut)
}

func (s *Server) showSignIn(w http.ResponseWriter, status int, wrong string) {
	w.Header().Set("Content-Type", "text/html; charset=utf-8")
	w.Header().Set("Cache-Control", "no-store")
	w.WriteHeader(status)
	signInTemplate.Execute(w, map[string]string{"Printer": s.Host.Printer().Name, "Wrong": wrong})
}

func (s *Server) takeSignIn(w http.ResponseWriter, r *http.Request) {
	r.Body = http.MaxBytesReader(w, r.Body, 4096)
	media, _, _ := mime.ParseMediaType(r.Header.Get("Content-Type"))
	program := media == "application/json"
	switch err := crossOrigin.Check(r); {
	case err != nil && program:
		problem(w, &api.Problem{Status: http.StatusForbidden, Title: "another site sent this request", Detail: "use the console at the host's own address"})
		return
	case err != nil:
		s.showSignIn(w, http.StatusForbidden, "Another site sent this; open the page at the host's own address.")
		return
	case program:
		s.pair(w, r)
		return
	}
	if err := r.ParseForm(); err != nil {
		s.showSignIn(w, http.StatusBadRequest, "The form did not arrive whole; try again.")
		return
	}
	expires := time.Now().Add(sessionLife).UTC()
	token, err := s.Access.spend(r, r.PostForm.Get("code"), consoleName, &expires)
	if err != nil {
		p := s.problemOf(err)
		s.showSignIn(w, p.Status, p.Error())
		return
	}
	http.SetCookie(w, &http.Cookie{Name: s.Access.cookie, Value: token, Path: "/", Expires: expires, HttpOnly: true, SameSite: http.SameSiteStrictMode, Secure: r.TLS != nil})
	// A page of its own, not a redirect: a strict cookie does not come along when
	// another site's link led here.
	w.Header().Set("Content-Type", "text/html; charset=utf-8")
	w.Header().Set("Refresh", "0; url=/")
	w.Write([]byte(`<!doctype html><title>Signed in</title><a href="/">To the bench</a>`))
}

// pair gives a program a token of its own.
func (s *Server) pair(w http.ResponseWriter, r *http.Request) {
	var in api.SignIn
	if err := json.NewDecoder(r.Body).Decode(&in); err != nil || in.Code == "" || in.Name == "" {
		problem(w, &api.Problem{Status: http.StatusBadRequest, Title: "the request is not as it should be", Detail: `send {"code":"…","name":"the program's name"}`})
		return
	}
	if why := programName(in.Name); why != "" {
		problem(w, &api.Problem{Status: http.StatusBadRequest, Title: "this cannot be a program's name", Detail: why})
		return
	}
	token, err := s.Access.spend(r, in.Code, in.Name, nil)
	if err != nil {
		problem(w, s.problemOf(err))
		return
	}
	writeJSON(w, http.StatusCreated, "application/json", api.Token{Token: token, Name: in.Name})
}

// programName says why a program cannot be called so, or nothing.
func programName(name string) string {
	switch {
	case utf8.RuneCountInString(name) > longestName:
		return fmt.Sprintf("it has %d characters; at most %d are possible", utf8.RuneCountInString(name), longestName)
	case !utf8.ValidString(name) || strings.TrimSpace(name) != name || strings.ContainsFunc(name, func(r rune) bool { return !unicode.IsGraphic(r) }):
		return "it has characters in it that nobody can see"
	case name == keeperName || name == consoleName:
		return fmt.Sprintf("%q is what the host calls a token of its own", name)
	}
	return ""
}

// signOut ends a browser's session. A token that a program was given stays good: it
// is withdrawn where tokens are kept.
func (s *Server) signOut(w http.ResponseWriter, r *http.Request) {
	token, cookie := s.Access.bearer(r)
	h, known := s.Access.find(token)
	if !cookie || !known || !h.session() {
		problem(w, &api.Problem{Status: http.StatusConflict, Title: "only a browser signs out", Detail: "this token stays good: it is no browser's session"})
		return
	}
	if err := s.Access.withdraw(r.Context(), h, addressOf(r)); err != nil {
		problem(w, s.problemOf(err))
		return
	}
	http.SetCookie(w, &http.Cookie{Name: s.Access.cookie, Path: "/", MaxAge: -1})
	w.WriteHeader(http.StatusNoContent)
}
