package guard

import (
	"context"
	"net"
	"net/http"
	"net/netip"
	"slices"
	"strings"
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
}

// Behind sees requests as they were before the proxy.
func (p Proxy) Behind(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		b := before{secure: r.TLS != nil}
		r = r.WithContext(r.Context())
		if p.trusts(addressOf(r)) {
			b.secure = b.secure || strings.EqualFold(last(r.Header.Get("X-Forwarded-Proto")), "https")
			if from := p.client(r.Header.Values("X-Forwarded-For")); from != "" {
				r.RemoteAddr = net.JoinHostPort(from, "0")
			}
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

func (p Proxy) trusts(address string) bool {
	a, err := netip.ParseAddr(address)
	return err == nil && slices.Contains(p.Trusted, a.Unmap())
}

// client is the nearest address that is no trusted proxy's: what is further away anybody
// may have written.
func (p Proxy) client(forwarded []string) string {
	all := strings.Split(strings.Join(forwarded, ","), ",")
	for _, one := range slices.Backward(all) {
		a, err := netip.ParseAddr(strings.TrimSpace(one))
		if err != nil {
			return ""
		}
		if !slices.Contains(p.Trusted, a.Unmap()) {
			return a.Unmap().String()
		}
	}
	return ""
}

func last(list string) string {
	return strings.TrimSpace(list[strings.LastIndex(list, ",")+1:])
}

// Base is the path below which the host is seen, without a slash at its end.
func Base(ctx context.Context) string {
	b, _ := ctx.Value(beforeKey{}).(before)
	return b.path
}

// secure reports whether a request came by TLS.
func secure(r *http.Request) bool {
	b, known := r.Context().Value(beforeKey{}).(before)
	return b.secure || !known && r.TLS != nil
}
