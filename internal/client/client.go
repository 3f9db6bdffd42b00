// Package client is the Go client of the service's API. Every method makes one
// call; an error that the service answered with is an *api.Problem. Nothing in what they
// return is obeyed by a terminal.
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
	"strconv"
	"strings"
	"time"

	"diathermon/internal/api"
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

// getAny is get of what may not be there yet; then the error says so.
func getAny[T any](ctx context.Context, c *Client, path, none string) (T, error) {
	out, err := get[T](ctx, c, path)
	if errors.Is(err, errNone) {
		err = &api.Problem{Status: http.StatusNotFound, Title: none}
	}
	return out, err
}

// get reads the answer to a GET into a new T.
func get[T any](ctx context.Context, c *Client, path string) (T, error) {
	var out T
	return out, c.call(ctx, http.MethodGet, path, nil, &out)
}

// Bench returns everything live.
func (c *Client) Bench(ctx context.Context) (api.Bench, error) {
	return get[api.Bench](ctx, c, "/v1/bench")
}

// Addresses tells where other devices reach the host.
func (c *Client) Addresses(ctx context.Context) (api.Addresses, error) {
	return get[api.Addresses](ctx, c, "/v1/addresses")
}

// Shelf lists the stored files.
func (c *Client) Shelf(ctx context.Context) (api.Shelf, error) {
	return get[api.Shelf](ctx, c, "/v1/shelf")
}

// File returns one stored file.
func (c *Client) File(ctx context.Context, name string) (api.File, error) {
	return get[api.File](ctx, c, "/v1/shelf/"+url.PathEscape(name))
}

// FileLayers returns time and filament of a stored file by layer.
func (c *Client) FileLayers(ctx context.Context, name string) (api.FileLayers, error) {
	return get[api.FileLayers](ctx, c, "/v1/shelf/"+url.PathEscape(name)+"/by-layer")
}

// Remove takes a file off the shelf.
func (c *Client) Remove(ctx context.Context, name string) error {
	return c.call(ctx, http.MethodDelete, "/v1/shelf/"+url.PathEscape(name), nil, nil)
}

// Content writes a file's bytes to w.
func (c *Client) Content(ctx context.Context, name string, w io.Writer) (int64, error) {
	res, err := c.do(ctx, http.MethodGet, "/v1/shelf/"+url.PathEscape(name)+"/content", nil, nil)
	if err != nil {
		return 0, err
	}
	defer res.Body.Close()
	return io.Copy(w, res.Body)
}

// Start begins a run of a file.
func (c *Client) Start(ctx context.Context, file string) (api.Run, error) {
	return c.StartWith(ctx, api.StartRun{File: file})
}

// Trim changes how a run's lines differ from its file's.
func (c *Client) Trim(ctx context.Context, id string, t api.ChangeTrim) (api.Run, error) {
	var out api.Run
	return out, c.call(ctx, http.MethodPatch, "/v1/runs/"+url.PathEscape(id)+"/trim", t, &out)
}

// SetUntil lets a run be held, or end, at a layer or a height.
func (c *Client) SetUntil(ctx context.Context, id string, u api.SetUntil) (api.Run, error) {
	var out api.Run
	return out, c.call(ctx, http.MethodPut, "/v1/runs/"+url.PathEscape(id)+"/until", u, &out)
}

// DropUntil lets a run go on to its file's end.
func (c *Client) DropUntil(ctx context.Context, id string) (api.Run, error) {
	var out api.Run
	return out, c.call(ctx, http.MethodDelete, "/v1/runs/"+url.PathEscape(id)+"/until", nil, &out)
}

// StartWith starts a file with a soak before it.
func (c *Client) StartWith(ctx context.Context, s api.StartRun) (api.Run, error) {
	var out api.Run
	return out, c.call(ctx, http.MethodPost, "/v1/runs", s, &out)
}

// Runs lists at most limit runs, the newest first.
func (c *Client) Runs(ctx context.Context, limit int) (api.Runs, error) {
	return get[api.Runs](ctx, c, "/v1/runs?limit="+strconv.Itoa(limit))
}

// Run returns one run.
func (c *Client) Run(ctx context.Context, id string) (api.Run, error) {
	return get[api.Run](ctx, c, "/v1/runs/"+url.PathEscape(id))
}

// Control makes a run hold, resume or stop.
func (c *Client) Control(ctx context.Context, id, verb string) (api.Run, error) {
	var out api.Run
	return out, c.call(ctx, http.MethodPost, "/v1/runs/"+url.PathEscape(id)+"/"+verb, nil, &out)
}

// Plan tells how an interrupted run would be picked up.
func (c *Client) Plan(ctx context.Context, id string, p api.PickUp) (api.Plan, error) {
	q := url.Values{}
	if p.Layer > 0 {
		q.Set("layer", strconv.Itoa(p.Layer))
	}
	if p.Command > 0 {
		q.Set("command", strconv.Itoa(p.Command))
	}
	if p.Height != nil {
		q.Set("height", strconv.FormatFloat(*p.Height, 'f', -1, 64))
	}
	return get[api.Plan](ctx, c, "/v1/runs/"+url.PathEscape(id)+"/pick-up?"+q.Encode())
}

// PickUp picks an interrupted run up.
func (c *Client) PickUp(ctx context.Context, id string, p api.PickUp) (api.Run, error) {
	var out api.Run
	return out, c.call(ctx, http.MethodPost, "/v1/runs/"+url.PathEscape(id)+"/pick-up", p, &out)
}

// Ports lists the serial ports of the host's computer.
func (c *Client) Ports(ctx context.Context) (api.Ports, error) {
	return get[api.Ports](ctx, c, "/v1/bench/ports")
}

// Recording writes the recording of a run, or what the flight recorder holds now
// if id is empty, as a ZIP archive.
func (c *Client) Recording(ctx context.Context, id string, w io.Writer) error {
	path := "/v1/wire/recording"
	if id != "" {
		path = "/v1/runs/" + url.PathEscape(id) + "/recording"
	}
	return c.download(ctx, path, w)
}

func (c *Client) download(ctx context.Context, path string, w io.Writer) error {
	res, err := c.do(ctx, http.MethodGet, path, nil, nil)
	if err != nil {
		return err
	}
	defer res.Body.Close()
	_, err = io.Copy(w, res.Body)
	return err
}

// Halt is the emergency stop.
func (c *Client) Halt(ctx context.Context) error {
	return c.call(ctx, http.MethodPost, "/v1/halt", nil, nil)
}

// Reconnect closes the port and opens it anew.
func (c *Client) Reconnect(ctx context.Context) error {
	return c.call(ctx, http.MethodPost, "/v1/bench/reconnect", nil, nil)
}

// SetHeat gives a heater a setpoint in °C.
func (c *Client) SetHeat(ctx context.Context, heater string, setpoint float64) (api.HeatSet, error) {
	var out api.HeatSet
	return out, c.call(ctx, http.MethodPut, "/v1/heat/"+url.PathEscape(heater), api.SetHeat{Setpoint: setpoint}, &out)
}

// Heat returns the temperature log of a window; of all heaters if heater is
// empty.
func (c *Client) Heat(ctx context.Context, from, to time.Time, heater string) (api.HeatLog, error) {
	q := url.Values{"from": {from.UTC().Format(time.RFC3339Nano)}, "to": {to.UTC().Format(time.RFC3339Nano)}}
	if heater != "" {
		q.Set("heater", heater)
	}
	return get[api.HeatLog](ctx, c, "/v1/heat?"+q.Encode())
}

// Say says a line and returns the printer's reply.
func (c *Client) Say(ctx context.Context, line string) (api.Said, error) {
	var out api.Said
	return out, c.call(ctx, http.MethodPost, "/v1/wire", api.SayLine{Line: line}, &out)
}

// MeasureWire lets the host measure what the printer can hold; the bench tells the
// outcome.
func (c *Client) MeasureWire(ctx context.Context) error {
	return c.call(ctx, http.MethodPost, "/v1/wire/measure", nil, nil)
}

// Wire returns recent traffic after a sequence number.
func (c *Client) Wire(ctx context.Context, since uint64, limit int) (api.Wire, error) {
	return get[api.Wire](ctx, c, fmt.Sprintf("/v1/wire?since=%d&limit=%d", since, limit))
}

// An Event is one live event; Data is one of the types of api.Events, by value.
type Event struct{ Data any }

// Events calls f with every live event until ctx or the connection ends. The
// first ones tell everything as it is.
func (c *Client) Events(ctx context.Context, f func(Event)) error { return c.EventsWithout(ctx, "", f) }

// EventsWithout is Events without those of some names, with commas between.
func (c *Client) EventsWithout(ctx context.Context, names string, f func(Event)) error {
	path := "/v1/events"
	if names != "" {
		path += "?without=" + url.QueryEscape(names)
	}
	res, err := c.do(ctx, http.MethodGet, path, nil, nil)
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

// Rehearse asks for the rehearsal of a stored file.
func (c *Client) Rehearse(ctx context.Context, name string) (api.Rehearsal, error) {
	var out api.Rehearsal
	return out, c.call(ctx, http.MethodPost, rehearsalOf(name), nil, &out)
}

// Rehearsal tells how far the rehearsal of a stored file has come.
func (c *Client) Rehearsal(ctx context.Context, name string) (api.Rehearsal, error) {
	return getAny[api.Rehearsal](ctx, c, rehearsalOf(name), "it was not rehearsed")
}

// StopRehearsal ends the rehearsal of a stored file.
func (c *Client) StopRehearsal(ctx context.Context, name string) error {
	return c.call(ctx, http.MethodDelete, rehearsalOf(name), nil, nil)
}

func rehearsalOf(name string) string { return "/v1/shelf/" + url.PathEscape(name) + "/rehearsal" }
