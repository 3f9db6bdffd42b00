package announce

import (
	"context"
	"errors"
	"fmt"
	"net"
	"slices"
	"strings"
	"time"

	"github.com/miekg/dns"
	"golang.org/x/net/ipv4"
)

// Found is a host that was found on the network.
type Found struct {
	Name  string // of its printer
	URL   string
	State string // idle, printing, …; empty: it does not say
}

// secured is what a host says that speaks TLS.
const secured = "tls=1"

// Find asks the network which hosts there are, and waits so long for answers (RFC 6762,
// 5.1: a one-shot query).
func Find(ctx context.Context, wait time.Duration) ([]Found, error) {
	raw, err := net.ListenPacket("udp4", "0.0.0.0:0")
	if err != nil {
		return nil, err
	}
	defer raw.Close()
	conn := ipv4.NewPacketConn(raw)
	conn.SetMulticastTTL(255)
	question := &dns.Msg{Question: []dns.Question{{Name: Type, Qtype: dns.TypePTR, Qclass: dns.ClassINET}}}
	question.Id = dns.Id()
	b, err := question.Pack()
	if err != nil {
		return nil, err
	}
	n := &net4{conn: conn, raw: raw, ip: net.IPv4zero}
	n.join()
	asked := n.interfaces()
	if len(asked) == 0 {
		return nil, errors.New("this computer is on no network")
	}
	for _, on := range asked {
		conn.WriteTo(b, &ipv4.ControlMessage{IfIndex: on.Index}, group)
	}
	ctx, cancel := context.WithTimeout(ctx, wait)
	defer cancel()
	context.AfterFunc(ctx, func() { raw.SetReadDeadline(time.Now()) })
	var out []Found
	answer := make([]byte, 9000)
	for {
		size, from, err := raw.ReadFrom(answer)
		if err != nil {
			slices.SortFunc(out, func(a, b Found) int { return strings.Compare(a.Name+a.URL, b.Name+b.URL) })
			return out, nil
		}
		m := &dns.Msg{}
		if m.Unpack(answer[:size]) != nil || !m.Response || m.Id != question.Id {
			continue
		}
		for _, one := range read(m, from.(*net.UDPAddr).IP) {
			if !slices.ContainsFunc(out, func(o Found) bool { return o.URL == one.URL }) {
				out = append(out, one)
			}
		}
	}
}

// read reads the hosts of an answer; where it has no address, it came from there.
func read(m *dns.Msg, from net.IP) []Found {
	all := slices.Concat(m.Answer, m.Extra)
	var out []Found
	for _, rr := range all {
		pointer, ok := rr.(*dns.PTR)
		if !ok || !strings.EqualFold(pointer.Hdr.Name, Type) {
			continue
		}
		labels := dns.SplitDomainName(pointer.Ptr)
		if len(labels) == 0 {
			continue
		}
		one, scheme := Found{Name: plain(labels[0])}, "http://"
		for _, rr := range all {
			if !strings.EqualFold(rr.Header().Name, pointer.Ptr) {
				continue
			}
			switch r := rr.(type) {
			case *dns.SRV:
				one.URL = net.JoinHostPort(from.String(), fmt.Sprint(r.Port))
			case *dns.TXT:
				for _, t := range r.Txt {
					if state, is := strings.CutPrefix(t, "state="); is {
						one.State = state
					}
					if t == secured {
						scheme = "https://"
					}
				}
			}
		}
		if one.URL != "" {
			one.URL = scheme + one.URL
			out = append(out, one)
		}
	}
	return out
}

// plain is a label without its escapes.
func plain(label string) string {
	var b []byte
	for i := 0; i < len(label); i++ {
		if label[i] != '\\' || i+1 == len(label) {
			b = append(b, label[i])
			continue
		}
		if i++; i+2 < len(label) && label[i] >= '0' && label[i] <= '9' {
			var n int
			fmt.Sscanf(label[i:i+3], "%03d", &n)
			b = append(b, byte(n))
			i += 2
		} else {
			b = append(b, label[i])
		}
	}
	return strings.ToValidUTF8(string(b), "�")
}
