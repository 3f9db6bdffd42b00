package client

import (
	"context"
	"net/http"
	"net/url"

	"diathermon/internal/api"
)

// Pair exchanges a one-time code for a token of the program's own.
func (c *Client) Pair(ctx context.Context, code, program string) (string, error) {
	var out api.Token
	err := c.call(ctx, http.MethodPost, "/sign-in", api.SignIn{Code: code, Name: program}, &out)
	return out.Token, err
}

// AskIn asks to be let in, which a person answers elsewhere.
func (c *Client) AskIn(ctx context.Context, program string, scopes []string) (api.Asked, error) {
	var out api.Asked
	return out, c.call(ctx, http.MethodPost, "/pairings", api.AskIn{Name: program, Scopes: scopes}, &out)
}

// Outcome tells what has become of it.
func (c *Client) Outcome(ctx context.Context, asked api.Asked) (api.Outcome, error) {
	var out api.Outcome
	return out, c.call(ctx, http.MethodPost, "/pairings/"+url.PathEscape(asked.ID), api.AskOutcome{Secret: asked.Secret}, &out)
}

// Pairings are those who ask to be let in.
func (c *Client) Pairings(ctx context.Context) (api.Pairings, error) {
	return get[api.Pairings](ctx, c, "/v1/pairings")
}

// Answer lets somebody in who shows letters, or not.
func (c *Client) Answer(ctx context.Context, a api.Answer) (api.Pairing, error) {
	var out api.Pairing
	return out, c.call(ctx, http.MethodPost, "/v1/pairings", a, &out)
}

// Me is who asks.
func (c *Client) Me(ctx context.Context) (api.Me, error) { return get[api.Me](ctx, c, "/v1/me") }

// Tokens lists tokens and sessions.
func (c *Client) Tokens(ctx context.Context) (api.Tokens, error) {
	return get[api.Tokens](ctx, c, "/v1/tokens")
}

// MakeToken makes a token for a program.
func (c *Client) MakeToken(ctx context.Context, t api.MakeToken) (api.MadeToken, error) {
	var out api.MadeToken
	return out, c.call(ctx, http.MethodPost, "/v1/tokens", t, &out)
}

// WithdrawToken makes a token or a session worthless. What becomes of what it has given is
// said, or it ends, too.
func (c *Client) WithdrawToken(ctx context.Context, id string, given ...api.Becomes) error {
	return c.call(ctx, http.MethodDelete, "/v1/tokens/"+url.PathEscape(id)+becomes(given), nil, nil)
}

func becomes(given []api.Becomes) string {
	if len(given) == 0 {
		return ""
	}
	return "?given=" + url.QueryEscape(string(given[0]))
}

// Accounts lists persons.
func (c *Client) Accounts(ctx context.Context) (api.Accounts, error) {
	return get[api.Accounts](ctx, c, "/v1/accounts")
}

// MakeAccount makes an account.
func (c *Client) MakeAccount(ctx context.Context, a api.MakeAccount) (api.Account, error) {
	var out api.Account
	return out, c.call(ctx, http.MethodPost, "/v1/accounts", a, &out)
}

// ChangeAccount changes one.
func (c *Client) ChangeAccount(ctx context.Context, id string, change api.ChangeAccount) (api.Account, error) {
	var out api.Account
	return out, c.call(ctx, http.MethodPatch, "/v1/accounts/"+url.PathEscape(id), change, &out)
}

// RemoveAccount removes one. What becomes of what it has given is said, or it ends, too.
func (c *Client) RemoveAccount(ctx context.Context, id string, given ...api.Becomes) error {
	return c.call(ctx, http.MethodDelete, "/v1/accounts/"+url.PathEscape(id)+becomes(given), nil, nil)
}
