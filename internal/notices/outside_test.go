package notices

import (
	"context"
	"net"
	"net/http"
	"net/netip"
	"testing"
)

func TestTheHostGoesToPublicAddressesAlone(t *testing.T) {
	for address, is := range map[string]bool{
		"9.9.9.9": true, "2620:fe::fe": true, "64:ff9b::909:909": true, "172.32.0.1": true,
		"127.0.0.1": false, "127.8.8.8": false, "0.0.0.0": false, "10.0.0.1": false, "172.16.0.1": false, "172.31.255.255": false, "192.168.1.1": false,
		"169.254.169.254": false, "100.64.0.1": false, "198.18.0.1": false, "192.0.2.1": false, "203.0.113.9": false, "224.0.0.251": false, "255.255.255.255": false,
		"::": false, "::1": false, "fe80::1": false, "fe80::1%eth0": false, "fc00::1": false, "fd12:3456::1": false, "ff02::1": false, "::ffff:127.0.0.1": false, "::ffff:192.168.1.1": false,
		"64:ff9b::7f00:1": false, "64:ff9b::c0a8:101": false, "64:ff9b:1::1": false, "2002:7f00:1::1": false, "2001::1": false, "2001:db8::1": false, "3fff::1": false, "::7f00:1": false, "fec0::1": false,
	} {
		if public(netip.MustParseAddr(address)) != is {
			t.Errorf("%s is public: %v", address, !is)
		}
	}
}

func TestANameThatLeadsInsideIsNotConnectedTo(t *testing.T) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	defer l.Close()
	reached := make(chan bool, 1)
	go func() {
		if c, err := l.Accept(); err == nil {
			c.Close()
			reached <- true
		}
	}()
	_, port, _ := net.SplitHostPort(l.Addr().String())
	t.Setenv("HTTPS_PROXY", "http://"+l.Addr().String())
	for _, host := range []string{"localhost", "127.0.0.1", "[::ffff:127.0.0.1]", "[::1]", "0.0.0.0", "2130706433"} {
		r, _ := http.NewRequestWithContext(context.Background(), "POST", "https://"+host+":"+port+"/x", nil)
		if res, err := caller().Do(r); err == nil {
			res.Body.Close()
			t.Errorf("%s answered", host)
		}
	}
	select {
	case <-reached:
		t.Error("it was connected to")
	default:
	}
	if !near(netip.MustParseAddr("127.0.0.9")) {
		t.Error("a network that this computer is in is not near")
	}
}
