package seal

import (
	"bytes"
	"crypto/tls"
	"io"
	"log/slog"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"
)

// at returns a seal in a folder, whose clock can be moved.
func at(t *testing.T, c Config, now *time.Time) *Seal {
	t.Helper()
	c.Log, c.Now = slog.New(slog.DiscardHandler), func() time.Time { return *now }
	if c.Names == nil {
		c.Names = []string{"vesper", "localhost"}
	}
	s, err := Open(c)
	if err != nil {
		t.Fatal(err)
	}
	return s
}

// TestTheHostsOwnCertificateOutlivesItsClock: a host without a clock of its own wakes up
// years back, and is put right while it runs.
func TestTheHostsOwnCertificateOutlivesItsClock(t *testing.T) {
	now := time.Date(2025, 11, 3, 12, 0, 0, 0, time.UTC)
	dir := t.TempDir()
	s := at(t, Config{Folder: dir, Addresses: []string{"192.0.2.7", "no address"}}, &now)
	first := s.Shown()
	for what, c := range map[string]struct {
		by      time.Duration
		renewed bool
	}{
		"a month": {30 * 24 * time.Hour, false}, "a year": {365 * 24 * time.Hour, false}, "a year back": {-2 * 365 * 24 * time.Hour, true}, "ten days before its end": {390 * 24 * time.Hour, true}, "four years": {4 * 365 * 24 * time.Hour, true},
	} {
		before := s.Shown()
		then := now
		now = s.now.Leaf.NotBefore.Add(goodFor + c.by)
		after := s.Shown()
		if after.Key != first.Key || (after.Fingerprint != before.Fingerprint) != c.renewed {
			t.Errorf("%s later: key %v, renewed %v", what, after.Key == first.Key, after.Fingerprint != before.Fingerprint)
		}
		if leaf := s.now.Leaf; now.Before(leaf.NotBefore) || now.After(leaf.NotAfter) {
			t.Errorf("%s later: it is %s and good from %s to %s", what, now, leaf.NotBefore, leaf.NotAfter)
		}
		now = then
		s.now, s.looked = nil, time.Time{}
		if err := s.keep(); err != nil {
			t.Fatal(err)
		}
	}
	if again := at(t, Config{Folder: dir}, &now).Shown(); again.Key != first.Key {
		t.Error("after a restart it has another key")
	}
	if other := at(t, Config{Folder: dir, Names: []string{"other"}}, &now); other.Shown().Key != first.Key || other.now.Leaf.VerifyHostname("other") != nil {
		t.Error("with another name the key is another one, or the name is not there")
	}
	os.WriteFile(filepath.Join(dir, "certificate.pem"), []byte("-----BEGIN"), 0o600)
	if again := at(t, Config{Folder: dir}, &now).Shown(); again.Key != first.Key {
		t.Error("a certificate that is cut short costs the key")
	}
	os.WriteFile(filepath.Join(dir, "key.pem"), []byte("nonsense"), 0o600)
	if _, err := Open(Config{Folder: dir, Names: []string{"vesper"}}); err == nil || !strings.Contains(err.Error(), "key.pem holds no key") {
		t.Errorf("with a broken key: %v", err)
	}
}

// openssl runs Debian's.
func openssl(t *testing.T, stdin []byte, args ...string) []byte {
	t.Helper()
	cmd := exec.CommandContext(t.Context(), "openssl", args...)
	cmd.Stdin = bytes.NewReader(stdin)
	out, err := cmd.Output()
	if err != nil {
		t.Fatalf("openssl %s: %v", args, err)
	}
	return out
}

func TestFingerprintsAreThoseThatOthersShow(t *testing.T) {
	now := time.Now()
	shown := at(t, Config{Folder: t.TempDir(), Addresses: []string{"192.0.2.7"}}, &now).Shown()
	if out := string(openssl(t, shown.PEM, "x509", "-noout", "-fingerprint", "-sha256")); !strings.HasSuffix(strings.TrimSpace(out), "="+shown.Fingerprint) {
		t.Errorf("%s is not %s", out, shown.Fingerprint)
	}
	der := openssl(t, openssl(t, shown.PEM, "x509", "-noout", "-pubkey"), "pkey", "-pubin", "-outform", "der")
	if out := string(openssl(t, openssl(t, der, "dgst", "-sha256", "-binary"), "base64")); "sha256//"+strings.TrimSpace(out) != shown.Key {
		t.Errorf("%s is not %s", out, shown.Key)
	}
	if out := string(openssl(t, shown.PEM, "x509", "-noout", "-text")); !strings.Contains(out, "IP Address:192.0.2.7") || !strings.Contains(out, "CA:FALSE") || !strings.Contains(out, "DNS:vesper") {
		t.Error(out)
	}
}

func TestTheOwnersCertificateIsTakenAnewWhenItIsReplaced(t *testing.T) {
	dir := t.TempDir()
	cert, key := filepath.Join(dir, "cert.pem"), filepath.Join(dir, "key.pem")
	issue := func(name string, at time.Time) {
		openssl(t, nil, "req", "-x509", "-newkey", "rsa:2048", "-nodes", "-subj", "/CN="+name, "-keyout", key, "-out", cert)
		os.Chtimes(cert, at, at)
	}
	now := time.Now()
	issue("one", now.Add(-time.Hour))
	s := at(t, Config{Certificate: cert, Key: key}, &now)
	if shown := s.Shown(); shown.Own || s.now.Leaf.Subject.CommonName != "one" {
		t.Fatalf("%+v", shown)
	}
	os.WriteFile(cert, nil, 0o600)
	if now = now.Add(lookEvery); s.certificate().Leaf.Subject.CommonName != "one" {
		t.Error("half a replacement is used")
	}
	issue("two", now.Add(-time.Minute))
	if now = now.Add(lookEvery); s.certificate().Leaf.Subject.CommonName != "two" {
		t.Error("the replacement is not used")
	}
	for what, c := range map[string]Config{"missing": {Certificate: filepath.Join(dir, "none"), Key: key}, "swapped": {Certificate: key, Key: cert}} {
		if _, err := Open(c); err == nil {
			t.Errorf("%s: it is taken", what)
		}
	}
}

// TestOnePortTakesBoth, while somebody says nothing at all.
func TestOnePortTakesBoth(t *testing.T) {
	now := time.Now()
	s := at(t, Config{Folder: t.TempDir()}, &now)
	raw, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	l := s.Listener(raw)
	go func() {
		for {
			c, err := l.Accept()
			if err != nil {
				return
			}
			go io.Copy(c, c)
		}
	}()
	for range 20 { // who say nothing
		c, err := net.Dial("tcp", raw.Addr().String())
		if err != nil {
			t.Fatal(err)
		}
		defer c.Close()
	}
	echo := func(c net.Conn, err error) {
		t.Helper()
		if err != nil {
			t.Fatal(err)
		}
		defer c.Close()
		c.SetDeadline(time.Now().Add(20 * time.Second))
		back := make([]byte, 5)
		if _, err := c.Write([]byte("hello")); err != nil {
			t.Fatal(err)
		}
		if _, err := io.ReadFull(c, back); err != nil || string(back) != "hello" {
			t.Errorf("%q, %v", back, err)
		}
	}
	echo(net.Dial("tcp", raw.Addr().String()))
	for _, version := range []uint16{tls.VersionTLS12, tls.VersionTLS13} {
		c, err := tls.Dial("tcp", raw.Addr().String(), &tls.Config{InsecureSkipVerify: true, MinVersion: version, MaxVersion: version, VerifyConnection: func(c tls.ConnectionState) error {
			if Key(c.PeerCertificates[0]) != s.Shown().Key {
				t.Error("another key")
			}
			return nil
		}})
		echo(c, err)
	}
	if c, err := tls.Dial("tcp", raw.Addr().String(), &tls.Config{InsecureSkipVerify: true, MaxVersion: tls.VersionTLS11}); err == nil {
		c.Close()
		t.Error("an old version is spoken")
	}
	l.Close()
	if _, err := l.Accept(); err == nil {
		t.Error("it takes another one though it is closed")
	}
}
