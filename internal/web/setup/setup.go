// Package setup is the area of how programs and devices are connected to the host.
package setup

import (
	"context"
	"fmt"
	"net"
	"net/http"
	"slices"

	"github.com/danielgtaylor/huma/v2"
	"rsc.io/qr"

	"diathermon/internal/api"
	"diathermon/internal/core/machine"
	"diathermon/internal/doors/dav"
	"diathermon/internal/doors/folder"
	"diathermon/internal/host"
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
}

// Mount mounts the area.
func (a Area) Mount(d *desk.Desk) {
	desk.Show(d, d.Op("try-connection", http.MethodGet, "/v1/trial", desk.Send, "What a program that was just connected wants to know: whether its token is good and the printer ready"),
		func(ctx context.Context, _ *struct{}) (api.Trial, error) {
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
	desk.Show(d, d.Op("get-addresses", http.MethodGet, "/v1/addresses", desk.Read, "Where other devices reach the host, and by which doors files come"),
		func(context.Context, *struct{}) (api.Addresses, error) { return a.addresses(), nil })
	code := d.Op("get-address-code", http.MethodGet, "/v1/addresses/code", desk.Read, "An address of the host as a QR code, for a phone's camera", 404)
	code.Responses = map[string]*huma.Response{"200": {Description: "The code", Content: map[string]*huma.MediaType{"image/svg+xml": {Schema: &huma.Schema{Type: "string"}}}}}
	code.Parameters = []*huma.Param{{Name: "url", In: "query", Description: "One of the addresses; without it the first", Schema: &huma.Schema{Type: "string"}}}
	d.Raw(code, "", a.code)
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
	out := api.Addresses{URLs: Reachable(a.Listen), Folder: dav.Prefix + "/"}
	if w := a.Watched; w != nil {
		s := w.State()
		out.Watch = &api.Watched{Path: w.Path, Start: w.Start, There: s.There, Why: s.Why, Taken: s.Taken, Last: s.Last}
	}
	return out
}

// Reachable are the URLs under which other devices reach a service that listens there.
func Reachable(listen net.Addr) []string {
	at, ok := listen.(*net.TCPAddr)
	out := []string{}
	if !ok || at.IP.IsLoopback() {
		return out
	}
	url := func(ip net.IP) string { return "http://" + net.JoinHostPort(ip.String(), fmt.Sprint(at.Port)) }
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
	all := Reachable(a.Listen)
	url := r.URL.Query().Get("url")
	switch {
	case len(all) == 0:
		return &api.Problem{Status: http.StatusNotFound, Title: "other devices do not reach this host", Detail: "it listens on its own computer alone: start it with --listen 0.0.0.0:8437"}
	case url == "":
		url = all[0]
	case !slices.Contains(all, url):
		return &api.Problem{Status: http.StatusNotFound, Title: "this is no address of this host", Detail: fmt.Sprintf("it has %v", all)}
	}
	code, err := qr.Encode(url, qr.M)
	if err != nil {
		return err
	}
	w.Header().Set("Content-Type", "image/svg+xml")
	w.Header().Set("Cache-Control", "no-store")
	drawn(w, code)
	return nil
}

const quiet = 4 // modules around a code (ISO/IEC 18004)

// drawn draws a code: dots for its modules, and rounded finders, in ink on paper in any
// theme, since cameras want dark on light.
func drawn(w http.ResponseWriter, code *qr.Code) {
	side := code.Size + 2*quiet
	fmt.Fprintf(w, `<svg xmlns="http://www.w3.org/2000/svg" viewBox="0 0 %d %d" role="img"><rect width="%d" height="%d" fill="#f4f1ec"/><g fill="#23201c">`, side, side, side, side)
	for y := range code.Size {
		for x := range code.Size {
			if code.Black(x, y) && !finder(x, y, code.Size) {
				fmt.Fprintf(w, `<rect x="%.2f" y="%.2f" width=".96" height=".96" rx=".3"/>`, float64(x+quiet)+0.02, float64(y+quiet)+0.02)
			}
		}
	}
	for _, at := range [][2]int{{quiet, quiet}, {quiet + code.Size - 7, quiet}, {quiet, quiet + code.Size - 7}} {
		fmt.Fprintf(w, `<rect x="%d.5" y="%d.5" width="6" height="6" rx="1.4" fill="none" stroke="#23201c"/><rect x="%d" y="%d" width="3" height="3" rx=".9" fill="#a8431b"/>`, at[0], at[1], at[0]+2, at[1]+2)
	}
	fmt.Fprint(w, `</g></svg>`)
}

// finder reports whether a module belongs to one of the three squares in the corners.
func finder(x, y, size int) bool {
	return x < 7 && y < 7 || x >= size-7 && y < 7 || x < 7 && y >= size-7
}
