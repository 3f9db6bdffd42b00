package e2e

import (
	"crypto/tls"
	"errors"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"diathermon/internal/api"
	"diathermon/internal/api/ops"
	"diathermon/internal/client"
	"diathermon/internal/simprinter"
)

// TestTheHostSpeaksTLS with a certificate of its own, to a browser's engine, to curl and
// to its command line.
func TestTheHostSpeaksTLS(t *testing.T) {
	t.Parallel()
	b := start(t, simprinter.Config{})
	b.service.Close()
	b.config.Web.OwnCertificate = true
	b.up()
	shown := b.service.Certificate()
	if !strings.HasPrefix(b.service.URL, "https://") || !shown.Own {
		t.Fatalf("%s, %+v", b.service.URL, shown)
	}
	if at, err := client.Ask(t.Context(), b.Client, ops.GetAddresses); err != nil || at.Seal == nil || at.Seal.Fingerprint != shown.Fingerprint || at.Seal.Key != shown.Key {
		t.Errorf("Setup tells %+v, %v", at.Seal, err)
	}

	// Others' clients: by the key, by the certificate, and not without either.
	token := "Authorization: Bearer " + b.service.Keeper
	file := filepath.Join(t.TempDir(), "part.gcode")
	os.WriteFile(file, coupon(t, 3), 0o600)
	pem := filepath.Join(t.TempDir(), "certificate.pem")
	status := []string{"-s", "-o", "answer", "-w", "%{http_code} %{exitcode}", "-H", token}
	if got := tool(t, "", "curl", append(status, "--insecure", "--pinnedpubkey", shown.Key, "-F", "file=@"+file, b.service.URL+"/v1/shelf")...); got != "201 0" {
		t.Errorf("a form by the key: %s", got)
	}
	if got := tool(t, "", "curl", append(status, "--insecure", "--pinnedpubkey", "sha256//"+strings.Repeat("A", 43)+"=", b.service.URL+"/v1/bench")...); got != "000 90" {
		t.Errorf("by another key: %s", got)
	}
	if got := tool(t, "", "curl", append(status, b.service.URL+"/v1/bench")...); got != "000 60" {
		t.Errorf("without either: %s", got)
	}
	plain := strings.Replace(b.service.URL, "https", "http", 1)
	os.WriteFile(pem, []byte(tool(t, "", "curl", "-s", "-H", token, plain+"/v1/addresses/certificate")), 0o600)
	if got := tool(t, "", "curl", append(status, "--cacert", pem, "-T", file, b.service.URL+"/v1/shelf/other.gcode")...); got != "201 0" {
		t.Errorf("raw bytes by the certificate: %s", got)
	}

	// The command line says whom it met, and goes by the key from then on.
	p := person{t: t, home: t.TempDir()}
	if _, said, code := p.run("pair", b.service.URL, b.service.PairCode()); code != 3 || !strings.Contains(said, shown.Fingerprint) || !strings.Contains(said, "--trust "+shown.Key) {
		t.Errorf("of a certificate that nobody vouches for: %d %s", code, said)
	}
	p.ok("Paired with Vesper at "+b.service.URL, "--trust", shown.Key, "pair", b.service.URL, b.service.PairCode())
	p.ok("Vesper", "status")
	wrong, err := client.New(b.service.URL, b.service.Keeper)
	if err != nil {
		t.Fatal(err)
	}
	wrong.Trust("sha256//" + strings.Repeat("A", 43) + "=")
	var untrusted *client.UntrustedError
	if _, err := client.Ask(t.Context(), wrong, ops.GetBench); !errors.As(err, &untrusted) || untrusted.Wanted == "" {
		t.Errorf("with another key: %v", err)
	}

	// Sessions are kept from plain connections; the key outlives a restart.
	secured := &http.Client{Transport: &http.Transport{TLSClientConfig: &tls.Config{InsecureSkipVerify: true}}}
	res, err := secured.PostForm(b.service.URL+"/sign-in", map[string][]string{"code": {b.service.PairCode()}})
	if err != nil {
		t.Fatal(err)
	}
	res.Body.Close()
	if c := res.Cookies(); len(c) != 1 || !c[0].Secure {
		t.Errorf("%d, the session's cookie: %+v", res.StatusCode, c)
	}
	secured.CloseIdleConnections()
	b.config.Listen = strings.TrimPrefix(b.service.URL, "https://")
	b.service.Close()
	b.up()
	p.ok("Vesper", "status")

	// Live events, and a withdrawal in the middle of them.
	ended := make(chan error, 1)
	made, err := client.Call(t.Context(), b.Client, ops.MakeToken, ops.Body(api.MakeToken{Name: "watcher", Scopes: []string{"read"}}))
	if err != nil {
		t.Fatal(err)
	}
	watcher, _ := client.New(b.service.URL, made.Token)
	watcher.Trust(shown.Key)
	first := make(chan bool, 1)
	go func() {
		ended <- watcher.Events(t.Context(), func(client.Event) {
			select {
			case first <- true:
			default:
			}
		})
	}()
	<-first
	if err := client.Do(t.Context(), b.Client, ops.WithdrawToken, ops.Ending{ID: made.Info.ID}); err != nil {
		t.Fatal(err)
	}
	select {
	case <-ended:
	case <-time.After(patience):
		t.Error("a withdrawn token goes on")
	}
}
