package notices

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	webpush "github.com/SherClockHolmes/webpush-go"

	"diathermon/internal/core/notice"
)

// How a delivery is tried: for how long one try may take, after how long it is tried again
// at first and at the most, until when, and how many at a time.
const (
	callFor     = 10 * time.Second
	againMin    = 5 * time.Second
	againMost   = 10 * time.Minute
	goodFor     = 12 * time.Hour
	atOnce      = 8
	ofOneAtOnce = 2 // of these, somebody's
)

// subscriber is whom a push service may write to about its callers (RFC 8292, 2.1): a host
// at home has nobody.
const subscriber = "keeper@diathermon.example"

// deliver delivers what is in the outbox as it becomes due, until ctx ends.
func (n *Notices) deliver(ctx context.Context) {
	timer := time.NewTimer(0)
	defer timer.Stop()
	for {
		select {
		case <-n.wake:
		case <-timer.C:
		case <-ctx.Done():
			n.calling.Wait()
			return
		}
		timer.Reset(n.round(ctx))
	}
}

// due lets it be looked what is due.
func (n *Notices) due() {
	select {
	case n.wake <- struct{}{}:
	default:
	}
}

// round begins to deliver what is due and returns after how long something is due again.
func (n *Notices) round(ctx context.Context) time.Duration {
	s, now := n.kept.Get(), time.Now().UTC()
	if out := slices.IndexFunc(s.Browsers, func(b Browser) bool { return !n.cfg.LetIn(b.Token, b.Account) }); out >= 0 {
		n.change(func(s *state) error {
			s.drop(func(b Browser) bool { return !n.cfg.LetIn(b.Token, b.Account) })
			return nil
		})
		s = n.kept.Get()
	}
	wait := againMost
	var due []call
	for _, c := range s.Outbox {
		if left := c.Next.Sub(now); left > 0 && left <= againMost { // a clock that was set back makes nobody wait longer
			wait = min(wait, left)
		} else {
			due = append(due, c)
		}
	}
	whose := map[string][]call{}
	for _, c := range due {
		by := ""
		if b := slices.IndexFunc(s.Browsers, func(b Browser) bool { return b.ID == c.Browser }); b >= 0 {
			by = s.Browsers[b].whose()
		}
		whose[by] = append(whose[by], c)
	}
	n.mu.Lock()
	defer n.mu.Unlock()
	for by, calls := range whose {
		if !n.busy[by] { // otherwise when those have been made
			n.busy[by] = true
			n.calling.Go(func() { n.call(ctx, s, by, calls) })
		}
	}
	return wait
}

// call makes the calls of somebody's browsers. A push service that does not answer keeps
// nobody's waiting but theirs.
func (n *Notices) call(ctx context.Context, s state, by string, calls []call) {
	results := make([]result, len(calls))
	own := make(chan struct{}, ofOneAtOnce)
	var all sync.WaitGroup
	for i, c := range calls {
		b := slices.IndexFunc(s.Browsers, func(b Browser) bool { return b.ID == c.Browser })
		if b < 0 || time.Since(c.Notice.At) > goodFor {
			results[i] = result{over: true}
			continue
		}
		all.Go(func() {
			own <- struct{}{}
			n.places <- struct{}{}
			defer func() { <-n.places; <-own }()
			if !n.cfg.LetIn(s.Browsers[b].Token, s.Browsers[b].Account) {
				results[i] = result{over: true, gone: true}
				return
			}
			results[i] = n.send(ctx, s, s.Browsers[b], c.Notice)
		})
	}
	all.Wait()
	if ctx.Err() == nil {
		err := n.change(func(s *state) error {
			for i, c := range calls {
				s.settle(c, results[i], time.Now().UTC())
			}
			return nil
		})
		if err != nil {
			n.cfg.Log.Error("it is not kept which notices are delivered", "error", err)
			select { // they are called again, but not at once
			case <-time.After(againMost):
			case <-ctx.Done():
			}
		}
	}
	n.mu.Lock()
	delete(n.busy, by)
	n.mu.Unlock()
	n.due()
}

// A result is what became of a try.
type result struct {
	over  bool // it is delivered, or will never be
	gone  bool // the browser does not want to be called any more
	why   string
	after time.Duration // it is tried again not before that; 0: as usual
}

// settle takes what became of a call.
func (s *state) settle(c call, r result, now time.Time) {
	i := slices.IndexFunc(s.Outbox, func(o call) bool { return o.Notice.ID == c.Notice.ID && o.Browser == c.Browser })
	if i < 0 {
		return
	}
	if r.gone {
		s.drop(func(b Browser) bool { return b.ID == c.Browser })
		return
	}
	if b := slices.IndexFunc(s.Browsers, func(b Browser) bool { return b.ID == c.Browser }); b >= 0 {
		s.Browsers[b].Trouble = r.why
	}
	if r.over {
		s.Outbox = slices.Delete(s.Outbox, i, i+1)
		return
	}
	o := &s.Outbox[i]
	o.Next = now.Add(max(min(againMin<<min(o.Tries, 10), againMost), min(r.after, againMost)))
	o.Tries++
}

// message is what a browser is told.
type message struct {
	ID      string      `json:"id"`
	Kind    notice.Kind `json:"kind"`
	Title   string      `json:"title"`
	Text    string      `json:"text"`
	Urgent  bool        `json:"urgent,omitempty"`
	Printer string      `json:"printer"`
	Colour  string      `json:"colour,omitempty"`
	At      time.Time   `json:"at"`
}

// mostText is how many bytes of text are told: what a push service takes is limited.
const mostText = 600

// send tries to deliver a notice to a browser once.
func (n *Notices) send(ctx context.Context, s state, b Browser, one notice.Notice) result {
	text := one.Text
	if len(text) > mostText {
		text = strings.ToValidUTF8(text[:mostText], "") + "…"
	}
	title := one.Title
	if one.Kind == notice.Trial {
		title = n.cfg.Printer + ": " + title
	}
	body, err := json.Marshal(message{ID: one.ID, Kind: one.Kind, Title: title, Text: text, Urgent: one.Kind.Urgent(), Printer: n.cfg.Printer, Colour: n.cfg.Colour, At: one.At})
	if err != nil {
		return result{over: true, why: err.Error()}
	}
	urgency := webpush.UrgencyNormal
	if one.Kind.Urgent() {
		urgency = webpush.UrgencyHigh
	}
	ctx, cancel := context.WithTimeout(ctx, callFor)
	defer cancel()
	answer, err := webpush.SendNotificationWithContext(ctx, body, &webpush.Subscription{Endpoint: b.Endpoint, Keys: webpush.Keys{Auth: b.Secret, P256dh: b.Key}}, &webpush.Options{
		HTTPClient: n.cfg.Client, Subscriber: subscriber, TTL: int(goodFor.Seconds()), Urgency: urgency, VAPIDPublicKey: s.Public, VAPIDPrivateKey: s.Private,
	})
	switch {
	case errors.Is(err, webpush.ErrMaxPadExceeded):
		return result{over: true, why: "the notice is too long for its push service"}
	case err != nil: // which would tell its caller about the network that the host is in
		n.cfg.Log.Debug("a push service is not reached", "browser", b.ID, "error", err)
		return result{why: "its push service is not reached"}
	}
	defer answer.Body.Close()
	io.Copy(io.Discard, io.LimitReader(answer.Body, 64<<10))
	switch code := answer.StatusCode; {
	case code >= 200 && code < 300:
		return result{over: true}
	case code == http.StatusNotFound || code == http.StatusGone:
		return result{over: true, gone: true}
	case code == http.StatusRequestEntityTooLarge || code == http.StatusBadRequest:
		return result{over: true, why: fmt.Sprintf("its push service answers %d", answer.StatusCode)}
	}
	seconds, _ := strconv.Atoi(answer.Header.Get("Retry-After"))
	return result{why: fmt.Sprintf("its push service answers %d", answer.StatusCode), after: time.Duration(min(max(seconds, 0), 3600)) * time.Second}
}
