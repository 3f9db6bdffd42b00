package guard

import (
	"net/http"
	"net/http/httptest"
	"net/netip"
	"testing"
)

func TestANameOfElsewhereIsNotTheHosts(t *testing.T) {
	p := Proxy{Trusted: []netip.Addr{netip.MustParseAddr("192.0.2.7")}}
	h := p.Behind(Named(func() []string { return []string{"vesper.example.org", "*.vpn.example"} })(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) { w.WriteHeader(http.StatusNoContent) })))
	ask := func(host, from, path string) int {
		r := httptest.NewRequest("GET", path, nil)
		r.Host, r.RemoteAddr = host, from+":1"
		w := httptest.NewRecorder()
		h.ServeHTTP(w, r)
		return w.Code
	}
	for host, good := range map[string]bool{
		"127.0.0.1:8437": true, "[::1]:8437": true, "[fe80::1%25eth0]": true, "192.168.1.7": true, "vesper": true, "vesper:8437": true, "localhost:8437": true, "vesper.localhost": true, "": true,
		"Vesper.Local.": true, "vesper.home.arpa:8437": true, "vesper.example.org": true, "VESPER.example.org:8437": true, "a.vpn.example": true, "vesper.lan": true,
		"elsewhere.example": false, "vesper.example.org.elsewhere.example": false, "127.0.0.1.elsewhere.example:8437": false, "local.example": false, "notlocal": true, "xvpn.example": false, "vpn.example": false,
	} {
		if code := ask(host, "198.51.100.1", "/sign-in"); (code == http.StatusNoContent) != good || !good && code != http.StatusMisdirectedRequest {
			t.Errorf("%q is answered with %d", host, code)
		}
	}
	if ask("elsewhere.example", "192.0.2.7", "/sign-in") != http.StatusNoContent {
		t.Error("a trusted proxy does not say by which name it is asked for")
	}
	if ask("elsewhere.example", "198.51.100.1", "/v1/halt") != http.StatusNoContent {
		t.Error("an emergency stop is refused")
	}
}
