// Package people is the area of who may use the host.
package people

import (
	"context"
	"encoding/json"
	"net/http"
	"strings"

	"diathermon/internal/api"
	"diathermon/internal/core/access"
	"diathermon/internal/people"
	"diathermon/internal/web/desk"
	"diathermon/internal/web/guard"
)

// Area is the area.
type Area struct{ People *people.People }

// id is the input of a call about one of them.
type id struct {
	ID string `path:"id"`
}

// ending is the input of a call that takes one of them away.
type ending struct {
	ID    string `path:"id"`
	Given string `query:"given" enum:"end,end-all,take-over" default:"end" doc:"What becomes of what it has given: tokens and sessions end with it, and the accounts stay that were made with it; these go, too; or tokens are yours from now on"`
}

// Mount mounts the area.
func (a Area) Mount(d *desk.Desk) {
	guard.Know(&d.Problems)
	a.mountMe(d)
	a.mountPasskeys(d)
	a.mountAccounts(d)
	a.mountTokens(d)
	desk.Show(d, d.Op("list-pairings", http.MethodGet, "/v1/pairings", desk.Keep, "Who asks to be let in"),
		func(context.Context, *struct{}) (api.Pairings, error) {
			out := api.Pairings{Pairings: []api.Pairing{}}
			for _, p := range a.People.Asking() {
				out.Pairings = append(out.Pairings, pairingOf(p))
			}
			return out, nil
		})
	desk.Show(d, d.Op("answer-pairing", http.MethodPost, "/v1/pairings", desk.Keep, "Let somebody in who shows these letters, or not", 400, 404),
		func(ctx context.Context, in *struct{ Body api.Answer }) (api.Pairing, error) {
			p, err := a.People.Answer(guard.Holder(ctx), in.Body.Letters, in.Body.Allow, in.Body.Scopes)
			return pairingOf(p), err
		})
}

func (a Area) mountMe(d *desk.Desk) {
	desk.Show(d, d.Op("get-me", http.MethodGet, "/v1/me", desk.Read, "Who I am, and what I may do"),
		func(ctx context.Context, _ *struct{}) (api.Me, error) {
			h := guard.Holder(ctx)
			out := api.Me{Name: h.Caller(), Token: h.ID, Scopes: h.May(), Fresh: a.People.Fresh()}
			if p, ok := h.Person(); ok {
				out.Role, out.Account = string(p.Role), p.ID
			}
			return out, nil
		})
	desk.Do(d, desk.Answering(http.StatusNoContent, d.Op("change-my-password", http.MethodPut, "/v1/me/password", desk.Read, "Change my password; my other sessions end", 400, 409, 429)),
		func(ctx context.Context, in *struct{ Body api.ChangePassword }) error {
			return a.People.ChangePassword(ctx, guard.Holder(ctx), in.Body.Old, in.Body.New)
		})
	desk.Show(d, d.Op("list-my-sessions", http.MethodGet, "/v1/me/sessions", desk.Read, "The browsers that I am signed in from"),
		func(ctx context.Context, _ *struct{}) (api.Tokens, error) {
			me := guard.Holder(ctx)
			return a.tokens(me, func(t access.Token) bool { return mine(me, t) }), nil
		})
	desk.Do(d, desk.Answering(http.StatusNoContent, d.Op("end-my-session", http.MethodDelete, "/v1/me/sessions/{id}", desk.Read, "End one of my sessions", 404)),
		func(ctx context.Context, in *id) error {
			me := guard.Holder(ctx)
			h, err := a.People.Holder(in.ID)
			if err != nil || !mine(me, h.Token) {
				return people.ErrMissing
			}
			return a.People.Withdraw(ctx, h, me.Caller())
		})
}

func (a Area) mountPasskeys(d *desk.Desk) {
	desk.Show(d, d.Op("list-my-passkeys", http.MethodGet, "/v1/me/passkeys", desk.Read, "The passkeys that sign me in"),
		func(ctx context.Context, _ *struct{}) (api.Passkeys, error) {
			out := api.Passkeys{Passkeys: []api.Passkey{}}
			for _, k := range a.People.Passkeys(guard.Holder(ctx).Account) {
				out.Passkeys = append(out.Passkeys, passkeyOf(k))
			}
			return out, nil
		})
	desk.Show(d, desk.Answering(http.StatusCreated, d.Op("offer-passkey", http.MethodPost, "/v1/me/passkeys/offer", desk.Read, "Begin to make a passkey; the host is to be reached by a name, and by TLS unless it is this computer", 400, 404)),
		func(ctx context.Context, _ *struct{}) (api.PasskeyOffer, error) {
			offer, err := a.People.OfferPasskey(guard.Holder(ctx), guard.Origin(ctx))
			return api.PasskeyOffer{Ticket: offer.Ticket, Options: offer.Options}, err
		})
	desk.Show(d, desk.Answering(http.StatusCreated, d.Op("make-passkey", http.MethodPost, "/v1/me/passkeys", desk.Read, "Keep the passkey that a browser has made", 400, 404)),
		func(ctx context.Context, in *struct{ Body api.MakePasskey }) (api.Passkey, error) {
			answer, err := json.Marshal(in.Body.Answer)
			if err != nil {
				return api.Passkey{}, err
			}
			k, err := a.People.MakePasskey(ctx, guard.Holder(ctx), guard.Origin(ctx), in.Body.Ticket, in.Body.Name, answer)
			return passkeyOf(k), err
		})
	desk.Do(d, desk.Answering(http.StatusNoContent, d.Op("remove-my-passkey", http.MethodDelete, "/v1/me/passkeys/{id}", desk.Read, "Remove one of my passkeys: it signs in no more", 404)),
		func(ctx context.Context, in *id) error { return a.People.RemovePasskey(ctx, guard.Holder(ctx), in.ID) })
}

func passkeyOf(k access.Passkey) api.Passkey {
	return api.Passkey{ID: k.ID, Name: k.Name, Created: k.Created, Used: k.Used}
}

// mine reports whether a token is a session of who asks.
func mine(me *people.Holder, t access.Token) bool {
	return t.Session && (t.ID == me.ID || me.Account != "" && t.Account == me.Account)
}

func (a Area) mountAccounts(d *desk.Desk) {
	desk.Show(d, d.Op("list-accounts", http.MethodGet, "/v1/accounts", desk.Keep, "Who has an account"),
		func(context.Context, *struct{}) (api.Accounts, error) {
			out := api.Accounts{Accounts: []api.Account{}}
			for _, p := range a.People.Accounts() {
				out.Accounts = append(out.Accounts, a.accountOf(p))
			}
			return out, nil
		})
	desk.Show(d, desk.Answering(http.StatusCreated, d.Op("make-account", http.MethodPost, "/v1/accounts", desk.Keep, "Make an account", 400)),
		func(ctx context.Context, in *struct{ Body api.MakeAccount }) (api.Account, error) {
			p, err := a.People.MakeAccount(ctx, guard.Holder(ctx), in.Body.Name, access.Role(in.Body.Role), in.Body.Password)
			return a.accountOf(p), err
		})
	desk.Show(d, d.Op("change-account", http.MethodPatch, "/v1/accounts/{id}", desk.Keep, "Give an account another role, or another password, which ends its sessions", 400, 404, 409),
		func(ctx context.Context, in *struct {
			ID   string `path:"id"`
			Body api.ChangeAccount
		}) (api.Account, error) {
			p, err := a.People.ChangeAccount(ctx, in.ID, people.Change{Role: (*access.Role)(in.Body.Role), Password: in.Body.Password}, guard.Holder(ctx))
			return a.accountOf(p), err
		})
	desk.Do(d, desk.Answering(http.StatusNoContent, d.Op("remove-account", http.MethodDelete, "/v1/accounts/{id}", desk.Keep, "Remove an account, and end its sessions and what they have given", 400, 404, 409)),
		func(ctx context.Context, in *ending) error {
			return a.People.TakeAwayAccount(ctx, in.ID, people.Becomes(in.Given), guard.Holder(ctx))
		})
}

func (a Area) mountTokens(d *desk.Desk) {
	desk.Show(d, d.Op("list-tokens", http.MethodGet, "/v1/tokens", desk.Keep, "Every token that is good, sessions among them, when it was used last and from where"),
		func(ctx context.Context, _ *struct{}) (api.Tokens, error) {
			return a.tokens(guard.Holder(ctx), func(access.Token) bool { return true }), nil
		})
	desk.Show(d, desk.Answering(http.StatusCreated, d.Op("make-token", http.MethodPost, "/v1/tokens", desk.Keep, "Make a token for a program; it is shown this once", 400, 409)),
		func(ctx context.Context, in *struct{ Body api.MakeToken }) (api.MadeToken, error) {
			me := guard.Holder(ctx)
			text, t, err := a.People.MakeToken(ctx, me, in.Body.Name, in.Body.Scopes, in.Body.Expires)
			return api.MadeToken{Token: text, Info: a.tokenOf(me, t)}, err
		})
	desk.Do(d, desk.Answering(http.StatusNoContent, d.Op("withdraw-token", http.MethodDelete, "/v1/tokens/{id}", desk.Keep, "Withdraw a token or end a session, at once, and what it has given", 400, 404, 409)),
		func(ctx context.Context, in *ending) error {
			h, err := a.People.Holder(in.ID)
			if err != nil {
				return err
			}
			return a.People.TakeAway(ctx, h, people.Becomes(in.Given), guard.Holder(ctx))
		})
}

func (a Area) tokens(me *people.Holder, which func(access.Token) bool) api.Tokens {
	out := api.Tokens{Tokens: []api.TokenInfo{}}
	for _, t := range a.People.Tokens() {
		if which(t) {
			out.Tokens = append(out.Tokens, a.tokenOf(me, t))
		}
	}
	return out
}

func (a Area) tokenOf(me *people.Holder, t access.Token) api.TokenInfo {
	out := api.TokenInfo{ID: t.ID, Name: t.Name, Kind: string(access.KindOf(t.Session)), Account: t.Account, Scopes: strings.Fields(t.Scopes), Maker: t.Maker, Created: t.Created, Used: t.Used, UsedFrom: t.UsedFrom, Expires: t.Expires, Own: t.ID == me.ID}
	if h, err := a.People.Holder(t.ID); err == nil {
		out.Name, out.Scopes = h.Caller(), h.May()
	}
	if out.Scopes == nil {
		out.Scopes = []string{}
	}
	out.Given, out.Made = a.given(t.ID)
	return out
}

func (a Area) accountOf(p access.Account) api.Account {
	out := api.Account{ID: p.ID, Name: p.Name, Role: string(p.Role), Created: p.Created, Maker: p.Maker}
	out.Given, out.Made = a.given(p.ID)
	return out
}

// given are the names of the tokens that a token or an account has given, and of the accounts
// that were made with it.
func (a Area) given(id string) (tokens, made []string) {
	tokens, accounts := a.People.Given(id)
	made = []string{}
	for _, p := range accounts {
		made = append(made, p.Name)
	}
	return append([]string{}, tokens...), made
}

func pairingOf(p people.Pairing) api.Pairing {
	return api.Pairing{Name: p.Name, Letters: p.Letters, Kind: string(access.KindOf(p.Session)), Scopes: append([]string{}, strings.Fields(p.Scopes)...), From: p.From, Asked: p.Asked.UTC(), Expires: p.Expires().UTC()}
}
