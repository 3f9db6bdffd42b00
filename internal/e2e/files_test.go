package e2e

import (
	"bytes"
	"encoding/json"
	"image/png"
	"math"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/chromedp"
	"github.com/chromedp/chromedp/kb"

	"diathermon/internal/api"
	"diathermon/internal/api/ops"
	"diathermon/internal/client"
	"diathermon/internal/samples"
	"diathermon/internal/simprinter"
)

// wholePart is a file that is larger than what is examined as it arrives.
func wholePart(t *testing.T) []byte {
	t.Helper()
	var b bytes.Buffer
	if err := samples.Parts()[2].Write(&b); err != nil {
		t.Fatal(err)
	}
	return b.Bytes()
}

// surveyed waits until a file has been surveyed.
func (b *bench) surveyed(name string) (f api.File) {
	b.t.Helper()
	for begun := time.Now(); f.Survey.State != "done"; {
		var err error
		if f, err = client.Call(b.t.Context(), b.Client, ops.GetFile, ops.FileFrom{Name: name}); err != nil {
			b.t.Fatal(err)
		}
		if time.Since(begun) > idlePatience {
			b.t.Fatalf("%s is %+v still", name, f.Survey)
		}
		time.Sleep(20 * time.Millisecond)
	}
	return f
}

// drawn waits for something that is drawn of a file, and returns it.
func (b *bench) drawn(path string, headers ...string) (*http.Response, string) {
	b.t.Helper()
	for begun := time.Now(); ; {
		res, body := b.raw("GET", path, nil, headers...)
		if res.StatusCode != http.StatusNotFound && res.StatusCode != http.StatusNoContent {
			return res, body
		}
		if time.Since(begun) > idlePatience {
			b.t.Fatalf("%s: %d %s", path, res.StatusCode, body)
		}
		time.Sleep(20 * time.Millisecond)
	}
}

func TestAFileIsKnownOnTheHostAndWithoutIt(t *testing.T) {
	t.Parallel()
	b := start(t, quick()).live()
	body := wholePart(t)
	stored, err := b.send("finder shoe.gcode", body, false)
	if err != nil || stored.File.Survey.State == "done" {
		t.Fatalf("stored: %+v, %v", stored.File.Survey, err)
	}
	f := b.surveyed("finder shoe.gcode")
	if f.Layers != 110 || len(f.Features) == 0 || f.Part == nil || math.Abs(f.Part.Max[0]-f.Part.Min[0]-53.6) > 1 || f.Sender == "" {
		t.Errorf("it is %+v", f)
	}
	res, picture := b.drawn("/v1/shelf/finder%20shoe.gcode/picture?size=64")
	if img, err := png.Decode(strings.NewReader(picture)); err != nil || img.Bounds().Dx() != 64 {
		t.Errorf("its picture: %v", err)
	}
	if again, _ := b.raw("GET", "/v1/shelf/finder%20shoe.gcode/picture?size=64", nil, "If-None-Match", res.Header.Get("ETag")); again.StatusCode != http.StatusNotModified {
		t.Errorf("asked for again: %d", again.StatusCode)
	}
	if res, tail := b.drawn("/v1/shelf/finder%20shoe.gcode/layers", "Range", "bytes=-8"); res.StatusCode != http.StatusPartialContent || tail != "DTHLAYRE" {
		t.Errorf("its layers end with %q, %d", tail, res.StatusCode)
	}

	// The command line says the same without a host.
	path := filepath.Join(t.TempDir(), "shoe.gcode")
	if err := os.WriteFile(path, body, 0o600); err != nil {
		t.Fatal(err)
	}
	var offline api.File
	out := b.keeper().ok(`"limits": "ordinary"`, "inspect", "--json", path)
	if err := json.Unmarshal([]byte(out), &offline); err != nil {
		t.Fatal(err)
	}
	if offline.DurationSeconds != f.DurationSeconds || offline.FilamentMM != f.FilamentMM || offline.Layers != f.Layers || offline.Digest != f.Digest {
		t.Errorf("inspected it takes %g s, on the host %g s", offline.DurationSeconds, f.DurationSeconds)
	}
	drawing := filepath.Join(t.TempDir(), "layer.png")
	b.keeper().ok("Layer 55 of 110: Z 11.00 mm, 0.20 mm high", "inspect", path, "--layer", "55", "--picture", drawing, "--size", "200")
	b.keeper().fails(2, "the file has layers 1 to 110", "inspect", path, "--layer", "111")
	b.keeper().fails(1, "this is a program", "inspect", "/bin/sh")
	if file, err := os.Open(drawing); err != nil {
		t.Error(err)
	} else {
		defer file.Close()
		if img, err := png.Decode(file); err != nil || img.Bounds().Dx() != 200 {
			t.Errorf("its drawing: %v", err)
		}
	}

	// Cut short, it is kept and cannot start.
	if _, err := b.send("cut.gcode", body[:len(body)/2], false); err != nil {
		t.Fatal(err)
	}
	b.surveyed("cut.gcode")
	if _, err := client.Call(t.Context(), b.Client, ops.StartRun, ops.Body(api.StartRun{File: "cut.gcode"})); status(err) != http.StatusConflict {
		t.Errorf("a file that was cut short starts: %v", err)
	}
	if cut, _ := client.Call(t.Context(), b.Client, ops.GetFile, ops.FileFrom{Name: "cut.gcode"}); len(cut.Checks) == 0 || cut.Checks[0].Level != "block" || !strings.Contains(cut.Checks[0].Title, "cut short") {
		t.Errorf("what stands in its way: %+v", cut.Checks)
	}
}

func TestTheTimeGoesByWhatThePrinterTells(t *testing.T) {
	t.Parallel()
	printer := quick()
	printer.Motion = simprinter.Motion{Speed: [4]float64{40, 40, 5, 20}, Acceleration: [4]float64{200, 200, 50, 1000}, Rest: [4]float64{5, 5, 0.3, 3}, Laying: 200, Travelling: 200, Retracting: 400}
	b := start(t, printer).live()
	b.mustSend("coupon.gcode", coupon(t, 30), false)
	before := b.surveyed("coupon.gcode")
	if before.Limits != "ordinary" {
		t.Errorf("before it tells: %s", before.Limits)
	}
	b.service.Close()
	b.config.Unmeasured = false
	b.up()
	b.live()
	after := before
	for begun := time.Now(); after.Limits != "printer"; {
		after = b.surveyed("coupon.gcode")
		if time.Since(begun) > idlePatience {
			t.Fatalf("it goes by %s still", after.Limits)
		}
		time.Sleep(20 * time.Millisecond)
	}
	if after.DurationSeconds < 1.5*before.DurationSeconds {
		t.Errorf("a slow printer takes %g s, a common one %g s", after.DurationSeconds, before.DurationSeconds)
	}
}

func TestTheConsoleShowsLayers(t *testing.T) {
	t.Parallel()
	b := start(t, quick()).live()
	b.mustSend("coupon.gcode", coupon(t, 30), false)
	b.drawn("/v1/shelf/coupon.gcode/layers")
	page := b.browser(1280, 800, false)
	b.click(page, `a[href="/shelf"]`, `[data-file="coupon.gcode"]`, `[data-start] a[href="/shelf/coupon.gcode"]`)
	b.do(page, chromedp.WaitVisible(`[data-layers][data-drawn="30"]`))
	painted := func() int {
		return ask(b, page, chromedp.Evaluate[int](`(() => { const c = document.querySelector('canvas'), o = new OffscreenCanvas(c.width, c.height).getContext('2d');
			o.drawImage(c, 0, 0); const d = o.getImageData(0, 0, c.width, c.height).data; let n = 0; for (let i = 3; i < d.length; i += 4) if (d[i] > 0) n++; return n })()`))
	}
	whole := painted()
	if whole < 2000 {
		t.Errorf("%d pixels of the layer are drawn", whole)
	}
	b.do(page, chromedp.Focus(`canvas`), chromedp.KeyEvent(kb.ArrowDown+kb.ArrowDown)) // two layers down
	b.do(page, chromedp.WaitVisible(`[data-layers][data-drawn="28"]`))
	b.click(page, `[data-deep]`)
	b.do(page, chromedp.WaitVisible(`[data-layers][data-drawn="28"]`))
	if n := painted(); n < 2000 {
		t.Errorf("%d pixels of the part are drawn", n)
	}
}

// A whole layer is drawn with its chords merged: nobody can tell it from one that is drawn chord by chord.
func TestACurveIsDrawnAsItIs(t *testing.T) {
	t.Parallel()
	b := start(t, quick()).live()
	var body bytes.Buffer
	rings(&body, 2, 4000)
	b.mustSend("rings.gcode", body.Bytes(), false)
	b.drawn("/v1/shelf/rings.gcode/layers")
	page := b.browser(1280, 800, false)
	b.visit(page, b.service.URL+"/shelf/rings.gcode")
	b.do(page, chromedp.WaitVisible(`[data-layers][data-drawn="2"]`))
	merged := ask(b, page, chromedp.Evaluate[int](`(() => { const c = document.querySelector('canvas'), o = new OffscreenCanvas(c.width, c.height).getContext('2d');
		o.drawImage(c, 0, 0); window.before = o.getImageData(0, 0, c.width, c.height).data; return +document.querySelector('[data-layers]').dataset.ribbons })()`))
	if merged < 400 || merged > 2000 {
		t.Errorf("4,000 chords of 20 circles are %d ribbons", merged)
	}
	b.do(page, chromedp.Focus(`canvas`), chromedp.KeyEvent(kb.ArrowLeft)) // one move less
	b.do(page, chromedp.WaitVisible(`[data-ribbons="3999"]`))
	painted := ask(b, page, chromedp.Evaluate[[]int](`(() => { const c = document.querySelector('canvas'), o = new OffscreenCanvas(c.width, c.height).getContext('2d');
		o.drawImage(c, 0, 0); const d = o.getImageData(0, 0, c.width, c.height).data, was = window.before; let n = 0, off = 0;
		for (let i = 0; i < d.length; i += 4) { if (d[i+3] > 0) n++; if (Math.abs(d[i+3] - was[i+3]) > 160 || d[i+3] > 200 && was[i+3] > 200 && Math.abs(d[i] - was[i]) > 64) off++ }
		return [n, off] })()`))
	if painted[0] < 20_000 || painted[1] > painted[0]/200 {
		t.Errorf("of %d pixels %d differ", painted[0], painted[1])
	}
}
