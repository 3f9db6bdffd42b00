package e2e

import (
	"context"
	"crypto/ecdh"
	"crypto/rand"
	"encoding/base64"
	"io"
	"net/http"
	"net/http/httptest"
	"strings"
	"testing"

	"github.com/chromedp/cdproto/browser"
	"github.com/chromedp/cdproto/cdp"
	"github.com/chromedp/cdproto/serviceworker"
	"github.com/chromedp/chromedp"

	"diathermon/internal/api"
	"diathermon/internal/api/ops"
	"diathermon/internal/client"
)

// Whoever is elsewhere is told: in the page that is open, and by the push service of a
// browser that is not; what a person does by hand calls nobody.
func TestPersonsAreTold(t *testing.T) {
	t.Parallel()
	b := start(t, quick())
	calls := make(chan string, 10)
	service := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		body, _ := io.ReadAll(r.Body)
		calls <- r.URL.Path + " " + r.Header.Get("Urgency") + " " + r.Header.Get("Content-Encoding")
		if len(body) > 4096 || !strings.HasPrefix(r.Header.Get("Authorization"), "vapid t=") {
			t.Errorf("%d bytes with %v", len(body), r.Header)
		}
		w.WriteHeader(http.StatusCreated)
	}))
	defer service.Close()
	b.service.Close()
	b.config.PushBy = service.Client()
	b.up()
	b.live()

	key, _ := ecdh.P256().GenerateKey(rand.Reader)
	called, err := client.Call(t.Context(), b.Client, ops.CallBrowser, ops.Body(api.CallBrowser{Name: "a phone", Endpoint: service.URL + "/my-phone", Key: base64.RawURLEncoding.EncodeToString(key.PublicKey().Bytes()), Secret: base64.RawURLEncoding.EncodeToString(make([]byte, 16))}))
	if err != nil {
		t.Fatal(err)
	}
	page := b.browser(390, 844, false)
	b.visit(page, b.service.URL+"/shelf")
	b.do(page, chromedp.WaitVisible(`[data-link]`))

	b.mustSend("cap.gcode", coupon(t, 5), true)
	b.do(page, chromedp.WaitVisible(`//*[@data-notice="done"][contains(., "Vesper: cap.gcode is done")]`))
	if got := <-calls; got != "/my-phone normal aes128gcm" {
		t.Errorf("its push service was told %q", got)
	}
	b.clear()
	b.mustSend("long.gcode", coupon(t, 300), true)
	run := b.untilRun("running")
	if _, err := client.Call(t.Context(), b.Client, ops.StopRun, ops.ID{ID: run.ID}); err != nil {
		t.Fatal(err)
	}
	var told api.Notices
	b.until("the stop is told", func(api.Bench) bool {
		told, err = client.Ask(t.Context(), b.Client, ops.ListNotices)
		return err == nil && len(told.Notices) > 1 && told.Notices[0].Kind == "stopped"
	})
	if n := told.Notices[0]; !n.Quiet || n.Run != run.ID || n.Text != "Stopped by hand." {
		t.Errorf("%+v", n)
	}
	all, err := client.Ask(t.Context(), b.Client, ops.ListBrowsers)
	if err != nil || len(all.Browsers) != 1 || all.Browsers[0].Waiting != 0 || all.Browsers[0].Service != "127.0.0.1" || all.Browsers[0].Trouble != "" || len(calls) != 0 {
		t.Errorf("%+v, %v, %d calls more", all, err, len(calls))
	}
	if err := client.Do(t.Context(), b.Client, ops.LeaveBrowser, ops.ID{ID: called.ID}); err != nil {
		t.Error(err)
	}
	if err := client.Do(t.Context(), b.Client, ops.LeaveBrowser, ops.ID{ID: called.ID}); err == nil {
		t.Error("it left twice")
	}

	// The worker that a push service wakes shows what it is told, whatever that is.
	b.do(page, chromedp.Func(func(ctx context.Context, t *chromedp.Target) error {
		_, err := cdp.Call(ctx, t, browser.SetPermission, browser.SetPermissionParams{Permission: &browser.PermissionDescriptor{Name: "notifications"}, Setting: "granted"})
		return err
	}), chromedp.Evaluate[chromedp.Void](`navigator.serviceWorker.register('/sw.js').then(() => navigator.serviceWorker.ready).then(() => { window.woken = true })`))
	b.until("the worker is there", func(api.Bench) bool { return ask(b, page, chromedp.Evaluate[bool](`!!window.woken`)) })
	b.do(page, chromedp.Evaluate[chromedp.Void](`(() => {
		const seen = document.body.appendChild(document.createElement('output'))
		seen.id = 'seen'
		setInterval(() => navigator.serviceWorker.ready.then(r => r.getNotifications()).then(all => { seen.textContent = all.map(n => [n.title, n.body, n.requireInteraction].join('|')).join('; ') }), 200)
	})()`))
	for said, want := range map[string]string{
		`{"title": "Vesper: cap.gcode is held", "text": "Out of filament.", "kind": "held", "urgent": true, "printer": "Vesper"}`: "Vesper: cap.gcode is held|Out of filament.|true",
		`rubbish`: "Diathermon|Something has happened.|false",
	} {
		b.do(page, chromedp.Func(func(ctx context.Context, t *chromedp.Target) error {
			if _, err := cdp.Call(ctx, t, serviceworker.Enable, cdp.Empty{}); err != nil {
				return err
			}
			_, err := cdp.Call(ctx, t, serviceworker.DeliverPushMessage, serviceworker.DeliverPushMessageParams{Origin: b.service.URL + "/", RegistrationID: "0", Data: said}) // the first of this browser
			return err
		}))
		b.do(page, chromedp.WaitVisible(`//*[@id="seen"][contains(., "`+want+`")]`))
	}
}
