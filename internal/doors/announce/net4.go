package announce

import (
	"context"
	"errors"
	"fmt"
	"net"
	"slices"
	"sync"
	"syscall"

	"github.com/miekg/dns"
	"golang.org/x/net/ipv4"
	"golang.org/x/sys/unix"
)

const port = 5353

var group = &net.UDPAddr{IP: net.IPv4(224, 0, 0, 251), Port: port}

// net4 is the multicast group of DNS on every interface by which the host is reached.
type net4 struct {
	conn *ipv4.PacketConn
	raw  net.PacketConn
	ip   net.IP

	mu  sync.Mutex
	all []joined
}

// joined is an interface with its addresses.
type joined struct {
	net.Interface
	ips []net.IP
}

// open joins the group, beside whatever else on this computer has.
func open(ip net.IP) (*net4, error) {
	config := net.ListenConfig{Control: func(_, _ string, c syscall.RawConn) error {
		var err error
		c.Control(func(fd uintptr) {
			err = errors.Join(unix.SetsockoptInt(int(fd), unix.SOL_SOCKET, unix.SO_REUSEADDR, 1), unix.SetsockoptInt(int(fd), unix.SOL_SOCKET, unix.SO_REUSEPORT, 1))
		})
		return err
	}}
	raw, err := config.ListenPacket(context.Background(), "udp4", fmt.Sprintf("224.0.0.251:%d", port))
	if err != nil {
		return nil, err
	}
	n := &net4{conn: ipv4.NewPacketConn(raw), raw: raw, ip: ip}
	if err := errors.Join(n.conn.SetControlMessage(ipv4.FlagInterface, true), n.conn.SetMulticastLoopback(true), n.conn.SetMulticastTTL(255)); err != nil {
		raw.Close()
		return nil, err
	}
	n.join()
	return n, nil
}

func (n *net4) close() { n.raw.Close() }

// join joins on interfaces that have come, and reports whether there are other addresses
// than before.
func (n *net4) join() bool {
	all, err := net.Interfaces()
	if err != nil {
		return false
	}
	var now []joined
	for _, i := range all {
		if i.Flags&net.FlagUp == 0 || i.Flags&net.FlagMulticast == 0 || i.Flags&net.FlagLoopback != 0 {
			continue
		}
		j := joined{Interface: i}
		addresses, _ := i.Addrs()
		for _, a := range addresses {
			if net4, ok := a.(*net.IPNet); ok && net4.IP.To4() != nil && (n.ip.IsUnspecified() || n.ip.Equal(net4.IP)) {
				j.ips = append(j.ips, net4.IP.To4())
			}
		}
		if len(j.ips) > 0 {
			n.conn.JoinGroup(&i, group) // it may be in it already
			now = append(now, j)
		}
	}
	n.mu.Lock()
	defer n.mu.Unlock()
	same := slices.EqualFunc(n.all, now, func(a, b joined) bool { return a.Index == b.Index && slices.EqualFunc(a.ips, b.ips, net.IP.Equal) })
	n.all = now
	return !same
}

func (n *net4) interfaces() []joined {
	n.mu.Lock()
	defer n.mu.Unlock()
	return slices.Clone(n.all)
}

// interfaceOf is the one of an index, with no addresses if there is none.
func interfaceOf(n *net4, index int) joined {
	for _, j := range n.interfaces() {
		if j.Index == index {
			return j
		}
	}
	return joined{}
}

func (n *net4) addresses(index int) []net.IP { return interfaceOf(n, index).ips }

// send sends by an interface: to the group, or to one.
func (n *net4) send(on joined, m *dns.Msg, to *net.UDPAddr) {
	m.Compress = true
	b, err := m.Pack()
	if err != nil || on.Index == 0 {
		return
	}
	if to == nil {
		to = group
	}
	n.conn.WriteTo(b, &ipv4.ControlMessage{IfIndex: on.Index}, to) // the next announcement, if it fails
}

// listen hands out what arrives until the connection is closed. What is more than can be
// looked at is dropped: it is asked again.
func (n *net4) listen(events chan<- event) {
	b := make([]byte, 9000)
	for {
		size, control, from, err := n.conn.ReadFrom(b)
		if errors.Is(err, net.ErrClosed) {
			return
		}
		if err != nil || control == nil {
			continue
		}
		udp, ok := from.(*net.UDPAddr)
		m := &dns.Msg{}
		if !ok || m.Unpack(b[:size]) != nil || m.Opcode != dns.OpcodeQuery {
			continue
		}
		select {
		case events <- event{m, udp, control.IfIndex}:
		default:
		}
	}
}
