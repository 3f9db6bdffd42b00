package e2e

import (
	"context"
	"os"
	"os/exec"
	"strings"
	"time"

	"github.com/chromedp/cdproto/cdp"
	"github.com/chromedp/cdproto/emulation"
	"github.com/chromedp/chromedp"
)

// browser opens a headless Chromium of the given size on the console, signed
// in.
func (b *bench) browser(width, height int, dark bool) context.Context {
	b.t.Helper()
	ctx := b.plainBrowser(width, height)
	b.looksLike(ctx, width, height, dark)
	b.visit(ctx, b.service.SignInLink())
	b.do(ctx, chromedp.WaitVisible(`form[action="/first-start"]`)) // and not now
	b.visit(ctx, b.service.URL+"/")
	b.do(ctx, chromedp.WaitVisible(`[data-link]`))
	return ctx
}

// plainBrowser opens a browser that has never been here.
func (b *bench) plainBrowser(width, height int) context.Context {
	b.t.Helper()
	path, err := exec.LookPath("chromium")
	if err != nil {
		b.t.Fatal("chromium is not installed: run 'make test', which installs it")
	}
	options := append(chromedp.DefaultExecAllocatorOptions[:],
		chromedp.ExecPath(path), chromedp.NoSandbox, chromedp.DisableGPU, chromedp.WindowSize(width, height),
		chromedp.Flag("disable-quic", true), chromedp.Flag("disable-component-update", true), chromedp.Flag("force-color-profile", "srgb"),
		chromedp.WSURLReadTimeout(patience),
	)
	ctx, cancelAllocator := chromedp.NewExecAllocator(context.Background(), options...)
	ctx, cancel := chromedp.NewContext(ctx)
	b.t.Cleanup(func() { cancel(); cancelAllocator() })
	b.looksLike(ctx, width, height, false)
	return ctx
}

// looksLike gives a page a size and a theme.
func (b *bench) looksLike(ctx context.Context, width, height int, dark bool) {
	b.t.Helper()
	scheme := "light"
	if dark {
		scheme = "dark"
	}
	b.do(ctx,
		chromedp.EmulateViewport(int64(width), int64(height)),
		chromedp.Func(func(ctx context.Context, t *chromedp.Target) error {
			_, err := cdp.Call(ctx, t, emulation.SetEmulatedMedia, emulation.SetEmulatedMediaParams{Features: []*emulation.MediaFeature{{Name: "prefers-color-scheme", Value: scheme}, {Name: "prefers-reduced-motion", Value: "reduce"}}})
			return err
		}),
	)
}

// visit goes to an address, again when the page was going elsewhere by itself
// in the same moment, as it does when it is signed out.
func (b *bench) visit(ctx context.Context, address string) {
	b.t.Helper()
	for tries := 1; ; tries++ {
		_, err := attempt(b, ctx, chromedp.Navigate(address))
		if err == nil {
			return
		}
		if tries == 5 || !strings.Contains(err.Error(), "ERR_ABORTED") {
			b.t.Fatalf("the browser, going to %s: %v", address, err)
		}
	}
}

// do carries out actions in the browser, within patience.
func (b *bench) do(ctx context.Context, actions ...chromedp.Action[chromedp.Void]) {
	b.t.Helper()
	for _, a := range actions {
		ask(b, ctx, a)
	}
}

// ask carries out one action in the browser, within patience, and returns what
// it found.
func ask[T any](b *bench, ctx context.Context, action chromedp.Action[T]) T {
	b.t.Helper()
	v, err := attempt(b, ctx, action)
	if err != nil {
		b.t.Fatalf("the browser: %v", err)
	}
	return v
}

// attempt is ask for what may fail.
func attempt[T any](b *bench, ctx context.Context, action chromedp.Action[T]) (T, error) {
	b.t.Helper()
	type result struct {
		value T
		err   error
	}
	done := make(chan result, 1) // a deadline on a browser's first context would end the browser
	go func() {
		v, err := chromedp.Run(ctx, action)
		done <- result{v, err}
	}()
	select {
	case r := <-done:
		return r.value, r.err
	case <-time.After(patience):
		b.t.Fatalf("the browser did not come to an end of it; the page says %q", tail(page(ctx)))
	}
	panic("not reached")
}

// still waits until nothing on the page moves to another place any more.
var still = chromedp.Poll[bool](`document.getAnimations().every(a => a.playState !== 'running' || a.effect.getTiming().iterations === Infinity)`)

// click waits for an element to be there and to rest, and clicks it.
func (b *bench) click(ctx context.Context, selectors ...string) {
	b.t.Helper()
	for _, s := range selectors {
		b.do(ctx, chromedp.WaitVisible(s))
		ask(b, ctx, still)
		b.do(ctx, chromedp.Click(s))
	}
}

// shoot takes a picture of the page into a file.
func (b *bench) shoot(ctx context.Context, path string) {
	b.t.Helper()
	if err := os.WriteFile(path, ask(b, ctx, chromedp.CaptureScreenshot()), 0o644); err != nil {
		b.t.Fatal(err)
	}
}

// page returns the text of the whole page, for a failure's message.
func page(ctx context.Context) string {
	said := make(chan string, 1)
	go func() {
		s, err := chromedp.Run(ctx, chromedp.Evaluate[string]("document.body.innerText"))
		if err != nil {
			s = err.Error()
		}
		said <- s
	}()
	select {
	case s := <-said:
		return s
	case <-time.After(5 * time.Second):
		return "nothing"
	}
}

// tail cuts a long text to its end.
func tail(s string) string { return s[max(0, len(s)-1500):] }
