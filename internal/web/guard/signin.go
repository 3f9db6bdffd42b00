package guard

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
	"diathermon/internal/web/desk"
)

//go:embed signin.html
var signInPage string

var signInTemplate = template.Must(template.New("sign-in").Parse(signInPage))

//go:embed signin.js
var signInScript []byte

// door is where one signs in.
type door struct {
	*Access
	printer string // its name
}

// SignIn mounts the one door that needs no token: a page for people, and the
// same address for programs that pair.
func (a *Access) SignIn(r chi.Router, printer string) {
	d := &door{a, printer}
	r.Get("/sign-in", func(w http.ResponseWriter, r *http.Request) { d.showSignIn(w, http.StatusOK, "") })
	r.Get("/sign-in.js", func(w http.ResponseWriter, r *http.Request) {
		w.Header().Set("Content-Type", "text/javascript; charset=utf-8")
		w.Write(signInScript)
	})
	r.Post("/sign-in", d.takeSignIn)
	r.With(d.Required).Post("/sign-out", d.signOut)
}

func (d *door) showSignIn(w http.ResponseWriter, status int, wrong string) {
	w.Header().Set("Content-Type", "text/html; charset=utf-8")
	w.Header().Set("Cache-Control", "no-store")
	w.WriteHeader(status)
	signInTemplate.Execute(w, map[string]string{"Printer": d.printer, "Wrong": wrong})
}

func (d *door) takeSignIn(w http.ResponseWriter, r *http.Request) {
	r.Body = http.MaxBytesReader(w, r.Body, 4096)
	media, _, _ := mime.ParseMediaType(r.Header.Get("Content-Type"))
	program := media == "application/json"
	switch err := crossOrigin.Check(r); {
	case err != nil && program:
		desk.WriteProblem(w, &api.Problem{Status: http.StatusForbidden, Title: "another site sent this request", Detail: "use the console at the host's own address"})
		return
	case err != nil:
		d.showSignIn(w, http.StatusForbidden, "Another site sent this; open the page at the host's own address.")
		return
	case program:
		d.pair(w, r)
		return
	}
	if err := r.ParseForm(); err != nil {
		d.showSignIn(w, http.StatusBadRequest, "The form did not arrive whole; try again.")
		return
	}
	expires := time.Now().Add(sessionLife).UTC()
	token, err := d.spend(r, r.PostForm.Get("code"), consoleName, &expires)
	if err != nil {
		p := d.errors.Of(err)
		d.showSignIn(w, p.Status, p.Error())
		return
	}
	http.SetCookie(w, &http.Cookie{Name: d.cookie, Value: token, Path: "/", Expires: expires, HttpOnly: true, SameSite: http.SameSiteStrictMode, Secure: r.TLS != nil})
	// A page of its own, not a redirect: a strict cookie does not come along when
	// another site's link led here.
	w.Header().Set("Content-Type", "text/html; charset=utf-8")
	w.Header().Set("Refresh", "0; url=/")
	w.Write([]byte(`<!doctype html><title>Signed in</title><a href="/">To the bench</a>`))
}

// pair gives a program a token of its own.
func (d *door) pair(w http.ResponseWriter, r *http.Request) {
	var in api.SignIn
	if err := json.NewDecoder(r.Body).Decode(&in); err != nil || in.Code == "" || in.Name == "" {
		desk.WriteProblem(w, &api.Problem{Status: http.StatusBadRequest, Title: "the request is not as it should be", Detail: `send {"code":"…","name":"the program's name"}`})
		return
	}
	if why := programName(in.Name); why != "" {
		desk.WriteProblem(w, &api.Problem{Status: http.StatusBadRequest, Title: "this cannot be a program's name", Detail: why})
		return
	}
	token, err := d.spend(r, in.Code, in.Name, nil)
	if err != nil {
		desk.WriteProblem(w, d.errors.Of(err))
		return
	}
	desk.WriteJSON(w, http.StatusCreated, "application/json", api.Token{Token: token, Name: in.Name})
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
func (d *door) signOut(w http.ResponseWriter, r *http.Request) {
	token, cookie := d.bearer(r)
	h, known := d.find(token)
	if !cookie || !known || !h.session() {
		desk.WriteProblem(w, &api.Problem{Status: http.StatusConflict, Title: "only a browser signs out", Detail: "this token stays good: it is no browser's session"})
		return
	}
	if err := d.withdraw(r.Context(), h, addressOf(r)); err != nil {
		desk.WriteProblem(w, d.errors.Of(err))
		return
	}
	http.SetCookie(w, &http.Cookie{Name: d.cookie, Path: "/", MaxAge: -1})
	w.WriteHeader(http.StatusNoContent)
}
