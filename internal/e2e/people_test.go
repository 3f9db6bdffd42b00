package e2e

import (
	"context"
	"fmt"
	"net"
	"net/http"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/chromedp"

	"diathermon/internal/api"
	"diathermon/internal/api/ops"
	"diathermon/internal/client"
	"diathermon/internal/simprinter"
)

// shown waits until an element has a text and returns it. It asks again and again,
// because the driver loses sight of a page that a form leads to.
func (b *bench) shown(page context.Context, selector string) string {
	b.t.Helper()
	text := ""
	b.until(selector, func(api.Bench) bool {
		var err error
		text, err = attempt(b, page, chromedp.Evaluate[string](fmt.Sprintf("(e => e && e.checkVisibility() ? e.textContent : '')(document.querySelector(%q))", selector)))
		if err != nil && !strings.Contains(err.Error(), "navigated") { // away from under the question: it is asked again
			b.t.Fatalf("the browser: %v", err)
		}
		return err == nil && text != ""
	})
	return text
}

// fill fills in a form of name and password and sends it; an empty name stays as it is.
func (b *bench) fill(page context.Context, name, password string) {
	b.t.Helper()
	b.do(page, chromedp.Evaluate[chromedp.Void](fmt.Sprintf(`(() => {
		const form = document.querySelector('form')
		if (%[1]q) form.elements.name.value = %[1]q
		form.elements.password.value = %[2]q
		setTimeout(() => form.requestSubmit())
	})()`, name, password)))
}

func TestAFreshHostLetsItsFirstKeeperIn(t *testing.T) {
	t.Parallel()
	b := start(t, simprinter.Config{})
	page := b.plainBrowser(900, 500) // as low as a program's own browser pane
	b.visit(page, b.service.URL+"/bench")
	b.do(page, chromedp.WaitVisible(`#ask`))
	b.click(page, `#ask`)
	letters := b.shown(page, `#shown:not([hidden]) #letters`)
	if waiting, err := client.Ask(t.Context(), b.Client, ops.ListPairings); err != nil || len(waiting.Pairings) != 1 || waiting.Pairings[0].Letters != letters {
		t.Fatalf("%q is shown; %+v, %v", letters, waiting, err)
	}
	if _, err := client.Call(t.Context(), b.Client, ops.AnswerPairing, ops.Body(api.Answer{Letters: letters, Allow: true})); err != nil {
		t.Fatal(err)
	}
	b.shown(page, `form[action="/first-start"]`)
	b.fill(page, "Mira", "password")
	if said := b.shown(page, `.wrong`); !strings.Contains(said, "commonest") {
		t.Errorf("of a common password it says %q", said)
	}
	b.fill(page, "", "three words together")
	b.shown(page, `[data-link]`)
	all, err := client.Ask(t.Context(), b.Client, ops.ListAccounts)
	if err != nil || len(all.Accounts) != 1 || all.Accounts[0].Name != "Mira" || all.Accounts[0].Role != "keeper" {
		t.Fatalf("%+v, %v", all, err)
	}

	// A program asks, and the keeper says yes on whatever page is open.
	stranger, err := client.New(b.service.URL, "")
	if err != nil {
		t.Fatal(err)
	}
	asked, err := stranger.AskIn(t.Context(), "slicer", []string{"send"})
	if err != nil {
		t.Fatal(err)
	}
	if seen := b.shown(page, `[data-asking] .letters`); seen != asked.Letters {
		t.Errorf("the page shows %q, the program %q", seen, asked.Letters)
	}
	b.do(page, chromedp.Evaluate[chromedp.Void](`[...document.querySelectorAll('[data-asking] button')].at(-1).click()`))
	b.until("its being let in", func(api.Bench) bool {
		now, err := stranger.Outcome(t.Context(), asked)
		if err != nil {
			t.Fatal(err)
		}
		if now.State == "granted" {
			if stranger, err = client.New(b.service.URL, now.Token); err != nil {
				t.Fatal(err)
			}
		}
		return now.State == "granted"
	})
	if _, err := client.Ask(t.Context(), stranger, ops.GetBench); status(err) != 403 {
		t.Errorf("with a token to send it sees the bench: %v", err)
	}
	if _, err := stranger.Send(t.Context(), client.Sending{Name: "cap.gcode", Body: strings.NewReader(string(coupon(t, 2))), Size: -1}); err != nil {
		t.Errorf("it sends: %v", err)
	}

	// Signed out, it takes the password; and the sessions are listed and ended.
	b.visit(page, b.service.URL+"/setup")
	b.shown(page, `[data-tokens] li`)
	b.do(page, chromedp.Evaluate[chromedp.Void](`fetch('/sign-out', { method: 'POST' }).then(() => location.assign('/sign-in'))`))
	b.shown(page, `form[action="/sign-in"]`)
	b.fill(page, "mira", "three words together")
	b.shown(page, `[data-link]`)
	tokens, err := client.Ask(t.Context(), b.Client, ops.ListTokens)
	if err != nil {
		t.Fatal(err)
	}
	for _, k := range tokens.Tokens {
		if k.Kind == "session" {
			client.Do(t.Context(), b.Client, ops.WithdrawToken, ops.Ending{ID: k.ID})
		}
		if k.Name == "slicer" && (k.Used == nil || k.UsedFrom != "127.0.0.1" || k.Maker != "Mira") {
			t.Errorf("of the program is known %+v", k)
		}
	}
	b.visit(page, b.service.URL+"/bench")
	b.shown(page, `form[action="/sign-in"]`)
}

func TestAWatcherLooksAndAnOperatorPrints(t *testing.T) {
	t.Parallel()
	b := start(t, quick()).live()
	as := func(role string) *client.Client {
		if _, err := client.Call(t.Context(), b.Client, ops.MakeAccount, ops.Body(api.MakeAccount{Name: role, Role: role, Password: "three words together"})); err != nil {
			t.Fatal(err)
		}
		// The way in of its browser, by hand.
		res, err := (&http.Client{CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }}).
			PostForm(b.service.URL+"/sign-in", map[string][]string{"name": {role}, "password": {"three words together"}})
		if err != nil {
			t.Fatal(err)
		}
		defer res.Body.Close()
		c, err := client.New(b.service.URL, res.Cookies()[0].Value)
		if err != nil {
			t.Fatal(err)
		}
		return c
	}
	keeper, watcher, operator := as("keeper"), as("watcher"), as("operator")
	body := string(coupon(t, 2))
	send := func(c *client.Client) error {
		_, err := c.Send(t.Context(), client.Sending{Name: "cap.gcode", Body: strings.NewReader(body), Size: int64(len(body)), Then: "print"})
		return err
	}
	if _, err := client.Ask(t.Context(), watcher, ops.GetBench); err != nil {
		t.Errorf("a watcher looks: %v", err)
	}
	if err := send(watcher); status(err) != 403 || !strings.Contains(err.Error(), "your account may not do that") {
		t.Errorf("a watcher sends: %v", err)
	}
	if err := send(operator); err != nil {
		t.Errorf("an operator prints: %v", err)
	}
	b.untilRun("finished")
	if err := client.Do(t.Context(), operator, ops.RemoveFile, ops.Name{Name: "cap.gcode"}); status(err) != 403 {
		t.Errorf("an operator removes: %v", err)
	}
	if err := client.Do(t.Context(), keeper, ops.RemoveFile, ops.Name{Name: "cap.gcode"}); err != nil {
		t.Errorf("a keeper removes: %v", err)
	}
	if err := client.Do(t.Context(), watcher, ops.Halt, ops.Nothing{}); err != nil {
		t.Errorf("an emergency stop is for everybody who sees the printer: %v", err)
	}
}

// Ten thousand wrong passwords come from one address as fast as they are answered, and
// the owner signs in from another.
func BenchmarkWrongPasswords(b *testing.B) {
	s := start(b, simprinter.Config{})
	if _, err := client.Call(b.Context(), s.Client, ops.MakeAccount, ops.Body(api.MakeAccount{Name: "Mira", Role: "keeper", Password: "three words together"})); err != nil {
		b.Fatal(err)
	}
	try := func(from, password string) int {
		t := &http.Transport{DialContext: dialFrom(from), DisableKeepAlives: true}
		res, err := (&http.Client{Transport: t}).PostForm(s.service.URL+"/sign-in", map[string][]string{"name": {"Mira"}, "password": {password}})
		if err != nil {
			b.Fatal(err)
		}
		res.Body.Close()
		return res.StatusCode
	}
	for b.Loop() {
		begun, looked := time.Now(), 0
		for i := range 10_000 {
			if try("127.0.0.1", "wrong") == http.StatusUnauthorized {
				looked++
			}
			if i == 5000 {
				if got := try("127.0.0.2", "three words together"); got != http.StatusOK {
					b.Fatalf("the owner is answered %d", got)
				}
			}
		}
		b.ReportMetric(float64(looked), "answered")
		b.ReportMetric(float64(looked)/max(time.Since(begun).Minutes(), 1), "answered/min")
	}
}

// dialFrom connects from an address of this computer's own.
func dialFrom(address string) func(context.Context, string, string) (net.Conn, error) {
	return (&net.Dialer{LocalAddr: &net.TCPAddr{IP: net.ParseIP(address)}}).DialContext
}
