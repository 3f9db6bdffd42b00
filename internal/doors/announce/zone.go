package announce

import (
	"bytes"
	"net"
	"os"
	"slices"
	"strings"

	"github.com/miekg/dns"
)

// A zone is what is announced.
type zone struct {
	instance, web string // full names of the service, as Diathermon's and as a web page
	kind          string // of a web page
	machine       string
	port          int
	text          []string
}

// machineName is what this computer is called, as one label.
func machineName() string {
	name, err := os.Hostname()
	if name, _, _ = strings.Cut(name, "."); err != nil || name == "" {
		return "diathermon"
	}
	return label(name)
}

// unique are the names that nobody else may have.
func (z *zone) unique() []string { return []string{z.instance, z.web, z.machine} }

func header(name string, kind uint16, ttl int, unique bool) dns.RR_Header {
	class := uint16(dns.ClassINET)
	if unique {
		class |= flush
	}
	return dns.RR_Header{Name: name, Rrtype: kind, Class: class, Ttl: uint32(ttl)}
}

func (z *zone) pointers(ttl int) []dns.RR {
	pointer := func(from, to string) dns.RR {
		return &dns.PTR{Hdr: header(from, dns.TypePTR, ttl, false), Ptr: to}
	}
	return []dns.RR{pointer(Type, z.instance), pointer(z.kind, z.web), pointer(services, Type), pointer(services, z.kind)}
}

func (z *zone) texts(ttl int) []dns.RR {
	return []dns.RR{
		&dns.TXT{Hdr: header(z.instance, dns.TypeTXT, ttl, true), Txt: z.text},
		&dns.TXT{Hdr: header(z.web, dns.TypeTXT, ttl, true), Txt: []string{"path=/"}},
	}
}

func (z *zone) places(ttl int) []dns.RR {
	at := func(name string) dns.RR {
		return &dns.SRV{Hdr: header(name, dns.TypeSRV, min(ttl, ttlHost), true), Port: uint16(z.port), Target: z.machine}
	}
	return []dns.RR{at(z.instance), at(z.web)}
}

func (z *zone) addresses(all []net.IP, ttl int) []dns.RR {
	var out []dns.RR
	for _, ip := range all {
		out = append(out, &dns.A{Hdr: header(z.machine, dns.TypeA, min(ttl, ttlHost), true), A: ip})
	}
	return out
}

// all is everything that is announced by an interface; with a ttl of 0 it is a goodbye,
// which leaves out what others on this computer may announce as well.
func (z *zone) all(on joined, ttl int) []dns.RR {
	if ttl == 0 {
		return slices.Concat(z.pointers(0)[:2], z.places(0), z.texts(0))
	}
	return slices.Concat(z.pointers(ttl), z.places(ttl), z.texts(ttl), z.addresses(on.ips, ttl))
}

// proposed is what a probe says it wants to have.
func (z *zone) proposed(on joined) []dns.RR {
	out := slices.Concat(z.places(ttlHost), z.addresses(on.ips, ttlHost))
	for _, rr := range out {
		rr.Header().Class &^= flush
	}
	return out
}

// answers are the records that a question asks for.
func (z *zone) answers(on int, at *net4, q dns.Question) []dns.RR {
	var out []dns.RR
	for _, rr := range z.all(interfaceOf(at, on), ttlShared) {
		h := rr.Header()
		if strings.EqualFold(h.Name, q.Name) && (q.Qtype == dns.TypeANY || q.Qtype == h.Rrtype) && q.Qclass&^flush&dns.ClassINET != 0 {
			out = append(out, rr)
		}
	}
	return out
}

// contradicts reports whether somebody else says otherwise of a name that is ours. The
// machine's name is also said by others on this computer, with the same addresses.
func (z *zone) contradicts(m *dns.Msg, ours []net.IP) error {
	for _, rr := range slices.Concat(m.Answer, m.Extra) {
		h := rr.Header()
		if h.Ttl == 0 {
			continue
		}
		switch r := rr.(type) {
		case *dns.SRV:
			if (strings.EqualFold(h.Name, z.instance) || strings.EqualFold(h.Name, z.web)) && (int(r.Port) != z.port || !strings.EqualFold(r.Target, z.machine)) {
				return conflicted{}
			}
		case *dns.A:
			if strings.EqualFold(h.Name, z.machine) && len(ours) > 0 && !slices.ContainsFunc(everyAddress(), r.A.Equal) {
				return conflicted{machine: true}
			}
		}
	}
	return nil
}

// yields reports whether somebody who probes for our name at the same time goes before us:
// whose records come later in order (RFC 6762, 8.2).
func (z *zone) yields(m *dns.Msg) bool {
	for _, rr := range m.Ns {
		srv, ok := rr.(*dns.SRV)
		if !ok || !strings.EqualFold(srv.Hdr.Name, z.instance) {
			continue
		}
		for _, mine := range z.places(ttlHost) {
			if strings.EqualFold(mine.Header().Name, z.instance) && bytes.Compare(data(srv), data(mine)) > 0 {
				return true
			}
		}
	}
	return false
}

// data is what a record says, as it goes over the wire uncompressed.
func data(rr dns.RR) []byte {
	rr = dns.Copy(rr)
	rr.Header().Name, rr.Header().Class, rr.Header().Ttl = ".", dns.ClassINET, 0
	b := make([]byte, 1024)
	n, err := dns.PackRR(rr, b, 0, nil, false)
	if err != nil {
		return nil
	}
	return bytes.ToLower(b[:n])
}

// everyAddress are all addresses of this computer.
func everyAddress() []net.IP {
	all, err := net.InterfaceAddrs()
	if err != nil {
		return nil
	}
	var out []net.IP
	for _, a := range all {
		if n, ok := a.(*net.IPNet); ok {
			out = append(out, n.IP)
		}
	}
	return out
}
