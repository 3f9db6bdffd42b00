package web

import (
	_ "embed"
	"encoding/json"
	"html/template"
	"mime"
	"net/http"
	"time"

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
	if media, _, _ := mime.ParseMediaType(r.Header.Get("Content-Type")); media == "application/json" {
		s.pair(w, r)
		return
	}
	if err := crossOrigin.Check(r); err != nil {
		s.showSignIn(w, http.StatusForbidden, "Another site sent this; open the page at the host's own address.")
		return
	}
	if err := r.ParseForm(); err != nil {
		s.showSignIn(w, http.StatusBadRequest, "The form did not arrive whole; try again.")
		return
	}
	expires := time.Now().Add(sessionLife).UTC()
	token, err := s.Access.spend(r.Context(), r.PostForm.Get("code"), "console", &expires)
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
	token, err := s.Access.spend(r.Context(), in.Code, in.Name, nil)
	if err != nil {
		problem(w, s.problemOf(err))
		return
	}
	w.Header().Set("Content-Type", "application/json")
	w.WriteHeader(http.StatusCreated)
	json.NewEncoder(w).Encode(api.Token{Token: token, Name: in.Name})
}

func (s *Server) signOut(w http.ResponseWriter, r *http.Request) {
	token, _ := s.Access.bearer(r)
	if err := s.Access.withdraw(r.Context(), token); err != nil {
		problem(w, s.problemOf(err))
		return
	}
	http.SetCookie(w, &http.Cookie{Name: s.Access.cookie, Path: "/", MaxAge: -1})
	w.WriteHeader(http.StatusNoContent)
}
