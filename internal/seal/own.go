package seal

import (
	"crypto"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/tls"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/pem"
	"errors"
	"fmt"
	"io/fs"
	"math/big"
	"net"
	"os"
	"slices"
	"time"

	"diathermon/internal/durable"
)

const (
	goodFor    = 400 * 24 * time.Hour // before and after it is made: clocks are wrong, and by a year
	renewUnder = 30 * 24 * time.Hour  // what is left of it
)

// keep makes the host's own certificate, or makes it anew if that is due, with the key it
// has.
func (s *Seal) keep() error {
	if s.now != nil && s.good(s.now.Leaf) {
		return nil
	}
	key, err := s.key()
	if err != nil {
		return fmt.Errorf("the host's own certificate cannot be used: %w; without %s it makes another one, and programs are to be paired anew", err, s.c.Folder)
	}
	if s.now == nil {
		if pair, err := tls.LoadX509KeyPair(s.in("certificate.pem"), s.in("key.pem")); err == nil && s.good(pair.Leaf) {
			s.now = &pair
			return nil
		} // one that is cut short is made anew: the key is what counts
	}
	der, err := s.issue(key)
	if err != nil {
		return err
	}
	leaf, err := x509.ParseCertificate(der)
	if err != nil {
		return err
	}
	if err := durable.Replace(s.in("certificate.pem"), durable.Bytes(pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: der}))); err != nil {
		return err
	}
	s.now = &tls.Certificate{Certificate: [][]byte{der}, PrivateKey: key, Leaf: leaf}
	return nil
}

// good reports whether a certificate does for a while, and is for the names of now. It
// may be for other addresses: those change by themselves.
func (s *Seal) good(leaf *x509.Certificate) bool {
	now := s.c.Now()
	for _, name := range s.c.Names {
		if !slices.Contains(leaf.DNSNames, name) {
			return false
		}
	}
	return now.After(leaf.NotBefore) && now.Before(leaf.NotAfter.Add(-renewUnder))
}

// key is the host's own; at the first time it is made.
func (s *Seal) key() (crypto.Signer, error) {
	text, err := os.ReadFile(s.in("key.pem"))
	if errors.Is(err, fs.ErrNotExist) {
		key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
		if err != nil {
			return nil, err
		}
		der, err := x509.MarshalPKCS8PrivateKey(key)
		if err != nil {
			return nil, err
		}
		if err := os.MkdirAll(s.c.Folder, 0o700); err != nil {
			return nil, err
		}
		return key, durable.Replace(s.in("key.pem"), durable.Bytes(pem.EncodeToMemory(&pem.Block{Type: "PRIVATE KEY", Bytes: der})))
	}
	if err != nil {
		return nil, err
	}
	block, _ := pem.Decode(text)
	if block == nil {
		return nil, fmt.Errorf("%s holds no key", s.in("key.pem"))
	}
	key, err := x509.ParsePKCS8PrivateKey(block.Bytes)
	if err != nil {
		return nil, fmt.Errorf("%s: %w", s.in("key.pem"), err)
	}
	signer, ok := key.(crypto.Signer)
	if !ok {
		return nil, fmt.Errorf("%s: %T does not sign", s.in("key.pem"), key)
	}
	return signer, nil
}

// issue makes a certificate (RFC 5280) that vouches for itself and for no other.
func (s *Seal) issue(key crypto.Signer) ([]byte, error) {
	serial, err := rand.Int(rand.Reader, new(big.Int).Lsh(big.NewInt(1), 120))
	if err != nil {
		return nil, err
	}
	now := s.c.Now()
	c := &x509.Certificate{
		SerialNumber: serial, Subject: pkix.Name{CommonName: s.c.Names[0]},
		NotBefore: now.Add(-goodFor), NotAfter: now.Add(goodFor),
		KeyUsage: x509.KeyUsageDigitalSignature, ExtKeyUsage: []x509.ExtKeyUsage{x509.ExtKeyUsageServerAuth},
		BasicConstraintsValid: true, DNSNames: s.c.Names,
	}
	for _, a := range s.c.Addresses {
		if ip := net.ParseIP(a); ip != nil {
			c.IPAddresses = append(c.IPAddresses, ip)
		}
	}
	return x509.CreateCertificate(rand.Reader, c, c, key.Public(), key)
}
