package e2e

import (
	"bytes"
	"context"
	"net/http"
	"strings"
	"testing"

	"github.com/chromedp/cdproto/cdp"
	"github.com/chromedp/cdproto/webauthn"
	"github.com/chromedp/chromedp"

	"diathermon/internal/api"
	"diathermon/internal/api/ops"
	"diathermon/internal/client"
	"diathermon/internal/simprinter"
)

// call makes a call to the browser itself.
func call[P, R any](b *bench, page context.Context, command cdp.Command[P, R], params P) R {
	b.t.Helper()
	var out R
	b.do(page, chromedp.Func(func(ctx context.Context, t *chromedp.Target) (err error) {
		out, err = cdp.Call(ctx, t, command, params)
		return err
	}))
	return out
}

// TestAPasskeySignsIn, made and used by Chromium with a device of its own.
func TestAPasskeySignsIn(t *testing.T) {
	t.Parallel()
	b := start(t, simprinter.Config{})
	at := strings.Replace(b.service.URL, "127.0.0.1", "localhost", 1) // a page that is secure, at a name
	page := b.plainBrowser(1000, 700)
	call(b, page, webauthn.Enable, webauthn.EnableParams{})
	device := call(b, page, webauthn.AddVirtualAuthenticator, webauthn.AddVirtualAuthenticatorParams{Options: &webauthn.VirtualAuthenticatorOptions{
		Protocol: webauthn.AuthenticatorProtocolCtap2, Transport: webauthn.AuthenticatorTransportInternal,
		HasResidentKey: true, HasUserVerification: true, IsUserVerified: true, AutomaticPresenceSimulation: true,
	}}).AuthenticatorID
	if _, err := client.Call(t.Context(), b.Client, ops.MakeAccount, ops.Body(api.MakeAccount{Name: "Mira", Role: "keeper", Password: "three words together"})); err != nil {
		t.Fatal(err)
	}
	b.visit(page, at+"/sign-in")
	b.shown(page, `form[action="/sign-in"] button`)
	if ask(b, page, chromedp.Evaluate[bool](`document.getElementById('passkey').checkVisibility()`)) {
		t.Error("a passkey is asked for though nobody has one")
	}
	b.fill(page, "Mira", "three words together")
	b.shown(page, `[data-link]`)
	b.visit(page, at+"/setup")
	b.click(page, `[data-add-passkey]`)
	b.do(page, chromedp.SendKeys(`[data-passkeys] input`, "phone"))
	b.click(page, `[data-passkeys] button[type=submit]`)
	if said := b.shown(page, `[data-passkeys] li`); !strings.Contains(said, "phone") || !strings.Contains(said, "Never used") {
		t.Fatalf("it shows %q", said)
	}

	signIn := func() {
		b.do(page, chromedp.Evaluate[chromedp.Void](`fetch('/sign-out', { method: 'POST' }).then(() => location.assign('/sign-in'))`))
		b.shown(page, `#passkey`)
		b.click(page, `#by-passkey`)
	}
	signIn()
	b.shown(page, `[data-link]`)
	me := ask(b, page, chromedp.Evaluate[string](`fetch('/v1/me').then(r => r.json()).then(m => m.name + ' ' + m.role)`, chromedp.EvalAwaitPromise))
	if me != "Mira keeper" {
		t.Errorf("it is signed in as %q", me)
	}

	// What is not signed as it should be does not go; nor does what was signed before.
	yes, no := true, false
	for what, bits := range map[string]webauthn.SetResponseOverrideBitsParams{
		"a signature of nothing":         {AuthenticatorID: device, IsBogusSignature: &yes},
		"one of whom nobody made sure":   {AuthenticatorID: device, IsBadUV: &yes},
		"one for which nobody was there": {AuthenticatorID: device, IsBadUP: &yes},
	} {
		call(b, page, webauthn.SetResponseOverrideBits, bits)
		signIn()
		if said := b.shown(page, `#passkey-said`); !strings.Contains(said, "this passkey does not go") {
			t.Errorf("%s: it says %q", what, said)
		}
		call(b, page, webauthn.SetResponseOverrideBits, webauthn.SetResponseOverrideBitsParams{AuthenticatorID: device, IsBogusSignature: &no, IsBadUV: &no, IsBadUP: &no})
		b.visit(page, at+"/sign-in")
		b.click(page, `#by-passkey`)
		b.shown(page, `[data-link]`)
	}
	replayed := ask(b, page, chromedp.Evaluate[string](`(async () => {
		const post = (path, body) => fetch(path, { method: 'POST', headers: { 'Content-Type': 'application/json' }, body: JSON.stringify(body) })
		const offer = await (await post('/passkeys', {})).json()
		const signed = (await navigator.credentials.get({ publicKey: PublicKeyCredential.parseRequestOptionsFromJSON(offer.options) })).toJSON()
		const first = await post('/passkeys/' + offer.ticket, signed), again = await post('/passkeys/' + offer.ticket, signed)
		const other = await (await post('/passkeys', {})).json()
		return [first.status, again.status, (await post('/passkeys/' + other.ticket, signed)).status].join()
	})()`, chromedp.EvalAwaitPromise))
	if replayed != "200,400,400" {
		t.Errorf("signed once, twice, for another offer: %s", replayed)
	}

	// It outlives a restart, and ends with its account.
	b.config.Listen = strings.TrimPrefix(b.service.URL, "http://")
	b.service.Close()
	b.up()
	signIn()
	b.shown(page, `[data-link]`)
	accounts, err := client.Ask(t.Context(), b.Client, ops.ListAccounts)
	if err != nil || client.Do(t.Context(), b.Client, ops.RemoveAccount, ops.Ending{ID: accounts.Accounts[0].ID}) != nil {
		t.Fatal(err)
	}
	b.visit(page, at+"/sign-in")
	said := ask(b, page, chromedp.Evaluate[string](`(async () => {
		const post = (path, body) => fetch(path, { method: 'POST', headers: { 'Content-Type': 'application/json' }, body: JSON.stringify(body) })
		const offer = await (await post('/passkeys', {})).json()
		const signed = (await navigator.credentials.get({ publicKey: PublicKeyCredential.parseRequestOptionsFromJSON(offer.options) })).toJSON()
		return (await post('/passkeys/' + offer.ticket, signed)).text()
	})()`, chromedp.EvalAwaitPromise))
	if !strings.Contains(said, "does not go") {
		t.Errorf("the passkey of nobody: %s", said)
	}
	if res, said := b.raw("POST", "/passkeys", bytes.NewReader([]byte("{}"))); res.StatusCode != http.StatusBadRequest || !strings.Contains(said, "name") {
		t.Errorf("at an address without a name: %d %s", res.StatusCode, said)
	}
	if res, _ := b.raw("POST", "/v1/me/passkeys/offer", nil); res.StatusCode != http.StatusNotFound {
		t.Errorf("a program asks for a passkey: %d", res.StatusCode)
	}
}
