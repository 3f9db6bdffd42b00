package e2e

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/chromedp/chromedp"

	"diathermon/internal/api"
	"diathermon/internal/api/ops"
	"diathermon/internal/client"
)

// A fresh host leads its keeper through describing the printer, with what the printer
// tells filled in; what diathermon.toml names stays; the host begins anew with it, at the
// same address, and not while something is heated.
func TestAPrinterIsDescribedOnce(t *testing.T) {
	t.Parallel()
	dir := reachable(t)
	data, address, port := filepath.Join(dir, "data"), freeAddress(t), filepath.Join(dir, "port")
	launch(t, dir, "simulate", "--port", port, "--baud", "0", "--warp", "10").says("answers at")
	os.WriteFile(filepath.Join(dir, "diathermon.toml"), []byte("device = "+quote(port)+"\n[printer]\ndepth = 199\n"), 0o644)
	launch(t, dir, "serve", "--data", data, "--listen", address).says("serving")
	b := &bench{Client: dial(t, address, data), t: t}
	b.live()
	if firmware := b.until("the printer tells its size", func(api.Bench) bool {
		now, err := client.Ask(t.Context(), b.Client, ops.GetPrinter)
		return err == nil && now.Told.Width != nil
	}); firmware.Printer.Width != 220 {
		t.Fatalf("it is %g mm wide before anybody has said so", firmware.Printer.Width)
	}

	token, _ := os.ReadFile(filepath.Join(data, "keeper-token"))
	page := b.plainBrowser(390, 844)
	b.visit(page, "http://"+address+"/sign-in")
	b.do(page, chromedp.WaitVisible(`#code`), chromedp.Evaluate[chromedp.Void](fmt.Sprintf(`document.querySelector('#code').value = %q; setTimeout(() => document.querySelector('#form').requestSubmit())`, strings.TrimSpace(string(token)))))
	b.shown(page, `form[action="/first-start"]`)
	b.visit(page, "http://"+address+"/")
	b.shown(page, `[data-heard]`)
	b.click(page, `[data-next]`)
	b.do(page, chromedp.WaitVisible(`[data-guide] .swatch`))
	b.retype(page, "name", "Altair")
	b.click(page, `.swatch[aria-label=moss]`)
	b.click(page, `[data-next]`)
	b.do(page, chromedp.WaitVisible(`[data-field=width] input`))
	for field, want := range map[string]string{"width": "230 false", "depth": "199 true", "height": "240 false"} { // as the printer tells, but for what is decided
		if got := ask(b, page, chromedp.Evaluate[string](fmt.Sprintf(`(e => e.value + ' ' + e.disabled)(document.querySelector('[data-field=%s] input'))`, field))); got != want {
			t.Errorf("%s is asked for with %q, want %q", field, got, want)
		}
	}
	b.retype(page, "height", "235")
	b.click(page, `[data-later]`)
	b.until("it is kept where it was left", func(api.Bench) bool {
		now, err := client.Ask(t.Context(), b.Client, ops.GetPrinter)
		return err == nil && now.Guide == api.Guide{State: "later", Step: 2} && *now.Printer.Height == 235 && now.Waits
	})

	if _, err := client.Call(t.Context(), b.Client, ops.SetHeat, ops.ForHeater("bed", api.SetHeat{Setpoint: 50})); err != nil {
		t.Fatal(err)
	}
	b.until("the bed is heated", func(now api.Bench) bool { return now.Heaters[1].Setpoint == 50 })
	if err := client.Do(t.Context(), b.Client, ops.TakeUpPrinter, ops.Nothing{}); err == nil || !strings.Contains(err.Error(), "bed is heated") {
		t.Errorf("begun anew with a heated bed: %v", err)
	}
	client.Do(t.Context(), b.Client, ops.Cool, ops.Nothing{})
	b.until("nothing is heated", func(now api.Bench) bool { return now.Heaters[1].Setpoint == 0 })

	b.visit(page, "http://"+address+"/setup/guide")
	b.do(page, chromedp.WaitVisible(`[data-field=height] input`)) // where it was left
	for range 3 {
		before := ask(b, page, chromedp.Evaluate[string](`document.querySelector('[aria-current=step]').textContent`))
		b.click(page, `[data-next]`)
		b.do(page, chromedp.WaitVisible(`//*[@aria-current="step"][not(contains(., "`+before+`"))]`)) // the host may be away by then
	}
	for met := false; !met; { // it is away for a moment
		now, err := client.Ask(t.Context(), b.Client, ops.GetBench)
		met = err == nil && now.Printer.Name == "Altair" && now.Printer.Colour == "#64792f" && now.Printer.Width == 230 && now.Printer.Depth == 199 && now.Printer.Height == 235
		if t.Context().Err() != nil {
			return
		}
	}
	b.live()
	b.shown(page, `[data-guide]`)
	b.until("the tab tells which printer it is", func(api.Bench) bool {
		return strings.HasPrefix(ask(b, page, chromedp.Evaluate[string](`document.title`)), "Altair · ")
	})
	b.click(page, `[data-next]`)
	b.until("the guide is done", func(api.Bench) bool {
		now, err := client.Ask(t.Context(), b.Client, ops.GetPrinter)
		return err == nil && now.Guide.State == "done" && !now.Waits
	})

	for want, say := range map[string]api.Description{
		"diathermon.toml": {Depth: ptr(200.0)},
		"width (X) cannot be -1 mm: it can be 10 to 10000 mm": {Width: ptr(-1.0)},
		"colour is":      {Colour: ptr("red")},
		"nobody can see": {Name: ptr("Al\ntair")},
		"<= 40":          {Name: ptr(strings.Repeat("ü", 41))},
		"no fewer":       {Tools: ptr(3), Slots: ptr(2)},
		"printer.limits.nozzle: nozzle at most cannot be 900 °C": {HottestNozzle: ptr(900.0)},
		"printer.currency: ":          {Currency: ptr("\x1b[2J")},
		"that nobody can":             {Name: ptr("Ves\u202eper")},
		"printer.filament_diameter: ": {Filament: ptr(1e-320)},
		"printer.width: ":             {Width: ptr(1e-9)},
		"printer.nozzle_diameter: ":   {Nozzle: ptr(1e-3)},
	} {
		if _, err := client.Call(context.Background(), b.Client, ops.DescribePrinter, ops.Body(api.DescribePrinter{Description: say})); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%+v: %v, want %q", say, err, want)
		}
	}
}

// retype gives a field of the description another text.
func (b *bench) retype(page context.Context, field, text string) {
	b.t.Helper()
	b.do(page, chromedp.Evaluate[chromedp.Void](fmt.Sprintf(`(e => { e.value = %q; e.dispatchEvent(new Event('input')) })(document.querySelector('[data-field=%s] input'))`, text, field)))
}
