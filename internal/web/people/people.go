// Package people is the area of who may use the host.
package people

import (
	"context"
	"encoding/json"
	"strings"

	"diathermon/internal/api"
	"diathermon/internal/api/ops"
	"diathermon/internal/core/access"
	"diathermon/internal/people"
	"diathermon/internal/web/desk"
	"diathermon/internal/web/guard"
)

// Area is the area.
type Area struct{ People *people.People }

// Mount mounts the area.
func (a Area) Mount(d *desk.Desk) {
	guard.Know(&d.Problems)
	a.mountMe(d)
	a.mountPasskeys(d)
	a.mountAccounts(d)
	a.mountTokens(d)
	desk.Show(d, ops.ListPairings, func(context.Context, *ops.Nothing) (api.Pairings, error) {
		out := api.Pairings{Pairings: []api.Pairing{}}
		for _, p := range a.People.Asking() {
			out.Pairings = append(out.Pairings, pairingOf(p))
		}
		return out, nil
	})
	desk.Show(d, ops.AnswerPairing, func(ctx context.Context, in *ops.With[api.Answer]) (api.Pairing, error) {
		p, err := a.People.Answer(guard.Holder(ctx), in.Body.Letters, in.Body.Allow, in.Body.Scopes)
		return pairingOf(p), err
	})
}

func (a Area) mountMe(d *desk.Desk) {
	desk.Show(d, ops.GetMe, func(ctx context.Context, _ *ops.Nothing) (api.Me, error) {
		h := guard.Holder(ctx)
		out := api.Me{Name: h.Caller(), Token: h.ID, Scopes: h.May(), Fresh: a.People.Fresh()}
		if p, ok := h.Person(); ok {
			out.Role, out.Account = string(p.Role), p.ID
		}
		return out, nil
	})
	desk.Do(d, ops.ChangeMyPassword, func(ctx context.Context, in *ops.With[api.ChangePassword]) error {
		return a.People.ChangePassword(ctx, guard.Holder(ctx), in.Body.Old, in.Body.New)
	})
	desk.Show(d, ops.ListMySessions, func(ctx context.Context, _ *ops.Nothing) (api.Tokens, error) {
		me := guard.Holder(ctx)
		return a.tokens(me, func(t access.Token) bool { return mine(me, t) }), nil
	})
	desk.Do(d, ops.EndMySession, func(ctx context.Context, in *ops.ID) error {
		me := guard.Holder(ctx)
		h, err := a.People.Holder(in.ID)
		if err != nil || !mine(me, h.Token) {
			return people.ErrMissing
		}
		return a.People.Withdraw(ctx, h, me.Caller())
	})
}

func (a Area) mountPasskeys(d *desk.Desk) {
	desk.Show(d, ops.ListMyPasskeys, func(ctx context.Context, _ *ops.Nothing) (api.Passkeys, error) {
		out := api.Passkeys{Passkeys: []api.Passkey{}}
		for _, k := range a.People.Passkeys(guard.Holder(ctx).Account) {
			out.Passkeys = append(out.Passkeys, passkeyOf(k))
		}
		return out, nil
	})
	desk.Show(d, ops.OfferPasskey, func(ctx context.Context, _ *ops.Nothing) (api.PasskeyOffer, error) {
		offer, err := a.People.OfferPasskey(guard.Holder(ctx), guard.Origin(ctx))
		return api.PasskeyOffer{Ticket: offer.Ticket, Options: offer.Options}, err
	})
	desk.Show(d, ops.MakePasskey, func(ctx context.Context, in *ops.With[api.MakePasskey]) (api.Passkey, error) {
		answer, err := json.Marshal(in.Body.Answer)
		if err != nil {
			return api.Passkey{}, err
		}
		k, err := a.People.MakePasskey(ctx, guard.Holder(ctx), guard.Origin(ctx), in.Body.Ticket, in.Body.Name, answer)
		return passkeyOf(k), err
	})
	desk.Do(d, ops.RemoveMyPasskey, func(ctx context.Context, in *ops.ID) error {
		return a.People.RemovePasskey(ctx, guard.Holder(ctx), in.ID)
	})
}

func passkeyOf(k access.Passkey) api.Passkey {
	return api.Passkey{ID: k.ID, Name: k.Name, Created: k.Created, Used: k.Used}
}

// mine reports whether a token is a session of who asks.
func mine(me *people.Holder, t access.Token) bool {
	return t.Session && (t.ID == me.ID || me.Account != "" && t.Account == me.Account)
}

func (a Area) mountAccounts(d *desk.Desk) {
	desk.Show(d, ops.ListAccounts, func(context.Context, *ops.Nothing) (api.Accounts, error) {
		out := api.Accounts{Accounts: []api.Account{}}
		for _, p := range a.People.Accounts() {
			out.Accounts = append(out.Accounts, a.accountOf(p))
		}
		return out, nil
	})
	desk.Show(d, ops.MakeAccount, func(ctx context.Context, in *ops.With[api.MakeAccount]) (api.Account, error) {
		p, err := a.People.MakeAccount(ctx, guard.Holder(ctx), in.Body.Name, access.Role(in.Body.Role), in.Body.Password)
		return a.accountOf(p), err
	})
	desk.Show(d, ops.ChangeAccount, func(ctx context.Context, in *ops.IDWith[api.ChangeAccount]) (api.Account, error) {
		p, err := a.People.ChangeAccount(ctx, in.ID, people.Change{Role: (*access.Role)(in.Body.Role), Password: in.Body.Password}, guard.Holder(ctx))
		return a.accountOf(p), err
	})
	desk.Do(d, ops.RemoveAccount, func(ctx context.Context, in *ops.Ending) error {
		return a.People.TakeAwayAccount(ctx, in.ID, people.Becomes(in.Given), guard.Holder(ctx))
	})
}

func (a Area) mountTokens(d *desk.Desk) {
	desk.Show(d, ops.ListTokens, func(ctx context.Context, _ *ops.Nothing) (api.Tokens, error) {
		return a.tokens(guard.Holder(ctx), func(access.Token) bool { return true }), nil
	})
	desk.Show(d, ops.MakeToken, func(ctx context.Context, in *ops.With[api.MakeToken]) (api.MadeToken, error) {
		me := guard.Holder(ctx)
		text, t, err := a.People.MakeToken(ctx, me, in.Body.Name, in.Body.Scopes, in.Body.Expires)
		return api.MadeToken{Token: text, Info: a.tokenOf(me, t)}, err
	})
	desk.Do(d, ops.WithdrawToken, func(ctx context.Context, in *ops.Ending) error {
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
