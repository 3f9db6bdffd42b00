package guard

import (
	"context"
	"errors"
	"io"
	"net/http"
	"net/url"
	"strings"
	"sync"
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
		st := &stage{control: http.NewResponseController(w)}
		out := &progress{ResponseWriter: w, stage: st}
		out.extend()
		defer out.extend() // for what is flushed after the handler
		if r.Body != nil && r.Body != http.NoBody {
			st.reading(time.Now().Add(desk.BodyWait))
			r.Body = &body{ReadCloser: r.Body, stage: st}
		}
		if !isText(r.URL) {
			desk.WriteProblem(out, &api.Problem{Status: http.StatusBadRequest, Title: "this address is not text", Detail: "it has a zero byte in it, or is not valid UTF-8"})
			return
		}
		next.ServeHTTP(out, r.WithContext(context.WithValue(r.Context(), stageKey{}, st)))
	})
}

type stageKey struct{}

// A stage is how far a request is, and whether it may go on.
type stage struct {
	control *http.ResponseController

	mu    sync.Mutex
	begun bool // the header of its answer has gone out
	over  bool // its holder has the rights no more that it went by
	left  int  // bytes that may be said about that
	last  bool // that is said, and is the last on its connection

	turn *turn // of the request's own goroutine; nil: it has none
}

// errOver ends the reading of a body, and the writing of an answer, whose sender has lost
// the right to it.
var errOver = errors.New("the token may not do that any more")

// reading says until when something must come.
func (s *stage) reading(until time.Time) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if !s.over {
		s.control.SetReadDeadline(until)
	}
}

// writing says until when what is written must be taken.
func (s *stage) writing(until time.Time) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if !s.over {
		s.control.SetWriteDeadline(until)
	}
}

// What may be said about why a request has ended: for how long, and how much.
const (
	lastWords    = 500 * time.Millisecond
	longestWords = 4 << 10
)

// end ends the request at once, whatever it waits for. One whose answer has not begun is
// told why.
func (s *stage) end() {
	s.mu.Lock()
	defer s.mu.Unlock()
	now := time.Now()
	s.over = true
	s.control.SetReadDeadline(now)
	if !s.begun {
		s.left, now = longestWords, now.Add(lastWords)
	}
	s.control.SetWriteDeadline(now)
}

// close lets go of a connection on which a request has been ended: net/http takes it for gone.
func (s *stage) close(h http.Header) {
	s.mu.Lock()
	over, begun, last := s.over, s.begun, s.last
	s.mu.Unlock()
	switch {
	case !over || last:
	case begun:
		panic(http.ErrAbortHandler)
	default:
		h.Set("Connection", "close")
	}
}

func (s *stage) ended() bool {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.over
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
	stage *stage
	since time.Time
	n     int
	ended bool
}

func (b *body) Read(p []byte) (int, error) {
	if b.stage.ended() {
		return 0, errOver
	}
	if now := time.Now(); !b.ended && (b.since.IsZero() || b.n >= bodyLeast) {
		b.since, b.n = now, 0
		b.stage.reading(now.Add(bodySpan))
	}
	b.stage.turn.leave()
	n, err := b.ReadCloser.Read(p)
	if b.stage.ended() { // what came with the end does not count, and why is said before anybody's turn
		return 0, errOver
	}
	b.stage.turn.take()
	b.n += n
	if err == io.EOF && !b.ended { // the connection is watched for its end from now on
		b.ended = true
		b.stage.reading(time.Time{})
	}
	return n, err
}

// progress is an answer that must go on being taken.
type progress struct {
	http.ResponseWriter
	stage   *stage
	instead bool // it was answered why the request has ended, in place of what else is said
}

func (p *progress) extend() { p.stage.writing(time.Now().Add(writeWait)) }

// begin notes that so many bytes of an answer go out, behind its header. One that has begun
// ends with the right to it.
func (p *progress) begin(n int) error {
	p.stage.mu.Lock()
	defer p.stage.mu.Unlock()
	if p.stage.over {
		if p.stage.left -= n; p.stage.left < 0 {
			return errOver
		}
	}
	p.stage.begun = true
	return nil
}

func (p *progress) WriteHeader(status int) {
	over := p.stage.ended() && !Begun(p)
	if over {
		p.stage.mu.Lock()
		p.stage.last = true
		p.stage.mu.Unlock()
		p.Header().Set("Connection", "close")
	}
	if status >= 400 && over { // whatever else it came to, this is why
		p.instead = true
		p.begin(0)
		p.Header().Del("Content-Encoding")
		p.Header().Del("Content-Length")
		desk.WriteProblem(p.ResponseWriter, notGood)
		return
	}
	if status >= 200 {
		p.begin(0)
	}
	p.extend()
	p.ResponseWriter.WriteHeader(status)
}

func (p *progress) Write(data []byte) (int, error) {
	if p.instead {
		return len(data), nil
	}
	if err := p.begin(len(data)); err != nil {
		return 0, err
	}
	p.extend()
	switch {
	case len(data) >= largeWrite:
		p.stage.turn.lend()
		defer p.stage.turn.take()
	case len(data) >= longWrite:
		p.stage.turn.leave()
		defer p.stage.turn.take()
	}
	return p.ResponseWriter.Write(data)
}

// How many bytes may have to wait for the network; and how many are too many for somebody to
// have them wait for as often as there are connections.
const (
	longWrite  = 2 << 10
	largeWrite = 128 << 10
)

// Flush sends what was written.
func (p *progress) Flush() {
	p.extend()
	p.stage.turn.leave()
	defer p.stage.turn.take()
	p.stage.control.Flush()
}

// Unwrap is for http.ResponseController.
func (p *progress) Unwrap() http.ResponseWriter { return p.ResponseWriter }

// Begun reports whether the header of an answer has gone out.
func Begun(w http.ResponseWriter) bool {
	p, ours := w.(*progress)
	if !ours {
		return false
	}
	p.stage.mu.Lock()
	defer p.stage.mu.Unlock()
	return p.stage.begun
}
