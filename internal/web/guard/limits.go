package guard

import (
	"io"
	"net/http"
	"net/url"
	"strings"
	"time"
	"unicode/utf8"

	"diathermon/internal/api"
	"diathermon/internal/web/desk"
)

// Every stage of a request has a time limit. Its header's is the server's. A body
// must go on coming, an answer must go on being taken: how long they are does not
// matter.
const (
	bodySpan  = time.Minute // in which so many bytes of it must come, or its end
	bodyLeast = 64 << 10
	writeWait = 20 * time.Second // for a client to take what is written
)

// Limited gives every stage of a request its time limit, and refuses addresses that
// are not text.
func Limited(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		control := http.NewResponseController(w)
		out := &progress{ResponseWriter: w, control: control}
		out.extend()
		defer out.extend() // for what is flushed after the handler
		if r.Body != nil && r.Body != http.NoBody {
			control.SetReadDeadline(time.Now().Add(desk.BodyWait))
			r.Body = &body{ReadCloser: r.Body, control: control}
		}
		if !isText(r.URL) {
			desk.WriteProblem(out, &api.Problem{Status: http.StatusBadRequest, Title: "this address is not text", Detail: "it has a zero byte in it, or is not valid UTF-8"})
			return
		}
		next.ServeHTTP(out, r)
	})
}

func isText(u *url.URL) bool {
	if text := u.Path; strings.ContainsRune(text, 0) || !utf8.ValidString(text) {
		return false
	}
	query, err := url.QueryUnescape(strings.ReplaceAll(u.RawQuery, "+", " "))
	return err != nil || !strings.ContainsRune(query, 0) && utf8.ValidString(query)
}

// body is a request's body that must go on coming.
type body struct {
	io.ReadCloser
	control *http.ResponseController
	since   time.Time
	n       int
	ended   bool
}

func (b *body) Read(p []byte) (int, error) {
	if now := time.Now(); !b.ended && (b.since.IsZero() || b.n >= bodyLeast) {
		b.since, b.n = now, 0
		b.control.SetReadDeadline(now.Add(bodySpan))
	}
	n, err := b.ReadCloser.Read(p)
	b.n += n
	if err == io.EOF && !b.ended { // the connection is watched for its end from now on
		b.ended = true
		b.control.SetReadDeadline(time.Time{})
	}
	return n, err
}

// progress is an answer that must go on being taken.
type progress struct {
	http.ResponseWriter
	control *http.ResponseController
	begun   bool // its header has gone out
}

func (p *progress) extend() { p.control.SetWriteDeadline(time.Now().Add(writeWait)) }

func (p *progress) WriteHeader(status int) {
	p.begun = p.begun || status >= 200
	p.extend()
	p.ResponseWriter.WriteHeader(status)
}

func (p *progress) Write(data []byte) (int, error) {
	p.begun = true
	p.extend()
	return p.ResponseWriter.Write(data)
}

// Flush sends what was written.
func (p *progress) Flush() {
	p.extend()
	p.control.Flush()
}

// Unwrap is for http.ResponseController.
func (p *progress) Unwrap() http.ResponseWriter { return p.ResponseWriter }

// Begun reports whether the header of an answer has gone out.
func Begun(w http.ResponseWriter) bool {
	p, ours := w.(*progress)
	return ours && p.begun
}
