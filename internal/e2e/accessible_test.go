package e2e

import (
	"context"
	"os"
	"testing"

	"github.com/chromedp/chromedp"

	"diathermon/internal/api"
	"diathermon/internal/api/ops"
	"diathermon/internal/client"
)

// axe is what a checker of accessible pages finds, as its own project builds it.
const axe = "../../console/node_modules/axe-core/axe.min.js"

// findings runs the checker over the page as it stands.
const findings = `axe.run(document, {resultTypes: ["violations"]}).then(found => found.violations.flatMap(v => v.nodes.map(n => v.id + ": " + n.target.join(" ") + " " + n.html.slice(0, 160) + " — " + [...n.any, ...n.all, ...n.none].map(c => c.message).join("; "))))`

// themed is true once the console wears the theme that the browser asks for; the page
// for signing in has no theme to change.
const themed = `!document.querySelector(".v-application") || matchMedia("(prefers-color-scheme: dark)").matches === !!document.querySelector(".v-application.v-theme--dark")`

// mustBeAccessible looks for what keeps somebody from using a page, on a desk and on a
// phone, by day and by night.
func (b *bench) mustBeAccessible(page context.Context, what string) {
	b.t.Helper()
	for _, screen := range []struct {
		width, height int
		dark          bool
	}{{1280, 800, false}, {1280, 800, true}, {390, 844, true}, {390, 844, false}} {
		b.looksLike(page, screen.width, screen.height, screen.dark)
		ask(b, page, chromedp.Poll[bool](themed))
		ask(b, page, chromedp.Evaluate[any](`new Promise(drawn => requestAnimationFrame(() => requestAnimationFrame(() => drawn(0))))`, chromedp.EvalAwaitPromise))
		ask(b, page, chromedp.Poll[bool](`document.getAnimations().every(a => a.playState !== "running" || a.effect.getComputedTiming().iterations === Infinity)`))
		for _, f := range ask(b, page, chromedp.Evaluate[[]string](findings, chromedp.EvalAwaitPromise)) {
			b.t.Errorf("%s, %+v: %s", what, screen, f)
		}
		if ask(b, page, chromedp.Evaluate[bool](`document.documentElement.scrollWidth > innerWidth`)) {
			b.t.Errorf("%s, %+v: it is wider than the screen", what, screen)
		}
	}
}

func TestEveryPageIsAccessible(t *testing.T) {
	t.Parallel()
	script, err := os.ReadFile(axe)
	if err != nil {
		t.Fatal("the checker is not there, run 'make build': ", err)
	}
	printer := quick()
	printer.Warp = 20
	b := start(t, printer)
	b.service.Close()
	b.config.Past = printer.Warp
	b.config.Unguarded = true // at twenty times readings come in bursts where the machine is busy
	b.up()
	b.live()
	page := b.browser(1280, 800, false)
	load := ask(b, page, chromedp.Evaluate[float64](`performance.getEntriesByType("resource").filter(r => !r.name.includes("/v1/")).reduce((sum, r) => sum + r.encodedBodySize, performance.getEntriesByType("navigation")[0].encodedBodySize)`))
	t.Logf("the first load is %.0f bytes", load)
	if load < 50e3 || load > 200e3 {
		t.Errorf("the first load is %.0f bytes, at most 200,000 are allowed", load)
	}
	ask(b, page, chromedp.Evaluate[any](string(script)+"; 0"))
	look := func(what, area, there string) {
		t.Helper()
		b.click(page, `a[href="`+area+`"]`)
		b.do(page, chromedp.WaitVisible(there))
		b.mustBeAccessible(page, what)
	}
	look("nothing printed", "/bench", `[data-run]`)
	look("an empty shelf", "/shelf", `[data-empty]`)
	look("the heaters", "/heat", `[data-heat-chart] canvas`)
	b.click(page, `(//*[@data-warm-ups]//button[contains(., "Change")])[1]`)
	b.do(page, chromedp.WaitVisible(`[data-setpoint]`))
	b.mustBeAccessible(page, "a warm-up")
	b.do(page, chromedp.KeyEvent("\x1b"), chromedp.WaitNotPresent(`[data-setpoint]`))
	look("moving by hand", "/motion", `[data-place]`)
	look("the wire", "/wire", `[role=log]`)
	b.mustSend("long-name-of-a-dust-cap-for-the-finder.gcode", coupon(t, 300), true)
	b.untilRun("running")
	look("a run", "/bench", `[data-run][data-state="running"]`)
	look("a file", "/shelf", `[data-file]`)
	b.click(page, `[data-file]`)
	b.do(page, chromedp.WaitVisible(`[data-start]`))
	b.mustBeAccessible(page, "a start")
	b.drawn("/v1/shelf/long-name-of-a-dust-cap-for-the-finder.gcode/layers")
	b.click(page, `[data-start] a[href^="/shelf/"]`)
	b.do(page, chromedp.WaitVisible(`[data-layers]:not([data-drawn="0"])`))
	b.mustBeAccessible(page, "layers")
	if _, err := client.Call(t.Context(), b.Client, ops.RehearseFile, ops.Name{Name: "long-name-of-a-dust-cap-for-the-finder.gcode"}); err != nil {
		t.Fatal(err)
	}
	b.rehearsed("long-name-of-a-dust-cap-for-the-finder.gcode")
	look("a shelf again", "/shelf", `[data-file]`)
	b.click(page, `[data-file]`)
	b.click(page, `[data-start] a[href$="/rehearsal"]`)
	b.do(page, chromedp.WaitVisible(`[data-rehearsal] .lengths`))
	b.mustBeAccessible(page, "a rehearsal")
	look("a file again", "/shelf", `[data-file]`)
	b.click(page, `[data-file]`)
	b.do(page, chromedp.WaitVisible(`[data-start]`))
	b.do(page, chromedp.KeyEvent("\x1b"), chromedp.WaitNotPresent(`[data-start]`))
	b.halted(t)
	look("after a halt", "/bench", `[data-link-reason]`)
	b.device.Close()
	look("no printer", "/bench", `[data-connect]`)
	look("setup", "/setup", `[data-tokens] li`)
	b.visit(page, b.service.URL+"/sign-in")
	b.do(page, chromedp.WaitVisible(`#ask`))
	ask(b, page, chromedp.Evaluate[any](string(script)+"; 0"))
	b.mustBeAccessible(page, "signing in")
}

// halted says the emergency stop and waits until the link shows it.
func (b *bench) halted(t *testing.T) {
	if err := client.Do(t.Context(), b.Client, ops.Halt, ops.Nothing{}); err != nil {
		t.Fatal(err)
	}
	b.until("the link dead", func(now api.Bench) bool { return now.Link.State != "live" })
}
