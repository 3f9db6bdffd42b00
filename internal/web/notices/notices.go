// Package notices is the area of what persons are told, and of the browsers that are called.
package notices

import (
	"context"
	"net/http"
	"slices"

	"diathermon/internal/api"
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

// one is the input of a call about one browser.
type one struct {
	ID string `path:"id" doc:"Of the browser"`
}

// Mount mounts the area.
func (a Area) Mount(d *desk.Desk) {
	d.Know(
		desk.Kind{Err: notices.ErrBrowser, Status: http.StatusUnprocessableEntity, Title: notices.ErrBrowser.Error()},
		desk.Kind{Err: notices.ErrOften, Status: http.StatusTooManyRequests, Title: notices.ErrOften.Error()},
		desk.Kind{Err: notices.ErrMissing, Status: http.StatusNotFound, Title: notices.ErrMissing.Error()},
	)
	desk.Show(d, d.Op("list-notices", http.MethodGet, "/v1/notices", desk.Read, "What persons were told last"),
		func(context.Context, *struct{}) (api.Notices, error) {
			out := api.Notices{Notices: []api.Notice{}}
			for _, n := range a.Notices.Recent() {
				out.Notices = append(out.Notices, of(n))
			}
			return out, nil
		})
	desk.Show(d, d.Op("list-browsers", http.MethodGet, "/v1/notices/browsers", desk.Read, "The browsers that are called, by whom they can be called"),
		func(ctx context.Context, _ *struct{}) (api.CalledBrowsers, error) {
			out := api.CalledBrowsers{Key: a.Notices.Key(), Browsers: []api.CalledBrowser{}}
			all, waiting := a.Notices.Browsers()
			for _, b := range all {
				if mine(ctx, b) {
					out.Browsers = append(out.Browsers, browserOf(b, waiting[b.ID]))
				}
			}
			return out, nil
		})
	desk.Show(d, d.Op("call-browser", http.MethodPost, "/v1/notices/browsers", desk.Read, "Let a browser be called from now on; one that is called already is changed", 422),
		func(ctx context.Context, in *struct{ Body api.CallBrowser }) (api.CalledBrowser, error) {
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
	leave := desk.Answering(http.StatusNoContent, d.Op("leave-browser", http.MethodDelete, "/v1/notices/browsers/{id}", desk.Read, "Call a browser no more: one's own, or any by whoever keeps the host", 404))
	desk.Do(d, leave, func(ctx context.Context, in *one) error {
		return a.own(ctx, in.ID, a.Notices.Leave)
	})
	try := desk.Answering(http.StatusAccepted, d.Op("try-browser", http.MethodPost, "/v1/notices/browsers/{id}/trial", desk.Read, "Call a browser now, to see whether notices arrive", 404, 429))
	desk.Do(d, try, func(ctx context.Context, in *one) error {
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
