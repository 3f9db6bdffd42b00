package e2e

import (
	"flag"
	"path/filepath"
	"testing"
	"time"

	"github.com/chromedp/chromedp"

	"diathermon/internal/api"
	"diathermon/internal/samples"

	"bytes"
)

var shots = flag.String("shots", "", "write the console's screenshots to this folder")

// TestScreenshots makes the pictures of docs/screenshots; 'make screenshots'
// asks for it.
func TestScreenshots(t *testing.T) {
	if *shots == "" {
		t.Skip("no -shots folder")
	}
	printer := quick()
	printer.Warp, printer.Baud = 8, 115200
	b := start(t, printer).live()
	for _, part := range samples.Parts() {
		var body bytes.Buffer
		if err := part.Write(&body); err != nil {
			t.Fatal(err)
		}
		b.mustSend(part.Name, body.Bytes(), false)
	}
	if _, err := b.Start(t.Context(), "dust-cap-eyepiece-32mm.gcode"); err != nil {
		t.Fatal(err)
	}
	b.until("some layers", func(now api.Bench) bool { return now.Run.Progress.Layer >= 3 })
	desk := b.browser(1280, 800, false)
	phone := b.browser(390, 844, true)
	for _, shot := range []struct {
		name, path, ready string
	}{
		{"bench", "/bench", `[data-run-state]`},
		{"shelf", "/shelf", `[data-shelf]`},
		{"wire", "/wire", `[role=log] div`},
	} {
		b.do(desk, chromedp.Navigate(b.service.URL+shot.path), chromedp.WaitVisible(shot.ready), chromedp.Sleep(1500*time.Millisecond))
		b.shoot(desk, filepath.Join(*shots, "console-"+shot.name+".png"))
		b.do(phone, chromedp.Navigate(b.service.URL+shot.path), chromedp.WaitVisible(shot.ready), chromedp.Sleep(1500*time.Millisecond))
		b.shoot(phone, filepath.Join(*shots, "console-"+shot.name+"-phone.png"))
	}
}
