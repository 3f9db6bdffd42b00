package guard

import (
	"context"
	"net"
	"net/http"
	"net/netip"
	"slices"
	"strings"

	"diathermon/internal/api"
	"diathermon/internal/web/desk"
)

// A Proxy is what stands before the host, if its owner says so. What anybody else claims
// is not believed.
type Proxy struct {
	Trusted []netip.Addr // whose X-Forwarded headers are believed
	Path    string       // below which the host is seen from outside, as "/vesper"; empty: at the root
}

type beforeKey struct{}

// before is what is known of a request from before the host.
type before struct {
	path   string // that was taken off
	secure bool   // it came by TLS
	origin string // as browsers call it: scheme, name and port
	here   bool   // from this computer itself, through no proxy that says otherwise

	proxied bool // by a proxy that the owner trusts
}

// Behind sees requests as they were before the proxy.
func (p Proxy) Behind(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		b := before{secure: r.TLS != nil, here: local(addressOf(r))}
		r = r.WithContext(r.Context())
		if b.proxied = p.Trusts(addressOf(r)); b.proxied {
			b.secure = b.secure || strings.EqualFold(last(r.Header.Get("X-Forwarded-Proto")), "https")
			if from := p.client(r.Header.Values("X-Forwarded-For")); from != "" {
				r.RemoteAddr = net.JoinHostPort(from, "0")
				b.here = local(from)
			}
		}
		b.origin = "http://" + r.Host
		if b.secure {
			b.origin = "https://" + r.Host
		}
		if rest, below := strings.CutPrefix(r.URL.Path, p.Path); below && p.Path != "" && (rest == "" || rest[0] == '/') {
			if rest == "" {
				http.Redirect(w, r, p.Path+"/", http.StatusPermanentRedirect)
				return
			}
			u := *r.URL
			u.Path, u.RawPath = rest, strings.TrimPrefix(u.RawPath, p.Path)
			r.URL, b.path = &u, p.Path
		}
		next.ServeHTTP(w, r.WithContext(context.WithValue(r.Context(), beforeKey{}, b)))
	})
}

// Trusts reports whether an address is a trusted proxy's.
func (p Proxy) Trusts(address string) bool {
	a, err := netip.ParseAddr(address)
	return err == nil && slices.Contains(p.Trusted, a.Unmap())
}

// client is the nearest address that is no trusted proxy's: what is further away anybody
// may have written.
func (p Proxy) client(forwarded []string) string {
	all := strings.Split(strings.Join(forwarded, ","), ",")
	for _, one := range slices.Backward(all) {
		a, ok := forwardedAddr(strings.TrimSpace(one))
		if !ok {
			return ""
		}
		if !slices.Contains(p.Trusted, a.Unmap()) {
			return a.Unmap().String()
		}
	}
	return ""
}

// forwardedAddr reads an address as proxies write it: with a port or without, and of IPv6 in
// brackets, quoted (RFC 7239, 6) or bare.
func forwardedAddr(text string) (netip.Addr, bool) {
	text = strings.Trim(text, `"`)
	if with, err := netip.ParseAddrPort(text); err == nil {
		return with.Addr().WithZone(""), true
	}
	if inner, ok := strings.CutPrefix(text, "["); ok {
		text, ok = strings.CutSuffix(inner, "]")
		if !ok {
			return netip.Addr{}, false
		}
	}
	a, err := netip.ParseAddr(text)
	return a.WithZone(""), err == nil
}

func last(list string) string {
	return strings.TrimSpace(list[strings.LastIndex(list, ",")+1:])
}

// Base is the path below which the host is seen, without a slash at its end.
func Base(ctx context.Context) string {
	b, _ := ctx.Value(beforeKey{}).(before)
	return b.path
}

// Origin is where a browser sees the host: https://vesper.local:8437.
func Origin(ctx context.Context) string {
	b, _ := ctx.Value(beforeKey{}).(before)
	return b.origin
}

// secure reports whether a request came by TLS.
func secure(r *http.Request) bool {
	b, known := r.Context().Value(beforeKey{}).(before)
	return b.secure || !known && r.TLS != nil
}

func local(address string) bool {
	a, err := netip.ParseAddr(address)
	return err == nil && a.Unmap().IsLoopback()
}

// Sealed sends whoever comes without encryption to where there is some, if the host has a
// certificate. This computer's own programs may go on; so may an emergency stop.
func Sealed(on bool) func(http.Handler) http.Handler {
	return func(next http.Handler) http.Handler {
		return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
			b, _ := r.Context().Value(beforeKey{}).(before)
			if !on || b.secure || b.here || r.URL.Path == halting {
				next.ServeHTTP(w, r)
				return
			}
			to := "https://" + r.Host + b.path + r.URL.RequestURI()
			if r.Method == http.MethodGet || r.Method == http.MethodHead {
				http.Redirect(w, r, to, http.StatusPermanentRedirect)
				return
			}
			p := &api.Problem{Status: http.StatusForbidden, Title: "this host speaks https alone", Detail: "use https in place of http in its address"}
			if r.Header.Get("Authorization") != "" {
				p.Detail += "; the token that was sent has crossed the network for everyone to read: withdraw it and make another"
			}
			desk.WriteProblem(w, p)
		})
	}
}
