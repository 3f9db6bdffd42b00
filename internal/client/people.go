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
