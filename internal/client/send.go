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
	"diathermon/internal/api/ops"
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
	there, err := Call(ctx, c, ops.GetFileBeginning, ops.Name{Name: name})
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
	path, _ := place(ops.PutFile.Path, ops.Name{Name: s.Name})
	res, err := c.do(ctx, ops.PutFile.Method, path+"?"+q.Encode(), struct{ io.Reader }{s.Body}, func(r *http.Request) {
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
