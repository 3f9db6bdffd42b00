package client

import (
	"context"
	"crypto/subtle"
	"crypto/tls"
	"crypto/x509"
	"fmt"
	"net/http"
	"net/url"

	"diathermon/internal/seal"
)

// UntrustedError says that nobody vouches for the certificate that was shown.
type UntrustedError struct {
	Address     string
	Fingerprint string // of the certificate, as browsers show it
	Key         string // of its public key, as Trust takes it
	Wanted      string // the key that was expected; empty: none was
	Err         error
}

func (e *UntrustedError) Error() string {
	if e.Wanted != "" {
		return fmt.Sprintf("%s shows another certificate than the one that is trusted: either the host has got a new key, or somebody stands between; compare %s with what Setup shows on the host, and pair again if it is the same", e.Address, e.Fingerprint)
	}
	return fmt.Sprintf("nobody vouches for the certificate of %s (%v): if Setup or the host's terminal shows the fingerprint %s, run 'diathermon --trust %s pair %s'", e.Address, e.Err, e.Fingerprint, e.Key, e.Address)
}

// MovedError says that the host is elsewhere, as one is that speaks https alone.
type MovedError struct{ From, To string }

func (e *MovedError) Error() string {
	return fmt.Sprintf("%s is at %s: use that address", e.From, e.To)
}

// Trust makes a client take a host's certificate by its key alone (sha256//…, RFC 7469,
// 2.4), whoever vouches for it and whatever the clocks say.
func (c *Client) Trust(key string) { c.trust = key }

// verify reports whether a connection is with the host that is meant (RFC 5280, 6; RFC
// 9525, 6).
func (c *Client) verify(s tls.ConnectionState) error {
	leaf := s.PeerCertificates[0]
	e := &UntrustedError{Address: c.base, Fingerprint: seal.Fingerprint(leaf), Key: seal.Key(leaf), Wanted: c.trust}
	if c.trust != "" {
		if subtle.ConstantTimeCompare([]byte(e.Key), []byte(c.trust)) == 1 {
			return nil
		}
		return e
	}
	between := x509.NewCertPool()
	for _, one := range s.PeerCertificates[1:] {
		between.AddCert(one)
	}
	if _, e.Err = leaf.Verify(x509.VerifyOptions{DNSName: c.name(), Intermediates: between}); e.Err != nil {
		return e
	}
	return nil
}

// name is what the certificate must be for. What TLS calls the server's name has no
// addresses.
func (c *Client) name() string {
	u, err := url.Parse(c.base)
	if err != nil {
		return c.base
	}
	return u.Hostname()
}

// Reach finds out whether a host answers, and follows it to where it is.
func (c *Client) Reach(ctx context.Context) error {
	res, err := c.do(ctx, http.MethodGet, "/healthz", nil, nil)
	if moved, ok := err.(*MovedError); ok {
		c.base = moved.To
		res, err = c.do(ctx, http.MethodGet, "/healthz", nil, nil)
	}
	if err != nil {
		return err
	}
	return res.Body.Close()
}
