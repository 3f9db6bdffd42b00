package guard

import (
	"fmt"
	"net"
	"net/http"
	"net/netip"
	"slices"
	"strings"

	"diathermon/internal/api"
	"diathermon/internal/web/desk"
)

// ends are the ends of names that no stranger has: of this computer (RFC 6761), of a network
// at home (RFC 6762, RFC 8375, RFC 9476 and what routers call theirs).
var ends = []string{"localhost", "local", "home.arpa", "internal", "lan", "home", "localdomain", "intranet", "private", "alt"}

// Named refuses requests for a name that is not the host's: a page of elsewhere whose name
// leads here would be of one origin with what it reads. An address is its own name, one
// without dots is of its network, and names are those that the owner gives and the
// certificate has.
func Named(names func() []string) func(http.Handler) http.Handler {
	return func(next http.Handler) http.Handler {
		return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
			b, _ := r.Context().Value(beforeKey{}).(before)
			if names == nil || b.proxied || r.URL.Path == halting || ours(r.Host, names) {
				next.ServeHTTP(w, r)
				return
			}
			desk.WriteProblem(w, &api.Problem{Status: http.StatusMisdirectedRequest, Title: "this host is not called so", Detail: fmt.Sprintf("%q leads here and is none of its names: use its address, or name it in diathermon.toml as web.names", r.Host)})
		})
	}
}

func ours(host string, names func() []string) bool {
	if name, _, err := net.SplitHostPort(host); err == nil {
		host = name
	}
	host = strings.TrimSuffix(strings.ToLower(strings.Trim(host, "[]")), ".")
	if _, err := netip.ParseAddr(host); err == nil || !strings.Contains(host, ".") {
		return true
	}
	is := func(name string) bool {
		name = strings.ToLower(name)
		rest, any := strings.CutPrefix(name, "*.")
		return name == host || any && strings.HasSuffix(host, "."+rest)
	}
	return slices.ContainsFunc(ends, func(end string) bool { return strings.HasSuffix(host, "."+end) }) || slices.ContainsFunc(names(), is)
}
