package e2e

import (
	"context"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"github.com/chromedp/cdproto/cdp"
	cdppage "github.com/chromedp/cdproto/page"
	"github.com/chromedp/chromedp"

	"diathermon/internal/api"
	"diathermon/internal/api/ops"
	"diathermon/internal/client"
	"diathermon/internal/simprinter"
)

func TestTheConsolePrintsAFile(t *testing.T) {
	t.Parallel()
	b := start(t, quick()).live()
	body := coupon(t, 2)
	path := filepath.Join(t.TempDir(), "from-the-browser.gcode")
	if err := os.WriteFile(path, body, 0o644); err != nil {
		t.Fatal(err)
	}
	page := b.browser(1280, 800, false)
	b.do(page,
		chromedp.WaitVisible(`//*[@data-link][contains(., "live")]`),
	)
	b.click(page, `a[href="/shelf"]`)
	b.do(page, chromedp.SetUploadFiles(`input[type=file]`, []string{path}, chromedp.NodeReady))
	b.click(page, `[title="Start from-the-browser.gcode"]`, `//*[@data-start]//button[contains(., "Start")]`)
	b.do(page, chromedp.WaitVisible(`[data-run]`))
	b.untilRun("finished")
	b.do(page, chromedp.WaitVisible(`[data-run][data-state="finished"]`))
	b.mustHavePrinted(body)
	if got := ask(b, page, chromedp.Text(`[data-run]`)); !strings.Contains(got, "from-the-browser.gcode") || !strings.Contains(got, "100.0 %") {
		t.Errorf("the bench says %q", got)
	}
	if got := ask(b, page, chromedp.Text(`[data-heater=bed] [data-actual]`)); !strings.Contains(got, ".") {
		t.Errorf("the bed shows %q", got)
	}

	b.click(page, `a[href="/wire"]`)
	b.do(page,
		chromedp.SendKeys(`[role=log] ~ div form input`, "M118 hello from the bench\r"),
		chromedp.WaitVisible(`//*[@role="log"]//*[contains(., "echo:hello from the bench")]`),
	)
	b.click(page, `a[href="/bench"]`)
	b.do(page, chromedp.SendKeys(`[data-heater=bed] input`, "45\r"))
	b.until("the bed's new setpoint", func(now api.Bench) bool { return now.Heaters[1].Setpoint == 45 })
	b.do(page, chromedp.SendKeys(`[data-heater=bed] input`, "400"),
		chromedp.WaitVisible(`//*[@data-heater="bed"]//*[contains(., "at most 110")]`))
}

func TestTheConsoleHoldsStopsAndHalts(t *testing.T) {
	t.Parallel()
	printer := quick()
	printer.Warp = 40 // so that the file lasts for as long as a slow browser takes
	b := start(t, printer).live()
	b.mustSend("long.gcode", coupon(t, 300), true)
	b.untilRun("running")
	page := b.browser(390, 844, true)
	button := func(word string) string { return `//button[contains(., "` + word + `")]` }
	b.click(page, button("Hold"))
	b.untilRun("held")
	b.click(page, button("Resume"))
	b.untilRun("running")
	b.click(page, button("Stop"), button("Stop it"))
	b.untilRun("stopped")
	if wide := ask(b, page, chromedp.Evaluate[bool](`document.documentElement.scrollWidth > innerWidth`)); wide {
		t.Error("the page is wider than a phone")
	}
	for _, area := range []string{"/shelf", "/wire", "/bench"} { // in reach wherever one is
		b.click(page, `a[href="`+area+`"]`)
		b.do(page, chromedp.WaitVisible(button("Halt")))
	}
	b.click(page, button("Halt"))
	b.do(page, chromedp.WaitVisible(`[data-link-reason]`))
	if got := ask(b, page, chromedp.Text(`[data-link-reason]`)); !strings.Contains(got, "reset the printer") {
		t.Errorf("after a halt it says %q", got)
	}
	b.click(page, button("Reconnect"))
	b.live()
}

func TestAModelIsRefusedInTheConsolesWords(t *testing.T) {
	t.Parallel()
	b := start(t, quick()).live()
	path := filepath.Join(t.TempDir(), "knob.stl")
	if err := os.WriteFile(path, []byte("solid knob\nfacet normal 0 0 1\n"), 0o644); err != nil {
		t.Fatal(err)
	}
	page := b.browser(1280, 800, false)
	b.click(page, `a[href="/shelf"]`)
	b.do(page,
		chromedp.SetUploadFiles(`input[type=file]`, []string{path}, chromedp.NodeReady),
		chromedp.WaitVisible(`//*[@role="alert"][contains(., "model (STL)")]`),
	)
}

func TestTheConsolePicksARunUp(t *testing.T) {
	t.Parallel()
	b := start(t, quick()).live()
	page := b.browser(1280, 800, false)
	b.do(page, chromedp.WaitVisible(`//*[@data-link][contains(., "live")]`))
	b.interrupted(coupon(t, 10))
	button := func(word string) string { return `//button[contains(., "` + word + `")]` }
	b.do(page, chromedp.WaitVisible(`[data-run][data-state="interrupted"]`))
	if got := ask(b, page, chromedp.Text(`[data-run-reason]`)); !strings.Contains(got, "forgotten") || !strings.Contains(got, "bed is kept") {
		t.Errorf("the reason is %q", got)
	}
	b.click(page, button("Pick up…"))
	b.do(page, chromedp.WaitVisible(`[data-plan] li`)) // the plan is there before anything is chosen
	b.do(page, chromedp.SendKeys(`[data-layer] input`, "70"), chromedp.WaitVisible(`//*[@data-plan]//*[@role="alert"][contains(., "layers 1 to 10")]`))
	b.do(page, chromedp.SendKeys(`[data-layer] input`, "\b\b4"), chromedp.WaitVisible(`//*[@data-plan]//li[contains(., "Home X and Y")]`))
	b.click(page, `[data-sure] input`, `//*[@data-plan]//button[contains(., "Pick up")]`)
	b.untilRun("finished")
	b.do(page, chromedp.WaitVisible(`[data-run][data-state="finished"]`))
}

func TestTheConsoleWarmsUpAndShowsAlarms(t *testing.T) {
	t.Parallel()
	printer := quick()
	printer.Warp, printer.Dialect.Trusting = 8, true
	b := start(t, printer)
	b.service.Close()
	b.config.Past = printer.Warp
	b.up()
	b.live()
	page := b.browser(1280, 1600, true)
	b.do(page, chromedp.WaitVisible(`a[href="/heat"]`))
	b.click(page, `a[href="/heat"]`)
	b.do(page, chromedp.WaitVisible(`[data-heat-chart] canvas`), chromedp.WaitVisible(`//*[@data-health][contains(., "longer to")]`))
	b.click(page, `//span[normalize-space(.)="3 years"]`)
	b.do(page, chromedp.WaitVisible(`//summary[contains(., "What happened")]`))
	b.click(page, `//span[normalize-space(.)="15 min"]`, `[data-compare] .v-field`, `(//*[@role="option"][contains(., "Bed to")])[1]`)
	b.do(page, chromedp.WaitReady(`//*[@data-heat-chart]//figcaption[contains(., "Bed to")]`))
	b.click(page, `(//*[@data-warm-ups]//button[contains(., "Begin")])[1]`)
	b.until("the warm-up", func(now api.Bench) bool { return now.WarmUp != nil && now.WarmUp.WarmUp.Name == "PLA" })
	b.do(page, chromedp.WaitVisible(`//*[@data-warming][contains(., "PLA")]`), chromedp.WaitVisible(`//*[@data-warming][contains(., "ready")]`))
	b.click(page, `//button[contains(., "Cool everything")]`)
	b.until("everything off", func(now api.Bench) bool { return now.WarmUp == nil && now.Heaters[1].Setpoint == 0 })

	b.device.Do(func(board *simprinter.Board) { board.Break(true, simprinter.HeaterFault{Kind: simprinter.Shorted}) })
	b.do(page, chromedp.WaitVisible(`//*[@data-alarm][contains(., "shorted")]`))
	b.device.Do(func(board *simprinter.Board) { board.Break(true, simprinter.HeaterFault{}) })
	for {
		now, err := client.Ask(t.Context(), b.Client, ops.GetBench)
		if err != nil {
			t.Fatal(err)
		}
		if len(now.Alarms) == 0 {
			break
		}
		b.click(page, `(//*[@data-alarm]//button[@data-verdict="fault"])[1]`)
		b.until("one alarm less", func(then api.Bench) bool { return len(then.Alarms) < len(now.Alarms) })
	}
	b.do(page, chromedp.WaitNotPresent(`[data-alarm]`), chromedp.WaitVisible(`//*[@data-guard="bed/sensor"]//summary[contains(., "1 a fault")]`))
	b.click(page, `[data-guard="bed/sensor"] summary`)
	b.do(page, chromedp.WaitVisible(`//*[@data-guard="bed/sensor"]//li[contains(., "a fault: the sensor")]`))
}

// heedless counts in a page what fails there and is not heeded, and which calls fail.
const heedless = `
window.unheeded = []
window.failed = 0
addEventListener("unhandledrejection", e => window.unheeded.push(String(e.reason?.title ?? e.reason)))
const real = window.fetch
window.fetch = (...asked) => real(...asked).catch(e => { window.failed++; throw e })`

// before lets a script run in every page that is opened from now on.
func before(script string) chromedp.Action[chromedp.Void] {
	return chromedp.Func(func(ctx context.Context, t *chromedp.Target) error {
		_, err := cdp.Call(ctx, t, cdppage.AddScriptToEvaluateOnNewDocument, cdppage.AddScriptToEvaluateOnNewDocumentParams{Source: script})
		return err
	})
}

func TestAWarmUpOfManyHeatersIsKeptWhole(t *testing.T) {
	t.Parallel()
	b := start(t, quick())
	b.service.Close()
	b.config.Printer.Tools, b.config.Printer.Limits.Chamber = 2, 60
	b.up()
	b.live()
	want := api.WarmUp{Name: "ABS, both", Setpoints: map[string]float64{"nozzle0": 245, "nozzle1": 240, "bed": 100, "chamber": 45}, Order: "together"}
	if _, err := client.Call(t.Context(), b.Client, ops.PutWarmUp, ops.ForName(want.Name, want)); err != nil {
		t.Fatal(err)
	}
	page := b.browser(1280, 1600, false)
	b.do(page, before(heedless))
	b.visit(page, b.service.URL+"/heat")
	row := `//*[@data-warm-ups]//*[@data-warm-up][contains(., "ABS, both")]`
	b.click(page, row+`//button[contains(., "Change")]`)
	b.do(page, chromedp.WaitVisible(`[data-setpoint="chamber"] input`), chromedp.SendKeys(`[data-setpoint="nozzle1"] input`, "\b\b\b235"))
	b.click(page, `//button[contains(., "Keep it")]`)
	want.Setpoints["nozzle1"] = 235
	b.until("the change", func(api.Bench) bool {
		kept, err := client.Ask(t.Context(), b.Client, ops.ListWarmUps)
		if err != nil {
			t.Fatal(err)
		}
		i := slices.IndexFunc(kept.WarmUps, func(w api.WarmUp) bool { return w.Name == want.Name })
		if i < 0 || len(kept.WarmUps[i].Setpoints) != 4 {
			t.Fatalf("of the four setpoints are left %+v", kept.WarmUps)
		}
		return maps.Equal(kept.WarmUps[i].Setpoints, want.Setpoints)
	})

	b.service.Close() // and while the host is away nothing fails unheeded
	ask(b, page, chromedp.Poll[bool](`window.failed > 4`))
	if unheeded := ask(b, page, chromedp.Evaluate[[]string](`window.unheeded`)); len(unheeded) > 0 {
		t.Errorf("unheeded: %q", unheeded)
	}
}

// slowPast lets the console's question for the past traffic be answered only when
// the test says so.
const slowPast = `
const real = window.fetch
window.fetch = async (...asked) => {
  const answer = await real(...asked)
  if (String(asked[0].url ?? asked[0]).includes("/v1/wire?")) await new Promise(go => { window.answerNow = go })
  return answer
}`

func TestTheWireShowsThePastAlsoWhenNewLinesComeFirst(t *testing.T) {
	t.Parallel()
	b := start(t, quick()).live()
	say := func(text string) {
		if _, err := client.Call(t.Context(), b.Client, ops.Say, ops.Body(api.SayLine{Line: "M118 " + text})); err != nil {
			t.Fatal(err)
		}
	}
	page := b.browser(390, 844, false)
	say("the first word")
	b.do(page, before(slowPast))
	b.visit(page, b.service.URL+"/wire")
	ask(b, page, chromedp.Poll[bool](`window.answerNow !== undefined`))
	say("the second word")
	b.do(page,
		chromedp.WaitVisible(`//*[@role="log"]//*[contains(., "echo:the second word")]`),
		chromedp.Evaluate[chromedp.Void](`window.answerNow()`),
		chromedp.WaitVisible(`//*[@role="log"]//*[contains(., "echo:the first word")]`),
	)
	if said := ask(b, page, chromedp.Text(`[role=log]`)); strings.Index(said, "echo:the first word") > strings.Index(said, "echo:the second word") {
		t.Errorf("they are out of order: %s", said)
	}
}
