package e2e

import (
	"bufio"
	"bytes"
	"fmt"
	"net"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/chromedp"

	"diathermon/internal/api"
	"diathermon/internal/api/ops"
	"diathermon/internal/client"
)

// proxied starts Debian's web server before a host, which is seen below /vesper there, and
// returns its address.
func (b *bench) proxied() string {
	b.t.Helper()
	path, err := exec.LookPath("nginx")
	if err != nil {
		b.t.Fatal("nginx is not installed: run 'make test', which installs it")
	}
	dir := b.t.TempDir()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		b.t.Fatal(err)
	}
	address := l.Addr().String()
	l.Close()
	// What docs/away.md says, with the folders of this test.
	config := fmt.Sprintf(`
daemon off; pid %[1]s/pid; error_log %[1]s/error.log; worker_processes 1;
events {}
http {
  access_log off; client_body_temp_path %[1]s/body; proxy_temp_path %[1]s/proxy; fastcgi_temp_path %[1]s/f; uwsgi_temp_path %[1]s/u; scgi_temp_path %[1]s/s;
  server {
    listen %[2]s;
    location /vesper/ {
      proxy_pass %[3]s;
      proxy_http_version 1.1;
      proxy_set_header Host $http_host;
      proxy_set_header X-Forwarded-For $proxy_add_x_forwarded_for;
      proxy_set_header X-Forwarded-Proto $scheme;
      proxy_request_buffering off;
      proxy_read_timeout 1h;
      client_max_body_size 0;
    }
  }
}`, dir, address, b.service.URL)
	os.WriteFile(filepath.Join(dir, "nginx.conf"), []byte(config), 0o644)
	os.Chmod(dir, 0o755)
	cmd := exec.Command(path, "-c", filepath.Join(dir, "nginx.conf"), "-p", dir, "-e", filepath.Join(dir, "error.log"))
	if err := cmd.Start(); err != nil {
		b.t.Fatal(err)
	}
	b.t.Cleanup(func() {
		cmd.Process.Signal(os.Interrupt)
		cmd.Wait()
		if said, _ := os.ReadFile(filepath.Join(dir, "error.log")); b.t.Failed() {
			b.t.Logf("the proxy: %s", said)
		}
	})
	b.until("the proxy", func(api.Bench) bool {
		c, err := net.Dial("tcp", address)
		if err == nil {
			c.Close()
		}
		return err == nil
	})
	return "http://" + address + "/vesper"
}

func TestTheHostIsReachedThroughAProxyBelowAPath(t *testing.T) {
	t.Parallel()
	b := start(t, quick()).live()
	b.service.Close()
	b.config.Web.Proxies, b.config.Web.Path = []string{"127.0.0.1"}, "/vesper"
	b.up()
	b.live()
	away := b.proxied()

	// The command line, an upload, the folder and the events.
	c, err := client.New(away, b.service.Keeper)
	if err != nil {
		t.Fatal(err)
	}
	body := coupon(t, 60)
	if stored, err := c.Send(t.Context(), client.Sending{Name: "cap.gcode", Body: bytes.NewReader(body), Size: int64(len(body))}); err != nil || stored.Outcome != "created" {
		t.Fatalf("sent through it: %+v, %v", stored.Outcome, err)
	}
	b.shelved("cap.gcode", body)
	said := tool(t, "machine 127.0.0.1 login maker password "+b.service.Keeper+"\nls\nmove cap.gcode other.gcode\nls\nquit\n", "cadaver", away+"/dav/")
	if b.shelved("other.gcode", body); !strings.Contains(said, "other.gcode") {
		t.Errorf("the folder through it: %s", said)
	}
	req, _ := http.NewRequestWithContext(t.Context(), "GET", away+"/v1/events", nil)
	req.Header.Set("Authorization", "Bearer "+b.service.Keeper)
	res, err := http.DefaultClient.Do(req)
	if err != nil {
		t.Fatal(err)
	}
	defer res.Body.Close()
	begun := time.Now()
	for lines := bufio.NewScanner(res.Body); lines.Scan(); { // one that happens later comes at once
		if lines.Text() == "event: heat" && time.Since(begun) > 200*time.Millisecond {
			break
		}
	}
	if time.Since(begun) > 20*time.Second {
		t.Errorf("an event took %s", time.Since(begun))
	}

	// The console, from signing in to a page of its own and its pictures.
	page := b.plainBrowser(1280, 800)
	b.visit(page, away+"/shelf")
	b.shown(page, `#ask`)
	b.click(page, `#ask`)
	letters := b.shown(page, `#shown:not([hidden]) #letters`)
	if waiting, err := client.Ask(t.Context(), b.Client, ops.ListPairings); err != nil || len(waiting.Pairings) != 1 || waiting.Pairings[0].From != "127.0.0.1" {
		t.Errorf("who asks: %+v, %v", waiting, err)
	}
	client.Call(t.Context(), b.Client, ops.AnswerPairing, ops.Body(api.Answer{Letters: letters, Allow: true}))
	b.shown(page, `form[action="/vesper/first-start"]`)
	b.drawn("/v1/shelf/other.gcode/picture?size=64")
	b.visit(page, away+"/shelf")
	b.shown(page, `[data-file], [data-shelf] li`)
	b.until("the pictures", func(api.Bench) bool {
		return ask(b, page, chromedp.Evaluate[bool](`[...document.querySelectorAll('img.picture')].some(i => i.naturalWidth > 0) && document.querySelector('[data-link]').textContent.includes('live')`))
	})
}
