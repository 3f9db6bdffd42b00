// Package seal encrypts what comes and goes over the network (TLS), with a certificate
// that the owner has or with one that the host makes itself.
//
// It promises that the key of the host's own certificate stays the same when the
// certificate is made anew, so that programs which know the key go on; that a clock which
// was or is wrong by a year locks nobody out; and that a certificate which is put in place
// of another one is used from the next connection on. A certificate that cannot be used is
// told at the start; one that breaks later is logged, and the last good one goes on.
//
// One port takes both: a connection that begins as TLS does is unsealed, and another is
// handed on as it is. It leaves to web what may be asked for without encryption.
package seal

import (
	"crypto/sha256"
	"crypto/tls"
	"crypto/x509"
	"encoding/base64"
	"encoding/pem"
	"fmt"
	"log/slog"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"time"
)

// Config says with which certificate.
type Config struct {
	Certificate, Key string // paths of PEM files; empty: the host makes its own
	Folder           string // where it keeps its own
	Names            []string
	Addresses        []string // IP addresses that it is made for
	Log              *slog.Logger
	Now              func() time.Time
}

// A Seal is what connections are encrypted with.
type Seal struct {
	c Config

	mu     sync.Mutex
	now    *tls.Certificate
	stamps [2]time.Time // of the files that it was read from
	looked time.Time
}

// lookEvery is how often it is looked whether the certificate is to be renewed.
const lookEvery = 10 * time.Second

// Open reads the certificate, or makes one.
func Open(c Config) (*Seal, error) {
	if c.Now == nil {
		c.Now = time.Now
	}
	s := &Seal{c: c, looked: c.Now()}
	if s.own() {
		return s, s.keep()
	}
	return s, s.read()
}

func (s *Seal) own() bool { return s.c.Certificate == "" }

// read reads the owner's certificate.
func (s *Seal) read() error {
	stamps, err := s.stamped()
	if err != nil {
		return fmt.Errorf("the certificate cannot be read: %w", err)
	}
	pair, err := tls.LoadX509KeyPair(s.c.Certificate, s.c.Key)
	if err != nil {
		return fmt.Errorf("%s and %s are no certificate and its key: %w", s.c.Certificate, s.c.Key, err)
	}
	s.now, s.stamps = &pair, stamps
	return nil
}

// stamped is when the owner's files were last written.
func (s *Seal) stamped() (stamps [2]time.Time, err error) {
	for i, path := range []string{s.c.Certificate, s.c.Key} {
		info, err := os.Stat(path)
		if err != nil {
			return stamps, err
		}
		stamps[i] = info.ModTime()
	}
	return stamps, nil
}

// certificate is the one of now.
func (s *Seal) certificate() *tls.Certificate {
	s.mu.Lock()
	defer s.mu.Unlock()
	now := s.c.Now()
	if since := now.Sub(s.looked); since >= 0 && since < lookEvery {
		return s.now
	}
	s.looked = now
	var err error
	if s.own() {
		err = s.keep()
	} else if stamps, changed := s.stamped(); changed == nil && stamps != s.stamps {
		err = s.read()
	}
	if err != nil {
		s.c.Log.Error("the certificate of before is used still", "error", err)
	}
	return s.now
}

// Names are those of the certificate that is served; none, if there is none.
func (s *Seal) Names() []string {
	if s == nil {
		return nil
	}
	if c := s.certificate(); c != nil && c.Leaf != nil {
		return c.Leaf.DNSNames
	}
	return nil
}

// Scheme is that of the addresses at which others reach the host; of no Seal that without
// encryption.
func (s *Seal) Scheme() string {
	if s == nil {
		return "http"
	}
	return "https"
}

// Config is for whoever serves.
func (s *Seal) Config() *tls.Config {
	return &tls.Config{
		MinVersion:     tls.VersionTLS12,
		NextProtos:     []string{"http/1.1"},
		GetCertificate: func(*tls.ClientHelloInfo) (*tls.Certificate, error) { return s.certificate(), nil },
	}
}

// Shown is what persons and programs know a certificate by.
type Shown struct {
	Own         bool      // the host has made it: nobody else vouches for it
	Fingerprint string    // SHA-256 of the certificate, as browsers show it: AB:CD:…
	Key         string    // SHA-256 of its public key, as programs are told it: sha256//… (RFC 7469, 2.4)
	Until       time.Time // it is good
	PEM         []byte
}

// Shown is what the certificate of now is known by.
func (s *Seal) Shown() Shown {
	leaf := s.certificate().Leaf
	return Shown{
		Own: s.own(), Fingerprint: Fingerprint(leaf), Key: Key(leaf), Until: leaf.NotAfter,
		PEM: pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: leaf.Raw}),
	}
}

// Fingerprint is the SHA-256 of a certificate, as browsers show it.
func Fingerprint(c *x509.Certificate) string {
	sum := sha256.Sum256(c.Raw)
	parts := make([]string, len(sum))
	for i, b := range sum {
		parts[i] = fmt.Sprintf("%02X", b)
	}
	return strings.Join(parts, ":")
}

// Key is the SHA-256 of a certificate's public key (RFC 7469, 2.4), as curl takes it.
func Key(c *x509.Certificate) string {
	sum := sha256.Sum256(c.RawSubjectPublicKeyInfo)
	return "sha256//" + base64.StdEncoding.EncodeToString(sum[:])
}

func (s *Seal) in(name string) string { return filepath.Join(s.c.Folder, name) }
