package web

import (
	"compress/gzip"
	"io"
	"net/http"
	"net/http/httptest"
	"strings"
	"testing"
)

func TestAnswersArePackedWholeOrNotAtAll(t *testing.T) {
	long := strings.Repeat(`{"a":1}`, 1000)
	for what, c := range map[string]struct {
		takes, media, body string
		flushes            bool
		status             int
		packed             bool
	}{
		"JSON":                     {"gzip", "application/json; charset=utf-8", long, false, 200, true},
		"a problem":                {"br, gzip;q=0.5", "application/problem+json", long, false, 404, true},
		"for whom it is too much":  {"gzip;q=0", "application/json", long, false, 200, false},
		"for whom nothing is said": {"", "application/json", long, false, 200, false},
		"a few words":              {"gzip", "application/json", "{}", false, 200, false},
		"what is packed already":   {"gzip", "image/png", long, false, 200, false},
		"what somebody has packed": {"gzip, br", "application/json", long, false, 200, false},
		"what comes bit by bit":    {"gzip", "application/json", long, true, 200, false},
		"a stream":                 {"gzip", "text/event-stream", long, true, 200, false},
		"very much":                {"gzip", "application/json", strings.Repeat(long, 2000), false, 200, false},
		"nothing":                  {"gzip", "application/json", "", false, 204, false},
	} {
		server := httptest.NewServer(pack(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) {
			w.Header().Set("Content-Type", c.media)
			if what == "what somebody has packed" {
				w.Header().Set("Content-Encoding", "br")
			}
			w.WriteHeader(c.status)
			for at := 0; at < len(c.body); at += 1 << 20 {
				io.WriteString(w, c.body[at:min(at+1<<20, len(c.body))])
				if c.flushes {
					http.NewResponseController(w).Flush()
				}
			}
		})))
		r, _ := http.NewRequest("GET", server.URL, nil)
		r.Header.Set("Accept-Encoding", c.takes)
		res, err := http.DefaultTransport.RoundTrip(r)
		if err != nil {
			t.Fatal(err)
		}
		body := io.Reader(res.Body)
		if packed := res.Header.Get("Content-Encoding") == "gzip"; packed != c.packed {
			t.Errorf("%s: packed is %v", what, packed)
		} else if packed {
			if body, err = gzip.NewReader(res.Body); err != nil {
				t.Fatal(err)
			}
		}
		if got, err := io.ReadAll(body); string(got) != c.body || err != nil || res.StatusCode != c.status {
			t.Errorf("%s: %d, %d bytes, %v", what, res.StatusCode, len(got), err)
		}
		res.Body.Close()
		server.Close()
	}
}
