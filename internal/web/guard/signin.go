package guard

import (
	_ "embed"
	"encoding/json"
	"html"
	"html/template"
	"mime"
	"net/http"
	"time"

	"github.com/go-chi/chi/v5"

	"diathermon/internal/api"
	"diathermon/internal/core/access"
	"diathermon/internal/people"
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

// SignIn mounts the one door that needs no token: a page for people, and addresses for
// programs that pair.
func (a *Access) SignIn(r chi.Router, printer string) {
	d := &door{a, printer}
	r.Get("/sign-in", func(w http.ResponseWriter, r *http.Request) { d.show(w, r, http.StatusOK, page{}) })
	r.Get("/sign-in.js", func(w http.ResponseWriter, _ *http.Request) {
		w.Header().Set("Content-Type", "text/javascript; charset=utf-8")
		w.Write(signInScript)
	})
	r.Post("/sign-in", d.takeSignIn)
	r.Post("/pairings", d.ask)
	r.Post("/pairings/{id}", d.outcome)
	r.Post("/passkeys", d.offerSignIn)
	r.Post("/passkeys/{ticket}", d.byPasskey)
	r.With(d.RequiredOrSignIn).Get("/first-start", d.firstStart)
	r.With(d.RequiredOrSignIn).Post("/first-start", d.firstStart)
	r.With(d.Required).Post("/sign-out", d.signOut)
}

// page is what the page shows.
type page struct {
	Base     string // the path below which the host is
	Printer  string
	Wrong    string
	Name     string
	Passkeys bool // somebody has one
	Fresh    bool // nobody has an account yet
	First    bool // and one is to be made now
}

func (d *door) show(w http.ResponseWriter, r *http.Request, status int, p page) {
	p.Base, p.Printer, p.Fresh, p.Passkeys = Base(r.Context()), d.printer, d.People.Fresh(), d.People.HasPasskeys()
	w.Header().Set("Content-Type", "text/html; charset=utf-8")
	w.Header().Set("Cache-Control", "no-store")
	w.WriteHeader(status)
	signInTemplate.Execute(w, p)
}

// longestForm is how much of a form or a request to pair is read.
const longestForm = 16 << 10

func (d *door) takeSignIn(w http.ResponseWriter, r *http.Request) {
	r.Body = http.MaxBytesReader(w, r.Body, longestForm)
	media, _, _ := mime.ParseMediaType(r.Header.Get("Content-Type"))
	program := media == "application/json"
	switch err := crossOrigin.Check(r); {
	case err != nil && program:
		desk.WriteProblem(w, anotherSite)
		return
	case err != nil:
		d.show(w, r, http.StatusForbidden, page{Wrong: "Another site sent this; open the page at the host's own address."})
		return
	case program:
		d.pair(w, r)
		return
	}
	if err := r.ParseForm(); err != nil {
		d.show(w, r, http.StatusBadRequest, page{Wrong: "The form did not arrive whole; try again."})
		return
	}
	Waits(r.Context())
	var token string
	var err error
	if name := r.PostForm.Get("name"); name != "" {
		token, err = d.People.SignIn(r.Context(), addressOf(r), d.mark(r), name, r.PostForm.Get("password"))
	} else {
		token, err = d.People.Spend(r.Context(), addressOf(r), r.PostForm.Get("code"), people.ConsoleName, true)
	}
	if err != nil {
		p := d.errors.Of(err)
		d.show(w, r, p.Status, page{Wrong: p.Error(), Name: r.PostForm.Get("name")})
		return
	}
	d.signedIn(w, r, token)
	to := "/"
	if d.People.Fresh() {
		to = "/first-start"
	}
	goOn(w, r, to)
}

// signedIn gives a browser its session, and what it is known by later.
func (d *door) signedIn(w http.ResponseWriter, r *http.Request, token string) {
	h, ok := d.People.Find(token)
	if !ok {
		return
	}
	d.setCookie(w, r, d.cookie, token, *h.Expires)
	d.known(w, r, h)
}

// known gives a browser what it is known by.
func (d *door) known(w http.ResponseWriter, r *http.Request, h *people.Holder) {
	if mark := d.People.Mark(h); mark != "" {
		d.setCookie(w, r, d.knownCookie(), mark, time.Now().AddDate(1, 0, 0))
	}
}

// offerSignIn begins signing in by a passkey.
func (d *door) offerSignIn(w http.ResponseWriter, r *http.Request) {
	var in struct{}
	p := read(w, r, &in, "{}")
	if p == nil {
		offer, err := d.People.OfferSignIn(Origin(r.Context()))
		if err == nil {
			desk.WriteJSON(w, http.StatusCreated, "application/json", api.PasskeyOffer{Ticket: offer.Ticket, Options: offer.Options})
			return
		}
		p = d.errors.Of(err)
	}
	desk.WriteProblem(w, p)
}

// byPasskey takes what the browser has signed.
func (d *door) byPasskey(w http.ResponseWriter, r *http.Request) {
	var in json.RawMessage
	p := read(w, r, &in, "what the browser has signed")
	if p == nil {
		token, err := d.People.SignInByPasskey(r.Context(), addressOf(r), Origin(r.Context()), chi.URLParam(r, "ticket"), in)
		if err == nil {
			d.signedIn(w, r, token)
			desk.WriteJSON(w, http.StatusOK, "application/json", struct{}{})
			return
		}
		p = d.errors.Of(err)
	}
	desk.WriteProblem(w, p)
}

func (d *door) setCookie(w http.ResponseWriter, r *http.Request, name, value string, expires time.Time) {
	http.SetCookie(w, &http.Cookie{Name: name, Value: value, Path: Base(r.Context()) + "/", Expires: expires, HttpOnly: true, SameSite: http.SameSiteStrictMode, Secure: secure(r)})
}

// goOn leads on by a page of its own, not a redirect: a strict cookie does not come along
// when another site's link led here.
func goOn(w http.ResponseWriter, r *http.Request, to string) {
	to = html.EscapeString(Base(r.Context()) + to)
	w.Header().Set("Content-Type", "text/html; charset=utf-8")
	w.Header().Set("Cache-Control", "no-store")
	w.Header().Set("Refresh", "0; url="+to)
	w.Write([]byte(`<!doctype html><title>Signed in</title><a href="` + to + `">Go on</a>`))
}

// firstStart makes the first account, a keeper's, for whoever has shown a right to
// everything.
func (d *door) firstStart(w http.ResponseWriter, r *http.Request) {
	h := Holder(r.Context())
	if !d.People.Fresh() || !h.Session || d.Lacking(r.Context(), access.Keep) != nil {
		http.Redirect(w, r, Base(r.Context())+"/", http.StatusSeeOther)
		return
	}
	if r.Method == http.MethodGet {
		d.show(w, r, http.StatusOK, page{First: true})
		return
	}
	r.Body = http.MaxBytesReader(w, r.Body, longestForm)
	if err := r.ParseForm(); err != nil {
		d.show(w, r, http.StatusBadRequest, page{First: true, Wrong: "The form did not arrive whole; try again."})
		return
	}
	name := r.PostForm.Get("name")
	account, err := d.People.MakeAccount(r.Context(), h, name, access.Keeper, r.PostForm.Get("password"))
	if err == nil {
		err = d.People.Become(r.Context(), h, account)
	}
	if err != nil {
		p := d.errors.Of(err)
		d.show(w, r, p.Status, page{First: true, Wrong: p.Error(), Name: name})
		return
	}
	if now, err := d.People.Holder(h.ID); err == nil {
		d.known(w, r, now)
	}
	goOn(w, r, "/")
}

var anotherSite = &api.Problem{Status: http.StatusForbidden, Title: "another site sent this request", Detail: "use the console at the host's own address"}

// read reads a request in JSON.
func read(w http.ResponseWriter, r *http.Request, into any, like string) *api.Problem {
	r.Body = http.MaxBytesReader(w, r.Body, longestForm)
	if crossOrigin.Check(r) != nil {
		return anotherSite
	}
	if err := json.NewDecoder(r.Body).Decode(into); err != nil {
		return &api.Problem{Status: http.StatusBadRequest, Title: "the request is not as it should be", Detail: "send " + like}
	}
	return nil
}

// pair gives a program a token of its own for a one-time code.
func (d *door) pair(w http.ResponseWriter, r *http.Request) {
	var in api.SignIn
	const like = `{"code":"…","name":"the program's name"}`
	p := read(w, r, &in, like)
	if p == nil && (in.Code == "" || in.Name == "") {
		p = &api.Problem{Status: http.StatusBadRequest, Title: "the request is not as it should be", Detail: "send " + like}
	}
	if p != nil {
		desk.WriteProblem(w, p)
		return
	}
	if err := people.ProgramName(in.Name); err != nil {
		desk.WriteProblem(w, d.errors.Of(err))
		return
	}
	Waits(r.Context())
	token, err := d.People.Spend(r.Context(), addressOf(r), in.Code, in.Name, false)
	if err != nil {
		desk.WriteProblem(w, d.errors.Of(err))
		return
	}
	desk.WriteJSON(w, http.StatusCreated, "application/json", api.Token{Token: token, Name: in.Name})
}

// ask lets a program or a browser ask to be let in.
func (d *door) ask(w http.ResponseWriter, r *http.Request) {
	var in api.AskIn
	if p := read(w, r, &in, `{"name":"the program's name","scopes":["send"]}`); p != nil {
		desk.WriteProblem(w, p)
		return
	}
	one, secret, err := d.People.Ask(addressOf(r), d.familiar(r), in.Name, in.Scopes, in.Browser)
	if err != nil {
		desk.WriteProblem(w, d.errors.Of(err))
		return
	}
	desk.WriteJSON(w, http.StatusCreated, "application/json", api.Asked{ID: one.ID, Secret: secret, Letters: one.Letters, Printer: d.printer, Expires: one.Expires().UTC()})
}

// outcome tells who asked what has become of it.
func (d *door) outcome(w http.ResponseWriter, r *http.Request) {
	var in api.AskOutcome
	if p := read(w, r, &in, `{"secret":"…"}`); p != nil {
		desk.WriteProblem(w, p)
		return
	}
	one, key, err := d.People.Outcome(r.Context(), chi.URLParam(r, "id"), in.Secret)
	if err != nil {
		desk.WriteProblem(w, d.errors.Of(err))
		return
	}
	out := api.Outcome{State: string(one.State)}
	if one.Session {
		out.Code = key
	} else {
		out.Token = key
	}
	desk.WriteJSON(w, http.StatusOK, "application/json", out)
}

// signOut ends a browser's session. A token that a program was given stays good: it
// is withdrawn where tokens are kept.
func (d *door) signOut(w http.ResponseWriter, r *http.Request) {
	_, cookie := d.bearer(r)
	h := Holder(r.Context())
	if !cookie || !h.Session {
		desk.WriteProblem(w, &api.Problem{Status: http.StatusConflict, Title: "only a browser signs out", Detail: "this token stays good: it is no browser's session"})
		return
	}
	if err := d.People.Retire(r.Context(), h); err != nil {
		desk.WriteProblem(w, d.errors.Of(err))
		return
	}
	http.SetCookie(w, &http.Cookie{Name: d.cookie, Path: Base(r.Context()) + "/", MaxAge: -1})
	w.WriteHeader(http.StatusNoContent)
}
