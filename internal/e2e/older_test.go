package e2e

import (
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"github.com/chromedp/chromedp"

	"diathermon/internal/api"
)

// younger takes from a browser what none had four years ago, and gathers what fails then.
const younger = `
for (const [from, names] of [
	[Array, 'fromAsync'], [Array.prototype, 'toSorted toSpliced toReversed with group groupToMap'], [Object, 'groupBy'], [Map, 'groupBy'],
	[Promise, 'withResolvers try'], [Set.prototype, 'union intersection difference symmetricDifference isSubsetOf isSupersetOf isDisjointFrom'],
	[Iterator.prototype, 'map filter take drop flatMap reduce toArray forEach some every find'], [String.prototype, 'isWellFormed toWellFormed'],
	[Document.prototype, 'startViewTransition'], [AbortSignal, 'any'], [URL, 'canParse parse'], [URLSearchParams.prototype, 'size'],
	[Element.prototype, 'setHTMLUnsafe moveBefore'], [HTMLElement.prototype, 'showPopover hidePopover togglePopover popover'],
	[PublicKeyCredential, 'parseCreationOptionsFromJSON parseRequestOptionsFromJSON'], [Uint8Array, 'fromBase64 fromHex'], [RegExp, 'escape'],
	[Intl.NumberFormat.prototype, 'formatRange'], [globalThis, 'scheduler navigation Iterator CloseWatcher requestIdleCallback'],
]) for (const name of names.split(' ')) delete from[name]
for (const typed of [Uint8Array, Float32Array]) for (const name of ['toSorted', 'toReversed', 'with']) delete Object.getPrototypeOf(typed.prototype)[name]
window.broken = []
addEventListener('error', e => window.broken.push(String(e.message)))
addEventListener('unhandledrejection', e => window.broken.push(String(e.reason?.stack ?? e.reason)))`

// TestTheConsoleWorksInAnEngineOfFourYearsAgo, in a pane of 500 pixels of height, as
// slicers have it.
func TestTheConsoleWorksInAnEngineOfFourYearsAgo(t *testing.T) {
	t.Parallel()
	b := start(t, quick()).live()
	b.mustSend("cap.gcode", coupon(t, 8), false)
	b.drawn("/v1/shelf/cap.gcode/layers")
	page := b.plainBrowser(900, 500)
	b.do(page, before(younger))
	b.visit(page, b.service.SignInLink())
	b.shown(page, `form[action="/first-start"]`)
	for path, there := range map[string]string{
		"/bench": `[data-link]`, "/shelf": `[data-file="cap.gcode"]`, "/shelf/cap.gcode": `[data-layers]:not([data-drawn="0"]) .outlook`,
		"/heat": `[data-warm-ups]`, "/wire": `[data-link]`, "/setup": `[data-connect-program]`,
	} {
		b.visit(page, b.service.URL+path)
		b.shown(page, there)
		b.until("the link is told on "+path, func(api.Bench) bool {
			return strings.Contains(ask(b, page, chromedp.Evaluate[string](`document.querySelector('[data-link]')?.textContent ?? ''`)), "live")
		})
		if broken := ask(b, page, chromedp.Evaluate[[]string](`window.broken`)); len(broken) > 0 {
			t.Errorf("%s: %q", path, broken)
		}
		if wide := ask(b, page, chromedp.Evaluate[int](`document.documentElement.scrollWidth`)); wide > 900 {
			t.Errorf("%s is %d pixels wide", path, wide)
		}
	}
	if there := ask(b, page, chromedp.Evaluate[bool](`'toSpliced' in Array.prototype && 'group' in Array.prototype`)); there {
		t.Error("nothing was taken away")
	}
}

// TestTheConsolesStylesAreThoseOfFourYearsAgo: what an older engine does not know of a
// style sheet it leaves out without a word.
func TestTheConsolesStylesAreThoseOfFourYearsAgo(t *testing.T) {
	sheets, err := filepath.Glob("../web/console/assets/*.css")
	if err != nil || len(sheets) == 0 {
		t.Fatal("there is no console: run 'make build'", err)
	}
	for _, sheet := range sheets {
		text, err := os.ReadFile(sheet)
		if err != nil {
			t.Fatal(err)
		}
		for what, pattern := range map[string]string{
			"a range of widths": `@media[^{]*[<>]`, "nesting": `[{;}]\s*&`, "a container": `@container`, "a younger colour": `oklch|oklab|light-dark\(|rgb\(from`,
			"a scope": `@scope|@starting-style`, "a mixed colour of ours or with an opacity": `color-mix\(in srgb, ?rgb\(var\(--[\w-]+\)\)[^,]*, ?transparent`,
		} {
			if found := regexp.MustCompile(pattern).Find(text); found != nil {
				t.Errorf("%s has %s: %s", filepath.Base(sheet), what, found)
			}
		}
	}
}
