// Package client is the Go client of the service's API: Call makes a call of any operation
// that ops declares. An error that the service answered with is an *api.Problem. Nothing
// in what is returned is obeyed by a terminal. What is no plain call (sending files, live
// events, being let in) is a method of the Client.
package client

import (
	"bufio"
	"bytes"
	"context"
	"crypto/tls"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"strings"

	"diathermon/internal/api"
	"diathermon/internal/api/ops"
	"diathermon/internal/core/legible"
)

// A Client talks to one host.
type Client struct {
	base  string
	token string
	http  *http.Client
	trust string // the key of the certificate that is meant; empty: authorities vouch for it
}

// New returns a client of the host at address, such as http://vesper.local:8437,
// with a token.
func New(address, token string) (*Client, error) {
	if !strings.Contains(address, "://") {
		address = "http://" + address
	}
	u, err := url.Parse(address)
	if err != nil || u.Host == "" || u.Scheme != "http" && u.Scheme != "https" {
		return nil, fmt.Errorf("%q is not a host's address: it should look like http://vesper.local:8437", address)
	}
	c := &Client{base: u.Scheme + "://" + u.Host + below(u.EscapedPath()), token: token}
	transport := http.DefaultTransport.(*http.Transport).Clone()
	transport.TLSClientConfig = &tls.Config{InsecureSkipVerify: true, VerifyConnection: c.verify} // verify is stricter than what is skipped
	c.http = &http.Client{Transport: transport, CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }}
	return c, nil
}

// below is the path below which a host is, behind a proxy. An address that was copied from
// a browser also has a page's.
func below(path string) string {
	for _, page := range append([]string{"/sign-in", "/first-start", "/dav", "/v1"}, api.Pages...) {
		if at := strings.Index(path+"/", page+"/"); at >= 0 {
			path = path[:at]
		}
	}
	return strings.TrimRight(path, "/")
}

// Address is where the host is.
func (c *Client) Address() string { return c.base }

// UnreachableError says that no host answered.
type UnreachableError struct {
	Address string
	Err     error
}

func (e *UnreachableError) Error() string {
	return fmt.Sprintf("no host answers at %s: is it running, and is this its address? (%v)", e.Address, e.Err)
}

// Unwrap returns what the network said.
func (e *UnreachableError) Unwrap() error { return e.Err }

func (c *Client) do(ctx context.Context, method, path string, body io.Reader, prepare func(*http.Request)) (*http.Response, error) {
	req, err := http.NewRequestWithContext(ctx, method, c.base+path, body)
	if err != nil {
		return nil, err
	}
	if c.token != "" {
		req.Header.Set("Authorization", "Bearer "+c.token)
	}
	if prepare != nil {
		prepare(req)
	}
	res, err := c.http.Do(req)
	if err != nil {
		if ctx.Err() != nil {
			return nil, ctx.Err()
		}
		var u *url.Error
		if errors.As(err, &u) {
			err = u.Err
		}
		var untrusted *UntrustedError
		if errors.As(err, &untrusted) {
			return nil, untrusted
		}
		return nil, &UnreachableError{c.base, err}
	}
	if res.StatusCode < 300 || res.StatusCode == http.StatusNotModified {
		return res, nil
	}
	defer res.Body.Close()
	if to := res.Header.Get("Location"); res.StatusCode < 400 {
		return nil, &MovedError{c.base, strings.TrimSuffix(to, path)}
	}
	p := &api.Problem{}
	if json.NewDecoder(io.LimitReader(res.Body, 1<<20)).Decode(p) != nil || p.Title == "" {
		p = &api.Problem{Title: fmt.Sprintf("%s answered %s", c.base, res.Status), Detail: "is this a Diathermon host?"}
	}
	legible.Clean(p)
	p.Status = res.StatusCode
	return nil, p
}

// call sends in as JSON, if it is not nil, and reads the answer into out, if
// that is not nil.
func (c *Client) call(ctx context.Context, method, path string, in, out any) error {
	var body io.Reader
	if in != nil {
		b, err := json.Marshal(in)
		if err != nil {
			return err
		}
		body = bytes.NewReader(b)
	}
	res, err := c.do(ctx, method, path, body, func(r *http.Request) {
		if in != nil {
			r.Header.Set("Content-Type", "application/json")
		}
	})
	if err != nil {
		return err
	}
	defer res.Body.Close()
	if out == nil {
		_, err = io.Copy(io.Discard, res.Body)
		return err
	}
	if res.StatusCode == http.StatusNoContent {
		return errNone
	}
	if err := json.NewDecoder(res.Body).Decode(out); err != nil {
		return fmt.Errorf("the answer of %s cannot be read: %w", c.base, err)
	}
	legible.Clean(out)
	return nil
}

// errNone means that there is nothing of what was asked for yet.
var errNone = errors.New("there is none yet")

// An Event is one live event; Data is one of the types of api.Events, by value.
type Event struct{ Data any }

// Events calls f with every live event, but for those of some names, until ctx or the
// connection ends. The first ones tell everything as it is.
func (c *Client) Events(ctx context.Context, f func(Event), without ...string) error {
	path, _ := place(ops.Events.Path, ops.WhichEvents{Without: without})
	res, err := c.do(ctx, ops.Events.Method, path, nil, nil)
	if err != nil {
		return err
	}
	defer res.Body.Close()
	lines := bufio.NewScanner(res.Body)
	lines.Buffer(nil, 4<<20)
	kind, data := "", []byte(nil)
	for lines.Scan() {
		field, value, _ := strings.Cut(lines.Text(), ":")
		value = strings.TrimPrefix(value, " ")
		switch field {
		case "event":
			kind = value
		case "data":
			data = append(data, value...)
		case "":
			if len(data) > 0 {
				if e, err := api.ParseEvent(kind, data); err == nil {
					f(Event{legible.Cleaned(e)})
				}
			}
			kind, data = "", nil
		}
	}
	if ctx.Err() != nil {
		return ctx.Err()
	}
	return &UnreachableError{c.base, io.ErrUnexpectedEOF}
}
