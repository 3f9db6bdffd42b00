package dav

import (
	"context"
	"fmt"
	"net/http"
	"net/url"
	"slices"
	"strings"

	"golang.org/x/net/webdav"

	"diathermon/internal/api"
)

// noLock is the token of no lock (RFC 4918, 10.4.8).
const noLock = "DAV:no-lock"

// conditions are an If header (RFC 4918, 10.4): one of its lists must hold.
type conditions []list

type list struct {
	about string // a URL; empty: what the request is about
	all   []condition
}

type condition struct {
	not   bool
	token string // of a lock; or
	etag  string
}

func (c conditions) tokens() []string {
	var out []string
	for _, l := range c {
		for _, one := range l.all {
			if one.token != "" && !one.not {
				out = append(out, one.token)
			}
		}
	}
	return out
}

// parseIf reads an If header.
func parseIf(header string) (conditions, error) {
	wrong := &api.Problem{Status: http.StatusBadRequest, Title: "the If header cannot be read", Detail: "see RFC 4918, 10.4"}
	var out conditions
	about := ""
	until := func(end string) (string, bool) {
		inner, rest, ok := strings.Cut(header[1:], end)
		header = rest
		return inner, ok && inner != ""
	}
	for header = strings.TrimSpace(header); header != ""; header = strings.TrimSpace(header) {
		switch header[0] {
		case '<':
			var ok bool
			if about, ok = until(">"); !ok {
				return nil, wrong
			}
			continue
		case '(':
		default:
			return nil, wrong
		}
		inner, ok := until(")")
		if !ok {
			return nil, wrong
		}
		l := list{about: about}
		for inner = strings.TrimSpace(inner); inner != ""; inner = strings.TrimSpace(inner) {
			var c condition
			if len(inner) > 3 && strings.EqualFold(inner[:3], "Not") {
				c.not, inner = true, strings.TrimSpace(inner[3:])
			}
			end := map[byte]string{'<': ">", '[': "]"}[inner[0]]
			if end == "" {
				return nil, wrong
			}
			text, rest, ok := strings.Cut(inner[1:], end)
			if !ok || text == "" {
				return nil, wrong
			}
			if end == ">" {
				c.token = text
			} else {
				c.etag = text
			}
			l.all, inner = append(l.all, c), rest
		}
		if len(l.all) == 0 {
			return nil, wrong
		}
		out = append(out, l)
	}
	if about != "" && len(out) == 0 {
		return nil, wrong
	}
	return out, nil
}

// holds reports whether one of the lists does.
func (d *Door) holds(r *http.Request, all conditions, p string) bool {
	return slices.ContainsFunc(all, func(l list) bool {
		about := p
		if l.about != "" {
			u, err := url.Parse(l.about)
			if err != nil || u.Host != "" && u.Host != r.Host {
				return false
			}
			about = clean(strings.TrimPrefix(u.Path, callOf(r.Context()).prefix))
		}
		etag := d.files.etag(r.Context(), about)
		return !slices.ContainsFunc(l.all, func(c condition) bool {
			is := c.etag != "" && c.etag == etag
			if c.token != "" {
				is = len(d.files.locks.held(func(k *lock) bool { return k.token == c.token && k.covers(about) })) > 0
			}
			return is == c.not
		})
	})
}

// etag is that of what is at a path, as the protocol's other side says it; empty: there is
// nothing.
func (f *files) etag(ctx context.Context, p string) string {
	info, err := f.Stat(ctx, p)
	if err != nil {
		return ""
	}
	if tagged, ok := info.(webdav.ETager); ok {
		if tag, err := tagged.ETag(ctx); err == nil {
			return tag
		}
	}
	return fmt.Sprintf(`"%x%x"`, info.ModTime().UnixNano(), info.Size())
}
