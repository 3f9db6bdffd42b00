package client

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"time"

	"diathermon/internal/api"
	"diathermon/internal/core/legible"
	"diathermon/internal/digest"
)

// Sending describes an upload.
type Sending struct {
	Name    string
	Body    io.Reader // with an io.Seeker, what is cut off goes on from there
	Size    int64     // -1: not known
	Replace bool      // other bytes of the same name may go
	Then    string    // what becomes of it once it is stored: print, queue, or nothing
}

// sendTries is how often an upload goes on that was cut off, after a wait that doubles
// from sendWait.
const (
	sendTries = 6
	sendWait  = 500 * time.Millisecond
)

// Send stores a file.
func (c *Client) Send(ctx context.Context, s Sending) (api.Stored, error) {
	out, err := c.send(ctx, s, 0)
	seeker, whole := s.Body.(io.ReadSeeker)
	wait := sendWait
	for tries := 1; tries < sendTries && whole && s.Size > 0 && cutOff(err) && ctx.Err() == nil; tries++ {
		select {
		case <-time.After(wait):
		case <-ctx.Done():
			return out, ctx.Err()
		}
		wait *= 2
		from, asking := c.sent(ctx, s.Name, seeker)
		if asking != nil {
			if cutOff(asking) {
				continue
			}
			return out, asking
		}
		if _, seeking := seeker.Seek(from, io.SeekStart); seeking != nil {
			return out, seeking
		}
		out, err = c.send(ctx, s, from)
	}
	return out, err
}

// cutOff reports whether an upload may go on where it was cut off.
func cutOff(err error) bool {
	var p *api.Problem
	return errors.As(err, new(*UnreachableError)) || errors.As(err, &p) && (p.Status == http.StatusBadGateway || p.Status == http.StatusServiceUnavailable || p.Status == http.StatusGatewayTimeout)
}

// sent is how many bytes of a file the host has that are the beginning of this one.
func (c *Client) sent(ctx context.Context, name string, body io.ReadSeeker) (int64, error) {
	there, err := get[api.Beginning](ctx, c, "/v1/shelf/"+url.PathEscape(name)+"/beginning")
	var p *api.Problem
	if errors.As(err, &p) && p.Status == http.StatusNotFound {
		return 0, nil
	}
	if err != nil {
		return 0, err
	}
	if _, err := body.Seek(0, io.SeekStart); err != nil {
		return 0, err
	}
	sum, n, err := digest.Again(io.LimitReader(body, there.ReceivedBytes), "")
	if err != nil || n != there.ReceivedBytes || sum != there.Digest { // of another file
		return 0, err
	}
	return n, nil
}

// send sends a file's bytes from an offset on.
func (c *Client) send(ctx context.Context, s Sending, from int64) (api.Stored, error) {
	q := url.Values{}
	if s.Replace {
		q.Set("replace", "true")
	}
	if s.Then != "" {
		q.Set("then", s.Then)
	}
	var out api.Stored
	res, err := c.do(ctx, http.MethodPut, "/v1/shelf/"+url.PathEscape(s.Name)+"?"+q.Encode(), struct{ io.Reader }{s.Body}, func(r *http.Request) {
		if r.ContentLength = s.Size; from > 0 {
			r.ContentLength = s.Size - from
			r.Header.Set("Content-Range", fmt.Sprintf("bytes %d-%d/%d", from, s.Size-1, s.Size))
		}
		r.Header.Set("Content-Type", "application/octet-stream")
	})
	if err != nil {
		return out, err
	}
	defer res.Body.Close()
	err = json.NewDecoder(res.Body).Decode(&out)
	legible.Clean(&out)
	return out, err
}

// Queue lists what waits to be printed.
func (c *Client) Queue(ctx context.Context) (api.Queue, error) {
	return get[api.Queue](ctx, c, "/v1/queue")
}

// AddToQueue lets a stored file wait in turn.
func (c *Client) AddToQueue(ctx context.Context, e api.AddEntry) (api.QueueEntry, error) {
	var out api.QueueEntry
	return out, c.call(ctx, http.MethodPost, "/v1/queue", e, &out)
}

// ChangeEntry moves an entry, or changes how it is to be run.
func (c *Client) ChangeEntry(ctx context.Context, id string, e api.ChangeEntry) (api.QueueEntry, error) {
	var out api.QueueEntry
	return out, c.call(ctx, http.MethodPatch, "/v1/queue/"+url.PathEscape(id), e, &out)
}

// RemoveFromQueue takes an entry out.
func (c *Client) RemoveFromQueue(ctx context.Context, id string) error {
	return c.call(ctx, http.MethodDelete, "/v1/queue/"+url.PathEscape(id), nil, nil)
}

// StartNext lets the first entry begin.
func (c *Client) StartNext(ctx context.Context, n api.StartNext) (api.Run, error) {
	var out api.Run
	return out, c.call(ctx, http.MethodPost, "/v1/queue/next", n, &out)
}

// SayBed says whether the bed is clear.
func (c *Client) SayBed(ctx context.Context, b api.SayBed) (api.Bed, error) {
	var out api.Bed
	return out, c.call(ctx, http.MethodPut, "/v1/bench/bed", b, &out)
}

// Slots tells what is loaded where.
func (c *Client) Slots(ctx context.Context) (api.Slots, error) {
	return get[api.Slots](ctx, c, "/v1/slots")
}

// LoadSlot says what is in a slot.
func (c *Client) LoadSlot(ctx context.Context, number int, l api.LoadSlot) (api.Slot, error) {
	var out api.Slot
	return out, c.call(ctx, http.MethodPut, fmt.Sprintf("/v1/slots/%d", number), l, &out)
}

// Printer is how the printer is described.
func (c *Client) Printer(ctx context.Context) (api.Described, error) {
	return get[api.Described](ctx, c, "/v1/printer")
}

// DescribePrinter says more of it.
func (c *Client) DescribePrinter(ctx context.Context, d api.DescribePrinter) (api.Described, error) {
	var out api.Described
	return out, c.call(ctx, http.MethodPatch, "/v1/printer", d, &out)
}

// TakeUpPrinter lets the host begin anew as the printer is described.
func (c *Client) TakeUpPrinter(ctx context.Context) error {
	return c.call(ctx, http.MethodPost, "/v1/printer/take-up", nil, nil)
}

// Notices are what persons were told last.
func (c *Client) Notices(ctx context.Context) (api.Notices, error) {
	return get[api.Notices](ctx, c, "/v1/notices")
}

// CalledBrowsers are the browsers that are called.
func (c *Client) CalledBrowsers(ctx context.Context) (api.CalledBrowsers, error) {
	return get[api.CalledBrowsers](ctx, c, "/v1/notices/browsers")
}

// CallBrowser lets a browser be called.
func (c *Client) CallBrowser(ctx context.Context, b api.CallBrowser) (api.CalledBrowser, error) {
	var out api.CalledBrowser
	return out, c.call(ctx, http.MethodPost, "/v1/notices/browsers", b, &out)
}

// LeaveBrowser lets a browser be called no more.
func (c *Client) LeaveBrowser(ctx context.Context, id string) error {
	return c.call(ctx, http.MethodDelete, "/v1/notices/browsers/"+url.PathEscape(id), nil, nil)
}

// Around are the routines around every run.
func (c *Client) Around(ctx context.Context) (api.Around, error) {
	return get[api.Around](ctx, c, "/v1/printer/around")
}

// SetAround says which they are.
func (c *Client) SetAround(ctx context.Context, a api.Around) (api.Around, error) {
	var out api.Around
	return out, c.call(ctx, http.MethodPut, "/v1/printer/around", a, &out)
}
