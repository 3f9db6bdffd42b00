// Package notices is the area of what persons are told, and of the browsers that are called.
package notices

import (
	"context"
	"net/http"
	"slices"

	"diathermon/internal/api"
	"diathermon/internal/api/ops"
	"diathermon/internal/core/access"
	"diathermon/internal/core/notice"
	"diathermon/internal/notices"
	"diathermon/internal/web/desk"
	"diathermon/internal/web/guard"
)

// Notices are kept and delivered.
type Notices interface {
	Key() string
	Recent() []notice.Notice
	Browsers() ([]notices.Browser, map[string]int)
	Call(notices.Browser) (notices.Browser, error)
	Leave(id string) error
	Try(id string) error
}

// Area is the area.
type Area struct{ Notices Notices }

// Mount mounts the area.
func (a Area) Mount(d *desk.Desk) {
	d.Know(
		desk.Kind{Err: notices.ErrBrowser, Status: http.StatusUnprocessableEntity, Title: notices.ErrBrowser.Error()},
		desk.Kind{Err: notices.ErrOften, Status: http.StatusTooManyRequests, Title: notices.ErrOften.Error()},
		desk.Kind{Err: notices.ErrMissing, Status: http.StatusNotFound, Title: notices.ErrMissing.Error()},
	)
	desk.Show(d, ops.ListNotices, func(context.Context, *ops.Nothing) (api.Notices, error) {
		out := api.Notices{Notices: []api.Notice{}}
		for _, n := range a.Notices.Recent() {
			out.Notices = append(out.Notices, of(n))
		}
		return out, nil
	})
	desk.Show(d, ops.ListBrowsers, func(ctx context.Context, _ *ops.Nothing) (api.CalledBrowsers, error) {
		out := api.CalledBrowsers{Key: a.Notices.Key(), Browsers: []api.CalledBrowser{}}
		all, waiting := a.Notices.Browsers()
		for _, b := range all {
			if mine(ctx, b) {
				out.Browsers = append(out.Browsers, browserOf(b, waiting[b.ID]))
			}
		}
		return out, nil
	})
	desk.Show(d, ops.CallBrowser, func(ctx context.Context, in *ops.With[api.CallBrowser]) (api.CalledBrowser, error) {
		b := notices.Browser{Name: in.Body.Name, Endpoint: in.Body.Endpoint, Key: in.Body.Key, Secret: in.Body.Secret, By: guard.Caller(ctx)}
		for _, k := range in.Body.Kinds {
			b.Kinds = append(b.Kinds, notice.Kind(k))
		}
		if h := guard.Holder(ctx); h != nil {
			b.Token, b.Account = h.ID, h.Account
		}
		b, err := a.Notices.Call(b)
		return browserOf(b, 0), err
	})
	desk.Do(d, ops.LeaveBrowser, func(ctx context.Context, in *ops.ID) error {
		return a.own(ctx, in.ID, a.Notices.Leave)
	})
	desk.Do(d, ops.TryBrowser, func(ctx context.Context, in *ops.ID) error {
		return a.own(ctx, in.ID, a.Notices.Try)
	})
}

// own does something with a browser that is the caller's; another is not there.
func (a Area) own(ctx context.Context, id string, do func(string) error) error {
	all, _ := a.Notices.Browsers()
	if i := slices.IndexFunc(all, func(b notices.Browser) bool { return b.ID == id }); i < 0 || !mine(ctx, all[i]) {
		return notices.ErrMissing
	}
	return do(id)
}

// mine reports whether a browser is the caller's, or the caller keeps the host.
func mine(ctx context.Context, b notices.Browser) bool {
	h := guard.Holder(ctx)
	return h != nil && (h.ID == b.Token || h.Account != "" && h.Account == b.Account || slices.Contains(h.May(), access.Keep))
}

// Event is a notice as a live event.
func Event(what any) any {
	if n, is := what.(notice.Notice); is {
		return of(n)
	}
	return nil
}

func of(n notice.Notice) api.Notice {
	return api.Notice{ID: n.ID, At: n.At, Kind: string(n.Kind), Title: n.Title, Text: n.Text, Urgent: n.Kind.Urgent(), Run: n.Run, Quiet: n.Quiet}
}

func browserOf(b notices.Browser, waiting int) api.CalledBrowser {
	out := api.CalledBrowser{ID: b.ID, Name: b.Name, Service: b.Service(), Kinds: []string{}, By: b.By, Since: b.Since, Waiting: waiting, Trouble: b.Trouble}
	for _, k := range b.Kinds {
		out.Kinds = append(out.Kinds, string(k))
	}
	return out
}
