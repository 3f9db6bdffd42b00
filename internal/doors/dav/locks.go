package dav

import (
	"encoding/xml"
	"errors"
	"fmt"
	"net/http"
	"net/url"
	"os"
	"path"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"github.com/google/uuid"
	"golang.org/x/net/webdav"

	"diathermon/internal/api"
)

// A lock is a write lock (RFC 4918, 6 and 7).
type lock struct {
	token   string // a URN
	root    string // a cleaned path
	shared  bool
	deep    bool   // what is below its root is locked, too
	owner   string // what the client says of itself, as XML
	self    string // who holds it
	prefix  string // of the address under which it was taken
	lasts   time.Duration
	expires time.Time
	taken   time.Time
}

// covers reports whether what is at a path is locked by it.
func (l *lock) covers(p string) bool {
	return l.root == p || l.deep && below(l.root, p)
}

// below reports whether a path is somewhere in a folder.
func below(dir, p string) bool { return strings.HasPrefix(p, strings.TrimSuffix(dir, "/")+"/") }

// locks are those that are held.
type locks struct {
	mu  sync.Mutex
	all []*lock
}

// Bounds of locks.
const (
	mostLocks      = 256            // that are held, together
	mostOfOne      = 64             // by one sender
	mostShared     = 4              // of one thing
	longestOwner   = 512            // bytes of what a client says of itself
	longestHolding = 12 * time.Hour // however often it is refreshed
)

// held returns the locks that have not ended, those that which reports.
func (k *locks) held(which func(*lock) bool) []*lock {
	k.mu.Lock()
	defer k.mu.Unlock()
	k.ended(time.Now())
	var out []*lock
	for _, l := range k.all {
		if which(l) {
			out = append(out, l)
		}
	}
	return out
}

// take holds a new lock, unless one that is held stands against it.
func (k *locks) take(l *lock) error {
	k.mu.Lock()
	defer k.mu.Unlock()
	now := time.Now()
	k.ended(now)
	own, beside := 0, 0
	for _, o := range k.all {
		if o.self == l.self {
			own++
		}
		if o.covers(l.root) || l.covers(o.root) {
			if !o.shared || !l.shared {
				return locked(o.root)
			}
			beside++
		}
	}
	if len(k.all) >= mostLocks || own >= mostOfOne || beside >= mostShared {
		return &api.Problem{Status: http.StatusInsufficientStorage, Title: "too many locks are held", Detail: fmt.Sprintf("close some files and try again: one program has at most %d, and %d share one thing", mostOfOne, mostShared)}
	}
	l.token, l.taken = "urn:uuid:"+uuid.NewString(), now
	l.hold(l.lasts, now)
	k.all = append(k.all, l)
	return nil
}

// hold keeps a lock up for a while, but not for ever.
func (l *lock) hold(lasts time.Duration, now time.Time) {
	l.lasts = max(min(lasts, l.taken.Add(longestHolding).Sub(now)), 0)
	l.expires = now.Add(l.lasts)
}

// ended drops what has; the lock is held.
func (k *locks) ended(now time.Time) {
	k.all = slices.DeleteFunc(k.all, func(l *lock) bool { return now.After(l.expires) })
}

// drop ends the locks that which reports.
func (k *locks) drop(which func(*lock) bool) (any bool) {
	k.mu.Lock()
	defer k.mu.Unlock()
	before := len(k.all)
	k.all = slices.DeleteFunc(k.all, which)
	return len(k.all) < before
}

func locked(p string) *api.Problem {
	return &api.Problem{Status: http.StatusLocked, Title: "another program has locked it", Detail: fmt.Sprintf("%s is open there: close it, or wait; a lock that nobody keeps up ends after ten minutes", p)}
}

// A touch is a path that a request changes.
type touch struct {
	path string
	deep bool // and what is below it
	link bool // and whether it is there, which is its folder's business
}

// touches are what a request changes.
func (f *files) touches(r *http.Request, p, to string) []touch {
	_, missing := f.Stat(r.Context(), p)
	switch r.Method {
	case http.MethodPut, "LOCK":
		return []touch{{p, false, missing != nil}}
	case "PROPPATCH":
		return []touch{{p, false, false}}
	case "MKCOL":
		return []touch{{p, false, true}}
	case http.MethodDelete:
		return []touch{{p, true, true}}
	case "MOVE":
		return []touch{{p, true, true}, {to, true, true}}
	case "COPY":
		return []touch{{to, true, true}}
	}
	return nil
}

// permit looks whether the locks that are held and a request's If header let it pass.
func (d *Door) permit(r *http.Request, p, to string) error {
	asked, err := parseIf(r.Header.Get("If"))
	if err != nil {
		return err
	}
	self := callOf(r.Context()).self
	has := func(l *lock) bool { return l.self == self && slices.Contains(asked.tokens(), l.token) }
	var stands *lock
	for _, t := range d.files.touches(r, p, to) {
		on := d.files.locks.held(func(l *lock) bool {
			return l.covers(t.path) || t.deep && below(t.path, l.root) || t.link && l.root == path.Dir(t.path)
		})
		for _, l := range on {
			if r.Method == "LOCK" && l.covers(t.path) { // whether the new one goes beside it is another question
				continue
			}
			if !has(l) && !(l.shared && slices.ContainsFunc(on, func(o *lock) bool { return o.shared && o.root == l.root && has(o) })) {
				stands = l
			}
		}
	}
	switch {
	case len(asked) > 0 && !d.holds(r, asked, p) && (stands == nil || slices.Contains(asked.tokens(), noLock)):
		return &api.Problem{Status: http.StatusPreconditionFailed, Title: "it is not as it was expected to be", Detail: "it was changed, or the lock has ended: list the folder again"}
	case stands != nil:
		return locked(stands.root)
	}
	return nil
}

// lockInfo is a LOCK's body.
type lockInfo struct {
	XMLName   xml.Name  `xml:"DAV: lockinfo"`
	Exclusive *struct{} `xml:"DAV: lockscope>exclusive"`
	Shared    *struct{} `xml:"DAV: lockscope>shared"`
	Write     *struct{} `xml:"DAV: locktype>write"`
	Owner     struct {
		Inner string `xml:",innerxml"`
	} `xml:"DAV: owner"`
}

// lock takes a lock or refreshes it.
func (d *Door) lock(w http.ResponseWriter, r *http.Request, p string) error {
	lasts := bounded(r.Header.Get("Timeout"))
	var in lockInfo
	switch err := xml.NewDecoder(r.Body).Decode(&in); {
	case r.ContentLength == 0:
		return d.refresh(w, r, p, lasts)
	case err != nil || in.Write == nil || (in.Exclusive == nil) == (in.Shared == nil):
		return &api.Problem{Status: http.StatusBadRequest, Title: "the lock that is asked for is none", Detail: "ask for an exclusive or a shared write lock, as in RFC 4918, 9.10"}
	}
	depth := r.Header.Get("Depth")
	if depth != "" && depth != "0" && !strings.EqualFold(depth, "infinity") {
		return &api.Problem{Status: http.StatusBadRequest, Title: "the Depth cannot be read", Detail: "it is 0 or infinity for a lock"}
	}
	l := &lock{root: p, shared: in.Shared != nil, deep: depth != "0", owner: in.Owner.Inner, self: callOf(r.Context()).self, prefix: callOf(r.Context()).prefix, lasts: lasts}
	switch {
	case fixed(p):
		return &api.Problem{Status: http.StatusForbidden, Title: "this folder is everybody's", Detail: "lock what is in it"}
	case len(l.owner) > longestOwner:
		return &api.Problem{Status: http.StatusRequestEntityTooLarge, Title: "the lock's owner is too long", Detail: fmt.Sprintf("at most %d bytes of it are kept", longestOwner)}
	}
	if err := d.files.locks.take(l); err != nil {
		return err
	}
	status := http.StatusOK
	if _, err := d.files.Stat(r.Context(), p); errors.Is(err, os.ErrNotExist) { // a place is held
		status = http.StatusCreated
		f, err := d.files.OpenFile(r.Context(), p, os.O_RDWR|os.O_CREATE|os.O_TRUNC, 0)
		if err != nil {
			d.files.locks.drop(func(o *lock) bool { return o == l })
			if errors.Is(err, os.ErrNotExist) {
				return &api.Problem{Status: http.StatusConflict, Title: words[http.StatusConflict][0], Detail: words[http.StatusConflict][1]}
			}
			return err
		}
		f.Close()
	}
	w.Header().Set("Lock-Token", "<"+l.token+">")
	discover(w, status, l)
	return nil
}

func (d *Door) refresh(w http.ResponseWriter, r *http.Request, p string, lasts time.Duration) error {
	asked, err := parseIf(r.Header.Get("If"))
	if err != nil {
		return err
	}
	mine := d.files.locks.held(func(l *lock) bool {
		return l.covers(p) && slices.Contains(asked.tokens(), l.token) && l.self == callOf(r.Context()).self
	})
	if len(mine) == 0 {
		return &api.Problem{Status: http.StatusPreconditionFailed, Title: "there is no such lock to be kept up", Detail: "it has ended: lock it anew"}
	}
	d.files.locks.mu.Lock()
	mine[0].hold(lasts, time.Now())
	d.files.locks.mu.Unlock()
	discover(w, http.StatusOK, mine[0])
	return nil
}

// unlock ends a lock.
func (d *Door) unlock(w http.ResponseWriter, r *http.Request, p string) error {
	token := strings.Trim(strings.TrimSpace(r.Header.Get("Lock-Token")), "<>")
	if token == "" {
		return &api.Problem{Status: http.StatusBadRequest, Title: "no lock is named", Detail: "send Lock-Token: <TOKEN>"}
	}
	self := callOf(r.Context()).self
	if !d.files.locks.drop(func(l *lock) bool { return l.token == token && l.covers(p) && l.self == self }) {
		return &api.Problem{Status: http.StatusConflict, Title: "it has no such lock", Detail: "it has ended already, or is another program's"}
	}
	w.WriteHeader(http.StatusNoContent)
	return nil
}

// discover answers with a lock.
func discover(w http.ResponseWriter, status int, l *lock) {
	w.Header().Set("Content-Type", "application/xml; charset=utf-8")
	w.WriteHeader(status)
	fmt.Fprintf(w, `<?xml version="1.0" encoding="utf-8"?>`+"\n"+`<D:prop xmlns:D="DAV:"><D:lockdiscovery>%s</D:lockdiscovery></D:prop>`, l.active(true))
}

// active is a lock as XML (RFC 4918, 14.1), with what its owner says of itself or without.
func (l *lock) active(owned bool) string {
	scope, depth := "exclusive", "0"
	if l.shared {
		scope = "shared"
	}
	if l.deep {
		depth = "infinity"
	}
	owner := ""
	if owned {
		owner = "<D:owner>" + l.owner + "</D:owner>"
	}
	root := url.URL{Path: l.prefix + l.root}
	return fmt.Sprintf(`<D:activelock xmlns:D="DAV:"><D:locktype><D:write/></D:locktype><D:lockscope><D:%s/></D:lockscope><D:depth>%s</D:depth>%s<D:timeout>Second-%s</D:timeout><D:locktoken><D:href>%s</D:href></D:locktoken><D:lockroot><D:href>%s</D:href></D:lockroot></D:activelock>`,
		scope, depth, owner, strconv.Itoa(int(l.lasts.Seconds())), l.token, escape(root.EscapedPath()))
}

func escape(s string) string {
	var b strings.Builder
	xml.EscapeText(&b, []byte(s))
	return b.String()
}

// Names of the properties that say which locks are possible, and held.
var (
	supportedLock = xml.Name{Space: "DAV:", Local: "supportedlock"}
	lockDiscovery = xml.Name{Space: "DAV:", Local: "lockdiscovery"}
)

const bothLocks = `<D:lockentry xmlns:D="DAV:"><D:lockscope><D:exclusive/></D:lockscope><D:locktype><D:write/></D:locktype></D:lockentry><D:lockentry xmlns:D="DAV:"><D:lockscope><D:shared/></D:lockscope><D:locktype><D:write/></D:locktype></D:lockentry>`

// describe adds which locks are held to the properties of what is at a path. What an owner
// says is said where it has taken the lock, and not of all that is below.
func (k *locks) describe(p string, properties map[xml.Name]webdav.Property) {
	var held strings.Builder
	for _, l := range k.held(func(l *lock) bool { return l.covers(p) }) {
		held.WriteString(l.active(l.root == p))
	}
	properties[lockDiscovery] = webdav.Property{XMLName: lockDiscovery, InnerXML: []byte(held.String())}
}

// unlocked lets the protocol's other side believe that nothing is locked: what is has been
// looked at by then.
type unlocked struct{}

// Confirm confirms.
func (unlocked) Confirm(time.Time, string, string, ...webdav.Condition) (func(), error) {
	return func() {}, nil
}

// Create is asked for while something is changed.
func (unlocked) Create(time.Time, webdav.LockDetails) (string, error) { return "none", nil }

// Refresh is not asked for.
func (unlocked) Refresh(time.Time, string, time.Duration) (webdav.LockDetails, error) {
	return webdav.LockDetails{}, webdav.ErrNoSuchLock
}

// Unlock ends what Create began.
func (unlocked) Unlock(time.Time, string) error { return nil }
