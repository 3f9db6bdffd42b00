package guard

import (
	"net/http"
	"net/http/httptest"
	"net/netip"
	"strings"
	"testing"
)

func TestOnlyAProxyThatIsNamedIsBelieved(t *testing.T) {
	var got struct {
		from, path, base string
		secure           bool
	}
	h := Proxy{Trusted: []netip.Addr{netip.MustParseAddr("127.0.0.1"), netip.MustParseAddr("10.0.0.2")}, Path: "/vesper"}.Behind(http.HandlerFunc(func(_ http.ResponseWriter, r *http.Request) {
		got.from, got.path, got.base, got.secure = addressOf(r), r.URL.EscapedPath(), Base(r.Context()), secure(r)
	}))
	for what, c := range map[string]struct {
		peer, path, forwarded, proto string
		from, inside, base           string
		secure                       bool
	}{
		"direct":                          {"192.0.2.1", "/v1/bench", "", "", "192.0.2.1", "/v1/bench", "", false},
		"direct, with a claim":            {"192.0.2.1", "/v1/bench", "198.51.100.1", "https", "192.0.2.1", "/v1/bench", "", false},
		"direct, below the path":          {"192.0.2.1", "/vesper/v1/bench", "", "", "192.0.2.1", "/v1/bench", "/vesper", false},
		"through the proxy":               {"127.0.0.1", "/vesper/v1/shelf/a%2Fb", "198.51.100.1", "https", "198.51.100.1", "/v1/shelf/a%2Fb", "/vesper", true},
		"through two":                     {"127.0.0.1", "/vesper/", "198.51.100.1, 10.0.0.2", "http", "198.51.100.1", "/", "/vesper", false},
		"with an address that is made up": {"127.0.0.1", "/vesper/", "6.6.6.6, 198.51.100.1", "", "198.51.100.1", "/", "/vesper", false},
		"with nonsense":                   {"127.0.0.1", "/vesper/", "unknown", "", "127.0.0.1", "/", "/vesper", false},
		"with a port":                     {"127.0.0.1", "/vesper/", "198.51.100.1:5678", "", "198.51.100.1", "/", "/vesper", false},
		"of IPv6":                         {"127.0.0.1", "/vesper/", "2001:db8::1", "", "2001:db8::1", "/", "/vesper", false},
		"in brackets":                     {"127.0.0.1", "/vesper/", "[2001:db8::1]", "", "2001:db8::1", "/", "/vesper", false},
		"in brackets, with a port":        {"127.0.0.1", "/vesper/", `"[2001:db8::1]:443"`, "", "2001:db8::1", "/", "/vesper", false},
		"through two, both with ports":    {"127.0.0.1", "/vesper/", "198.51.100.1:1, 10.0.0.2:2", "", "198.51.100.1", "/", "/vesper", false},
		"with half a bracket":             {"127.0.0.1", "/vesper/", "[2001:db8::1", "", "127.0.0.1", "/", "/vesper", false},
		"another path":                    {"127.0.0.1", "/vesperal", "", "", "127.0.0.1", "/vesperal", "", false},
	} {
		r := httptest.NewRequest("GET", c.path, nil)
		r.RemoteAddr = c.peer + ":1234"
		r.Header.Set("X-Forwarded-For", c.forwarded)
		r.Header.Set("X-Forwarded-Proto", c.proto)
		h.ServeHTTP(httptest.NewRecorder(), r)
		if got.from != c.from || got.path != c.inside || got.base != c.base || got.secure != c.secure {
			t.Errorf("%s: %+v", what, got)
		}
	}
	sealed := Proxy{Trusted: []netip.Addr{netip.MustParseAddr("127.0.0.1")}}.Behind(Sealed(true)(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) { w.WriteHeader(http.StatusTeapot) })))
	for what, c := range map[string]struct {
		method, peer, path, forwarded, proto string
		want                                 int
	}{
		"plain, from this computer":              {"GET", "127.0.0.1", "/v1/bench", "", "", http.StatusTeapot},
		"plain, from another":                    {"GET", "192.0.2.1", "/v1/bench?a=b", "", "", http.StatusPermanentRedirect},
		"plain, from another, that claims a lot": {"GET", "192.0.2.1", "/v1/bench?a=b", "127.0.0.1", "https", http.StatusPermanentRedirect},
		"plain, from another, to change":         {"PUT", "192.0.2.1", "/v1/shelf/a", "", "", http.StatusForbidden},
		"plain, an emergency stop":               {"POST", "192.0.2.1", "/v1/halt", "", "", http.StatusTeapot},
		"a proxy that was reached by TLS":        {"PUT", "127.0.0.1", "/v1/shelf/a", "192.0.2.1", "https", http.StatusTeapot},
		"a proxy that was reached without":       {"PUT", "127.0.0.1", "/v1/shelf/a", "192.0.2.1", "http", http.StatusForbidden},
		"a proxy that was reached from its own":  {"PUT", "127.0.0.1", "/v1/shelf/a", "127.0.0.1", "http", http.StatusTeapot},
	} {
		r, w := httptest.NewRequest(c.method, "http://vesper:8437"+c.path, nil), httptest.NewRecorder()
		r.RemoteAddr = c.peer + ":1234"
		r.Header.Set("Authorization", "Bearer x")
		r.Header.Set("X-Forwarded-For", c.forwarded)
		r.Header.Set("X-Forwarded-Proto", c.proto)
		sealed.ServeHTTP(w, r)
		if w.Code != c.want || c.want == http.StatusPermanentRedirect && w.Header().Get("Location") != "https://vesper:8437"+c.path || c.want == http.StatusForbidden && !strings.Contains(w.Body.String(), "withdraw it") {
			t.Errorf("%s: %d %s %s", what, w.Code, w.Header().Get("Location"), w.Body)
		}
	}
	w := httptest.NewRecorder()
	h.ServeHTTP(w, httptest.NewRequest("GET", "/vesper", nil))
	if w.Header().Get("Location") != "/vesper/" {
		t.Errorf("the path alone leads to %q", w.Header().Get("Location"))
	}
}
