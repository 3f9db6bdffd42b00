// Package announce lets the host be found on the local network: by DNS-based service
// discovery (RFC 6763) over multicast DNS (RFC 6762), and finds others.
//
// It promises to take a name that nobody else has, also when the other one comes later, to
// say goodbye when it ends, and to send nothing but by the interfaces on which the host is
// reached. It is of IPv4; a host that has IPv6 as well is found by it all the same.
package announce

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"math/rand/v2"
	"net"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/miekg/dns"
)

// Type is the service's, of Diathermon's own.
const Type = "_diathermon._tcp.local."

const (
	services = "_services._dns-sd._udp.local."
	web      = "_http._tcp.local." // any browser of services shows it
	webTLS   = "_https._tcp.local."

	ttlShared = 75 * 60 // seconds; RFC 6762, 10
	ttlHost   = 2 * 60

	probes        = 3
	probeEvery    = 250 * time.Millisecond
	announcements = 2
	announceEvery = time.Second
	interfacesFor = 10 * time.Second // until they are looked at again
	mostRenames   = 100
	flush         = 1 << 15 // the cache-flush bit; in a question, that of a unicast answer
)

// A Host announces one service.
type Host struct {
	Name   string          // of the instance, as persons read it
	Port   int             // of HTTP
	IP     net.IP          // on which it is reached; unspecified: on all
	Sealed bool            // it speaks TLS
	Text   func() []string // key=value; the state of now
	Log    *slog.Logger

	mu       sync.Mutex
	instance string // as it is now, after conflicts
	machine  string // the host's name with .local.
}

// Called is what the service is announced as; empty: it is not yet.
func (h *Host) Called() string {
	h.mu.Lock()
	defer h.mu.Unlock()
	return h.instance
}

// event is what arrives.
type event struct {
	msg  *dns.Msg
	from *net.UDPAddr
	on   int // the interface's index
}

// Work announces until ctx ends, and then says goodbye.
func (h *Host) Work(ctx context.Context) {
	for ctx.Err() == nil {
		if err := h.work(ctx); err != nil {
			h.Log.Warn("the host cannot be announced on the network; trying again", "error", err)
		}
		select {
		case <-time.After(interfacesFor):
		case <-ctx.Done():
		}
	}
}

// conflicted says that somebody else has one of the names.
type conflicted struct{ machine bool }

func (conflicted) Error() string { return "somebody else has the name" }

func (h *Host) work(ctx context.Context) error {
	at, err := open(h.IP)
	if err != nil {
		return err
	}
	defer at.close()
	events := make(chan event, 64)
	listening := sync.WaitGroup{}
	listening.Go(func() { at.listen(events) })
	defer func() { at.close(); listening.Wait() }()

	instance, machine := 1, 1
	base := machineName()
	for range mostRenames {
		h.mu.Lock()
		h.instance, h.machine = "", numbered(base, machine, "-%d")+".local."
		h.mu.Unlock()
		name := numbered(h.Name, instance, " (%d)")
		err := h.live(ctx, at, events, name)
		var c conflicted
		switch {
		case !errors.As(err, &c):
			return err
		case c.machine:
			machine++
		default:
			instance++
		}
		h.Log.Info("another host is called so on this network; taking another name", "name", name)
	}
	return errors.New("no name is free")
}

func numbered(name string, n int, with string) string {
	if n == 1 {
		return name
	}
	return name + fmt.Sprintf(with, n)
}

// label is a name as one label of a domain name: at most 63 bytes, escaped.
func label(name string) string {
	for len(name) > 63 {
		r := []rune(name)
		name = string(r[:len(r)-1])
	}
	var b strings.Builder
	for _, c := range []byte(name) {
		switch {
		case c == '.' || c == '\\' || c == '"' || c == '(' || c == ')' || c == ';' || c == '@' || c == '$':
			b.WriteByte('\\')
			b.WriteByte(c)
		case c <= ' ' || c > '~':
			fmt.Fprintf(&b, "\\%03d", c)
		default:
			b.WriteByte(c)
		}
	}
	return b.String()
}

// live probes for a name, announces it and answers for it until ctx ends, or somebody
// else has it.
func (h *Host) live(ctx context.Context, at *net4, events <-chan event, name string) error {
	h.mu.Lock()
	machine := h.machine
	h.mu.Unlock()
	mine := &zone{instance: label(name) + "." + Type, kind: web, machine: machine, port: h.Port, text: h.Text()}
	if h.Sealed {
		mine.kind, mine.text = webTLS, append(mine.text, secured)
	}
	mine.web = label(name) + "." + mine.kind
	if err := h.probe(ctx, at, events, mine); err != nil {
		return err
	}
	h.mu.Lock()
	h.instance = name
	h.mu.Unlock()
	h.Log.Info("announced on the network", "name", name, "machine", machine)
	defer func() {
		for _, on := range at.interfaces() {
			at.send(on, message(mine.all(on, 0)), nil)
		}
	}()
	left := announcements
	next := time.NewTimer(0)
	defer next.Stop()
	look := time.NewTicker(time.Second)
	defer look.Stop()
	looked := time.Now()
	for {
		select {
		case <-ctx.Done():
			return nil
		case <-next.C:
			for _, on := range at.interfaces() {
				at.send(on, message(mine.all(on, ttlShared)), nil)
			}
			if left--; left > 0 {
				next.Reset(announceEvery)
			}
		case now := <-look.C:
			if now.Sub(looked) > interfacesFor {
				looked = now
				if at.join() {
					left = announcements
					next.Reset(0)
				}
			}
			if text := h.Text(); !slices.Equal(text, mine.text) {
				mine.text = text
				for _, on := range at.interfaces() {
					at.send(on, message(mine.texts(ttlShared)), nil)
				}
			}
		case e := <-events:
			if e.msg.Response {
				if err := mine.contradicts(e.msg, at.addresses(e.on)); err != nil {
					return err
				}
				continue
			}
			answer(at, e, mine)
		}
	}
}

// probe asks whether somebody has the names (RFC 6762, 8.1).
func (h *Host) probe(ctx context.Context, at *net4, events <-chan event, mine *zone) error {
	wait := time.NewTimer(time.Duration(rand.Int64N(int64(probeEvery))))
	defer wait.Stop()
	for sent := 0; ; {
		select {
		case <-ctx.Done():
			return nil
		case <-wait.C:
			if sent == probes {
				return nil
			}
			for _, on := range at.interfaces() {
				m := &dns.Msg{}
				for _, name := range mine.unique() {
					m.Question = append(m.Question, dns.Question{Name: name, Qtype: dns.TypeANY, Qclass: dns.ClassINET})
				}
				m.Ns = mine.proposed(on)
				at.send(on, m, nil)
			}
			sent++
			wait.Reset(probeEvery)
		case e := <-events:
			var err error
			if e.msg.Response {
				err = mine.contradicts(e.msg, at.addresses(e.on))
			} else if len(e.msg.Ns) > 0 && mine.yields(e.msg) { // somebody probes for the same at the same time
				sent = 0
				wait.Reset(time.Second)
			}
			if err != nil {
				return err
			}
		}
	}
}

// answer answers a query as far as it is about what is announced.
func answer(at *net4, e event, mine *zone) {
	legacy := e.from.Port != port
	out := &dns.Msg{}
	out.Response, out.Authoritative = true, true
	unicast := legacy
	for _, q := range e.msg.Question {
		found := mine.answers(e.on, at, q)
		if q.Qclass&flush != 0 && len(found) > 0 && len(e.msg.Ns) == 0 { // who probes may be on this computer, where a unicast answer finds anybody
			unicast = true
		}
		for _, rr := range found {
			if !known(e.msg.Answer, rr) && !known(out.Answer, rr) {
				out.Answer = append(out.Answer, rr)
			}
		}
	}
	if len(out.Answer) == 0 {
		return
	}
	for _, rr := range mine.all(interfaceOf(at, e.on), ttlShared) { // what will be asked for next
		if !known(out.Answer, rr) && rr.Header().Rrtype != dns.TypePTR {
			out.Extra = append(out.Extra, rr)
		}
	}
	if legacy { // it knows nothing of the bit, and must not keep it for long (RFC 6762, 6.7)
		out.Id, out.Question = e.msg.Id, e.msg.Question
		for _, rr := range slices.Concat(out.Answer, out.Extra) {
			rr.Header().Class &^= flush
			rr.Header().Ttl = min(rr.Header().Ttl, 10)
		}
		for i := range out.Question {
			out.Question[i].Qclass &^= flush
		}
	}
	to := e.from
	if !unicast {
		to = nil
	}
	at.send(interfaceOf(at, e.on), out, to)
}

// known reports whether a record is among others, and will be for a while.
func known(others []dns.RR, rr dns.RR) bool {
	return slices.ContainsFunc(others, func(o dns.RR) bool {
		return o.Header().Ttl >= rr.Header().Ttl/2 && same(o, rr)
	})
}

// same compares records but for their time to live and the cache-flush bit.
func same(a, b dns.RR) bool {
	a, b = dns.Copy(a), dns.Copy(b)
	a.Header().Class &^= flush
	b.Header().Class &^= flush
	return dns.IsDuplicate(a, b)
}

func message(answers []dns.RR) *dns.Msg {
	m := &dns.Msg{Answer: answers}
	m.Response, m.Authoritative = true, true
	return m
}
