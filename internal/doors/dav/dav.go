// Package dav is the shelf as a folder that computers mount (RFC 4918, classes 1 and 2).
//
// What lies at the top of the folder is on the shelf; what is put into its folders print
// and queue is stored, too, and then started or waits in turn. Everything else that file
// managers need to work (names for the time being, empty files that hold a place, folders
// of people's own) is kept aside, on the disk, and never on the shelf.
//
// It promises that only a file that has arrived whole is examined, that what is refused
// is refused in words and leaves what was there as it was, and that nobody can hold a
// lock for ever. It leaves who may do what to the guard, and files to the intake and the
// shelf.
package dav

import (
	"bytes"
	"cmp"
	"context"
	"encoding/xml"
	"fmt"
	"io"
	"mime"
	"net/http"
	"net/url"
	"path"
	"slices"
	"strconv"
	"strings"
	"time"

	"golang.org/x/net/webdav"

	"diathermon/internal/api"
	"diathermon/internal/core/access"
	"diathermon/internal/doors"
)

// Methods are those that it takes (RFC 4918, 9).
var Methods = []string{
	http.MethodOptions, http.MethodHead, http.MethodGet, http.MethodPut, http.MethodDelete, "PROPFIND", "PROPPATCH", "MKCOL", "COPY", "MOVE", "LOCK", "UNLOCK",
}

// Prefix is where the folder is on the host.
const Prefix = "/dav"

const (
	longestLock = 10 * time.Minute // unless it is refreshed
	longestXML  = 64 << 10
	deepestXML  = 32
	longestPath = 1 << 10 // bytes
	longestList = 8 << 20 // bytes that the properties have which are asked for, of all that is listed
)

// A Door is the folder's HTTP side.
type Door struct {
	files  *files // with the locks on them
	caller Caller
	refuse func(http.ResponseWriter, error)
}

// Caller tells who sends a request and what the sender may do; lacking returns nil where
// the sender has the scope.
type Caller interface {
	Caller(ctx context.Context) string // by name
	Self(ctx context.Context) string   // which is nobody else's
	Base(ctx context.Context) string   // the path below which the host is seen from outside
	Lacking(ctx context.Context, scope string) *api.Problem
}

// Open returns the door. What is kept aside is in dir.
func Open(dir string, shelf Shelf, intake Intake) (*Door, error) {
	files, err := open(dir, shelf, intake)
	if err != nil {
		return nil, err
	}
	return &Door{files: files}, nil
}

// For is the door for callers whom somebody knows; refuse answers with an error.
func (d Door) For(caller Caller, refuse func(http.ResponseWriter, error)) http.Handler {
	d.caller, d.refuse = caller, refuse
	return &d
}

// Work removes what file managers have left behind, and keeps what they say of files, until
// ctx ends.
func (d *Door) Work(ctx context.Context) {
	tidy, keep := time.NewTicker(time.Hour), time.NewTicker(keepEvery)
	defer tidy.Stop()
	defer keep.Stop()
	defer d.files.dead.keep()
	d.files.tidy(time.Now())
	for {
		select {
		case <-tidy.C:
			d.files.tidy(time.Now())
		case <-keep.C:
			d.files.dead.keep()
		case <-ctx.Done():
			return
		}
	}
}

// call is a request as the files see it.
type call struct {
	prefix string // of the folder's addresses, as they are seen from outside
	method string
	sender string
	self   string // the sender, whatever it is called: what it has locked or said is its own
	size   int64  // of its body; -1: not known
	may    func(scope string) error

	named bool  // it asks by name for which locks are possible, which else the protocol says
	err   error // why it cannot be done, in words
}

type callKey struct{}

func callOf(ctx context.Context) *call {
	if c, ok := ctx.Value(callKey{}).(*call); ok {
		return c
	}
	return &call{may: func(string) error { return nil }}
}

// fail notes why a call cannot be done and returns that.
func (c *call) fail(err error) error {
	if err != nil && c.err == nil {
		c.err = err
	}
	return err
}

func (d *Door) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	c := &call{method: r.Method, sender: d.caller.Caller(r.Context()), self: d.caller.Self(r.Context()), prefix: d.caller.Base(r.Context()) + Prefix, size: r.ContentLength}
	c.may = func(scope string) error {
		if p := d.caller.Lacking(r.Context(), scope); p != nil {
			return p
		}
		return nil
	}
	r = r.WithContext(context.WithValue(r.Context(), callKey{}, c))
	out := &answer{ResponseWriter: w}
	if c.err = d.admit(r, c); c.err == nil {
		c.fail(d.serve(out, r))
	}
	switch {
	case c.err != nil:
		w.Header().Del("ETag")
		d.refuse(w, c.err)
	case out.refused != 0:
		d.refuse(w, refusal(out.refused))
	}
}

// serve does what a request asks for, if no lock stands against it.
func (d *Door) serve(out *answer, r *http.Request) error {
	c := callOf(r.Context())
	p := clean(strings.TrimPrefix(r.URL.Path, Prefix))
	to := ""
	if u, err := url.Parse(r.Header.Get("Destination")); err == nil {
		to = clean(strings.TrimPrefix(u.Path, c.prefix))
	}
	if r.Method == "COPY" || r.Method == "MOVE" {
		switch {
		case fixed(p):
			return &api.Problem{Status: http.StatusForbidden, Title: "this folder is always there", Detail: "move or copy what is in it"}
		case to == p || below(p, to): // of which there would be no end
			return &api.Problem{Status: http.StatusForbidden, Title: "it cannot go into itself", Detail: "choose another place"}
		}
	}
	if err := d.permit(r, p, to); err != nil {
		return err
	}
	switch r.Method {
	case "LOCK":
		return d.lock(out, r, p)
	case "UNLOCK":
		return d.unlock(out, r, p)
	}
	if r.Method == http.MethodGet || r.Method == http.MethodHead {
		unrun(out.Header(), path.Base(p))
	}
	r.Header.Del("If")
	inside := *r.URL
	inside.Path = c.prefix + strings.TrimPrefix(r.URL.Path, Prefix)
	r.URL = &inside
	(&webdav.Handler{Prefix: c.prefix, FileSystem: d.files, LockSystem: unlocked{}}).ServeHTTP(out, r)
	if gone := r.Method == http.MethodDelete || r.Method == "MOVE"; gone && out.refused == 0 && c.err == nil {
		d.files.locks.drop(func(l *lock) bool { return l.root == p || below(p, l.root) })
	}
	return nil
}

// unrun has a browser keep what it is sent, whatever that is called, and run nothing of it:
// anybody who may send has put it there.
func unrun(h http.Header, name string) {
	h.Set("Content-Type", plainBytes)
	h.Set("Content-Disposition", cmp.Or(mime.FormatMediaType("attachment", map[string]string{"filename": name}), "attachment"))
	h.Set("X-Content-Type-Options", "nosniff")
}

// plainBytes is the type of what the host does not know.
const plainBytes = "application/octet-stream"

// admit looks at a request before anything is done.
func (d *Door) admit(r *http.Request, c *call) error {
	switch r.Method {
	case http.MethodOptions:
	case "PROPFIND", http.MethodHead:
		if c.may(access.Read) != nil {
			if err := c.may(access.Send); err != nil {
				return err
			}
		}
		if r.Method == "PROPFIND" && r.Header.Get("Depth") != "0" && r.Header.Get("Depth") != "1" {
			return &api.Problem{Status: http.StatusForbidden, Title: "the folder is not listed to any depth", Detail: "ask with Depth: 0 or 1, one folder at a time"}
		}
	case http.MethodGet:
		if err := c.may(access.Read); err != nil {
			return err
		}
	default:
		if err := c.may(access.Send); err != nil {
			return err
		}
	}
	if len(r.URL.Path) > longestPath || len(r.Header.Get("Destination")) > 3*longestPath {
		return &api.Problem{Status: http.StatusRequestURITooLong, Title: "this path is too long", Detail: fmt.Sprintf("a path has at most %d bytes", longestPath)}
	}
	if r.Method == "MOVE" && r.Header.Get("Overwrite") == "" {
		r.Header.Set("Overwrite", "T") // RFC 4918, 10.6
	}
	if r.Method == http.MethodPut && r.Header.Get("Content-Range") != "" {
		return &api.Problem{Status: http.StatusBadRequest, Title: "the folder takes whole files", Detail: "send pieces to /v1/shelf/NAME, or all of it here"}
	}
	if r.Method == "PROPFIND" || r.Method == "PROPPATCH" || r.Method == "LOCK" {
		body, err := wellFormed(r.Body)
		if err != nil {
			return err
		}
		c.named = bytes.Contains(body, []byte("supportedlock"))
		if r.Method == "PROPFIND" && r.Header.Get("Depth") == "1" {
			if n := d.files.entries(r.Context(), clean(strings.TrimPrefix(r.URL.Path, Prefix))); n*len(body) > longestList {
				return &api.Problem{Status: http.StatusInsufficientStorage, Title: "so much is not listed at once", Detail: fmt.Sprintf("%d bytes of properties are asked for of each of %d files: ask for fewer", len(body), n)}
			}
		}
		r.Body, r.ContentLength = io.NopCloser(bytes.NewReader(body)), int64(len(body))
	}
	return nil
}

// bounded is how long a lock is held of what a client would like.
func bounded(wish string) time.Duration {
	first, _, _ := strings.Cut(wish, ",")
	seconds, err := strconv.ParseInt(strings.TrimPrefix(strings.TrimSpace(first), "Second-"), 10, 64)
	if err != nil || seconds <= 0 || seconds > int64(longestLock.Seconds()) {
		return longestLock
	}
	return time.Duration(seconds) * time.Second
}

// wellFormed reads a body of XML, which may be empty: small, shallow, without a document
// type, whose entities could grow without bound, and with no prefix that is bound to
// nothing (Namespaces in XML 1.0, 2.2), which the protocol's reader lets pass.
func wellFormed(r io.Reader) ([]byte, error) {
	wrong := func(what string, more ...any) error {
		return &api.Problem{Status: http.StatusBadRequest, Title: "the body is not XML as it should be", Detail: fmt.Sprintf(what, more...)}
	}
	body, err := io.ReadAll(io.LimitReader(r, longestXML+1))
	if err != nil {
		return nil, wrong("it did not arrive whole: %v", err)
	}
	if len(body) > longestXML {
		return nil, &api.Problem{Status: http.StatusRequestEntityTooLarge, Title: "the body is too large", Detail: fmt.Sprintf("at most %d bytes of XML are read", longestXML)}
	}
	depth := 0
	for in := xml.NewDecoder(bytes.NewReader(body)); ; {
		token, err := in.RawToken()
		if err == io.EOF {
			return body, nil
		}
		if err != nil {
			return nil, wrong("%v", err)
		}
		switch t := token.(type) {
		case xml.Directive:
			return nil, wrong("it has a document type")
		case xml.StartElement:
			if depth++; depth > deepestXML {
				return nil, wrong("it is more than %d elements deep", deepestXML)
			}
			for _, a := range t.Attr {
				if a.Name.Space == "xmlns" && a.Value == "" {
					return nil, wrong("the prefix %q is bound to nothing", a.Name.Local)
				}
			}
		case xml.EndElement:
			depth--
		}
	}
}

// answer holds back the text of a refusal, so that words can take its place.
type answer struct {
	http.ResponseWriter
	refused int // its status
}

func (a *answer) WriteHeader(status int) {
	if status >= 400 {
		a.refused = status
		return
	}
	a.ResponseWriter.WriteHeader(status)
}

func (a *answer) Write(b []byte) (int, error) {
	if a.refused != 0 {
		return len(b), nil
	}
	return a.ResponseWriter.Write(b)
}

// Unwrap is for http.ResponseController.
func (a *answer) Unwrap() http.ResponseWriter { return a.ResponseWriter }

// words says what a status of the protocol means here, and what to do.
var words = map[int][2]string{
	http.StatusForbidden:            {"this cannot be done in the folder", "see docs/doors.md for what can"},
	http.StatusNotFound:             {"there is nothing of that name in the folder", "list the folder again"},
	http.StatusMethodNotAllowed:     {"this cannot be done with that", "a folder of that name is there already, or it is no file"},
	http.StatusConflict:             {"the folder that it should go into is not there", "make it first"},
	http.StatusPreconditionFailed:   {"something is there already, or is not what was expected", "list the folder again"},
	http.StatusUnsupportedMediaType: {"a folder is made without a body", "send MKCOL alone"},
	http.StatusBadGateway:           {"the destination is on another host", "move it within this folder"},
	http.StatusBadRequest:           {"the request is not as the protocol wants it", "see RFC 4918"},
}

// refusal words a status.
func refusal(status int) *api.Problem {
	text, known := words[status]
	if !known {
		text[0] = strings.ToLower(http.StatusText(status))
	}
	return &api.Problem{Status: status, Title: text[0], Detail: text[1]}
}

// place is what a name in the folder is for.
type place struct {
	dir  string // "/" or a folder, cleaned
	name string
	then doors.Then
	door bool // what arrives here is for the shelf
}

// thens are the folders whose files are not only stored.
var thens = []doors.Then{doors.Print, doors.Queue}

// placed finds out what a cleaned path is for.
func placed(p string) place {
	dir, name := path.Split(p)
	at := place{dir: path.Clean(dir), name: name, then: doors.Store}
	if name == "" || doors.Passing(name) {
		return at
	}
	for _, then := range thens {
		if at.dir == "/"+string(then) {
			at.then, at.door = then, true
		}
	}
	if at.dir == "/" {
		at.door = !fixed(p)
	}
	return at
}

// fixed reports whether a path is one of the folders that are always there.
func fixed(p string) bool {
	return p == "/" || slices.Contains(thens, doors.Then(strings.TrimPrefix(p, "/")))
}
