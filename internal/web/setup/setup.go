// Package setup is the area of how programs and devices are connected to the host.
package setup

import (
	"context"
	"fmt"
	"net"
	"net/http"
	"slices"

	"github.com/danielgtaylor/huma/v2"

	"diathermon/internal/api"
	"diathermon/internal/api/ops"
	"diathermon/internal/core/machine"
	"diathermon/internal/doors/dav"
	"diathermon/internal/doors/folder"
	"diathermon/internal/host"
	"diathermon/internal/qrcode"
	"diathermon/internal/seal"
	"diathermon/internal/web/desk"
	"diathermon/internal/web/guard"
)

// Host is the live machine.
type Host interface {
	Bench(ctx context.Context) (host.Bench, error)
}

// Area is the area.
type Area struct {
	Printer machine.Printer
	Host    Host
	Listen  net.Addr       // where the service listens
	Watched *folder.Folder // nil: none is
	Seal    *seal.Seal     // nil: the service does not speak TLS

	Describing Describing
}

// Mount mounts the area.
func (a Area) Mount(d *desk.Desk) {
	a.describe(d)
	desk.Show(d, ops.TryConnection, func(ctx context.Context, _ *ops.Nothing) (api.Trial, error) {
		h := guard.Holder(ctx)
		out := api.Trial{Name: h.Caller(), Scopes: h.May(), Printer: a.Printer.Name}
		now, err := a.Host.Bench(ctx)
		if err != nil {
			return out, err
		}
		out.Why, out.Do = notReady(now)
		out.Ready = out.Why == ""
		return out, nil
	})
	desk.Show(d, ops.GetAddresses, func(context.Context, *ops.Nothing) (api.Addresses, error) { return a.addresses(), nil })
	code := d.Describe(ops.GetAddressCode.Call)
	code.Responses = map[string]*huma.Response{"200": {Description: "The code", Content: map[string]*huma.MediaType{"image/svg+xml": {Schema: &huma.Schema{Type: "string"}}}}}
	code.Parameters = []*huma.Param{{Name: "url", In: "query", Description: "One of the addresses; without it the first", Schema: &huma.Schema{Type: "string"}}}
	d.Raw(code, "", a.code)
	own := d.Describe(ops.GetCertificate.Call)
	own.Responses = map[string]*huma.Response{"200": {Description: "The certificate, as PEM (RFC 7468)", Content: map[string]*huma.MediaType{"application/x-pem-file": {Schema: &huma.Schema{Type: "string"}}}}}
	d.Raw(own, "", a.certificate)
}

// notReady says why nothing could be started now.
func notReady(now host.Bench) (why, do string) {
	switch {
	case !now.Link.Live():
		return "the printer is not there: " + now.Link.Reason, "plug its cable in and switch it on"
	case now.Run != nil && now.Run.State.Going():
		return now.Run.File + " is being printed", "let the file wait in turn, or store it"
	case len(now.Heat.Alarms) > 0:
		return "an alarm waits for a person", "see to it on the bench"
	}
	return "", ""
}

func (a Area) addresses() api.Addresses {
	out := api.Addresses{URLs: Reachable(a.Seal.Scheme(), a.Listen), Folder: dav.Prefix + "/"}
	if a.Seal != nil {
		s := a.Seal.Shown()
		out.Seal = &api.Seal{Own: s.Own, Fingerprint: s.Fingerprint, Key: s.Key, Until: s.Until.UTC()}
	}
	if w := a.Watched; w != nil {
		s := w.State()
		out.Watch = &api.Watched{Path: w.Path, Start: w.Start, There: s.There, Why: s.Why, Taken: s.Taken, Last: s.Last}
	}
	return out
}

// certificate hands the certificate out.
func (a Area) certificate(w http.ResponseWriter, r *http.Request) error {
	if a.Seal == nil {
		return &api.Problem{Status: http.StatusNotFound, Title: "this host has no certificate", Detail: "set web.own_certificate in diathermon.toml to have one made"}
	}
	w.Header().Set("Content-Type", "application/x-pem-file")
	w.Header().Set("Content-Disposition", `attachment; filename="certificate.pem"`)
	w.Write(a.Seal.Shown().PEM)
	return nil
}

// Reachable are the URLs under which other devices reach a service that listens there.
func Reachable(scheme string, listen net.Addr) []string {
	at, ok := listen.(*net.TCPAddr)
	out := []string{}
	if !ok || at.IP.IsLoopback() {
		return out
	}
	url := func(ip net.IP) string { return scheme + "://" + net.JoinHostPort(ip.String(), fmt.Sprint(at.Port)) }
	if !at.IP.IsUnspecified() {
		return append(out, url(at.IP))
	}
	all, err := net.InterfaceAddrs()
	if err != nil {
		return out
	}
	for _, one := range all {
		if n, ok := one.(*net.IPNet); ok && n.IP.To4() != nil && !n.IP.IsLoopback() {
			out = append(out, url(n.IP))
		}
	}
	return out
}

// code draws an address.
func (a Area) code(w http.ResponseWriter, r *http.Request) error {
	all := Reachable(a.Seal.Scheme(), a.Listen)
	url := r.URL.Query().Get("url")
	switch {
	case len(all) == 0:
		return &api.Problem{Status: http.StatusNotFound, Title: "other devices do not reach this host", Detail: "it listens on its own computer alone: start it with --listen 0.0.0.0:8437"}
	case url == "":
		url = all[0]
	case !slices.Contains(all, url):
		return &api.Problem{Status: http.StatusNotFound, Title: "this is no address of this host", Detail: fmt.Sprintf("it has %v", all)}
	}
	w.Header().Set("Content-Type", "image/svg+xml")
	w.Header().Set("Cache-Control", "no-store")
	return qrcode.SVG(w, url)
}
