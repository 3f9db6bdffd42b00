package notices

import (
	"errors"
	"net"
	"net/http"
	"net/netip"
	"slices"
	"syscall"
	"time"
)

// Push services are out in the world, and who lets a browser be called says where. So the
// host connects to public addresses alone, as they are when a name has been resolved, and
// to nothing of the network that it is in.

// errInside means that an address is none of the world's.
var errInside = errors.New("it is no public address")

const (
	httpsPort    = "443"
	longestReply = 16 << 10 // bytes of an answer's header
)

// special are the networks that are nobody's in the world: the IANA's registries of
// special-purpose addresses (RFC 6890 and what has come since).
var special = prefixes(
	"0.0.0.0/8", "10.0.0.0/8", "100.64.0.0/10", "127.0.0.0/8", "169.254.0.0/16", "172.16.0.0/12", "192.0.0.0/24", "192.0.2.0/24",
	"192.31.196.0/24", "192.52.193.0/24", "192.88.99.0/24", "192.168.0.0/16", "192.175.48.0/24", "198.18.0.0/15", "198.51.100.0/24",
	"203.0.113.0/24", "224.0.0.0/4", "240.0.0.0/4",
	"2001::/23", "2001:db8::/32", "2002::/16", "2620:4f:8000::/48", "3fff::/20",
)

// world is where IPv6 addresses of the world are (RFC 4291, 2.4), and translated those of
// IPv4, whose last four bytes they have (RFC 6052).
var world, translated = netip.MustParsePrefix("2000::/3"), netip.MustParsePrefix("64:ff9b::/96")

func prefixes(all ...string) []netip.Prefix {
	out := make([]netip.Prefix, len(all))
	for i, text := range all {
		out[i] = netip.MustParsePrefix(text)
	}
	return out
}

// public reports whether an address is one of the world's.
func public(a netip.Addr) bool {
	a = a.Unmap()
	if translated.Contains(a) {
		b := a.As16()
		a = netip.AddrFrom4([4]byte(b[12:]))
	}
	return (a.Is4() || world.Contains(a) && a.Zone() == "") && !slices.ContainsFunc(special, func(p netip.Prefix) bool { return p.Contains(a) })
}

// near reports whether an address is in one of the networks that this computer is in.
func near(a netip.Addr) bool {
	all, err := net.InterfaceAddrs()
	if err != nil {
		return true
	}
	return slices.ContainsFunc(all, func(of net.Addr) bool {
		p, err := netip.ParsePrefix(of.String())
		return err == nil && p.Contains(a.Unmap())
	})
}

// outside refuses to connect to what is not public; it is told where, when a name has been
// resolved.
func outside(_, address string, _ syscall.RawConn) error {
	at, err := netip.ParseAddrPort(address)
	if err != nil {
		return err
	}
	if !public(at.Addr()) || near(at.Addr()) {
		return errInside
	}
	return nil
}

// caller is a client that goes to push services alone.
func caller() *http.Client {
	dial := &net.Dialer{Timeout: callFor, Control: outside}
	return &http.Client{
		Timeout:       callFor,
		CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse },
		Transport: &http.Transport{ // and no proxy, which would go anywhere
			DialContext: dial.DialContext, ForceAttemptHTTP2: true, TLSHandshakeTimeout: callFor,
			MaxResponseHeaderBytes: longestReply, MaxConnsPerHost: 2, MaxIdleConns: 4, IdleConnTimeout: time.Minute,
		},
	}
}
