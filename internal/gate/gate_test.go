package gate_test

import (
	"bufio"
	"fmt"
	"io"
	"net"
	"net/http"
	"strings"
	"testing"
	"time"

	"diathermon/internal/gate"
)

// house is a server with few places. Whoever asks for /known is known; idle tells of each
// connection on which it has answered, once it waits for the next question.
func house(t *testing.T, p gate.Places) (address string, idle chan bool) {
	t.Helper()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	idle = make(chan bool, 10_000)
	state := func(c net.Conn, now http.ConnState) {
		gate.State(c, now)
		if now == http.StateIdle {
			idle <- true
		}
	}
	s := &http.Server{ConnContext: gate.Context, ConnState: state, Handler: http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if who, known := strings.CutPrefix(r.URL.Path, "/known"); known {
			gate.Admit(r.Context(), who)
		}
		if r.URL.Path == "/recognised" {
			gate.Recognise(r.Context())
		}
		io.WriteString(w, "hello")
	})}
	go s.Serve(gate.New(l, p, func(address string) bool { return address == "127.0.0.2" }))
	t.Cleanup(func() { s.Close() })
	return l.Addr().String(), idle
}

func knock(t *testing.T, address string) net.Conn {
	t.Helper()
	c, err := net.Dial("tcp", address)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { c.Close() })
	return c
}

// ask makes a request on a connection and reports whether it was answered.
func ask(c net.Conn, path string) bool {
	c.SetDeadline(time.Now().Add(30 * time.Second))
	fmt.Fprintf(c, "GET %s HTTP/1.1\r\nHost: x\r\n\r\n", path)
	res, err := http.ReadResponse(bufio.NewReader(c), nil)
	if err != nil {
		return false
	}
	body, err := io.ReadAll(res.Body)
	return err == nil && string(body) == "hello"
}

func TestThousandStrangersDoNotKeepTheKnownOut(t *testing.T) {
	address, _ := house(t, gate.Places{All: 12, Strangers: 4, Familiar: 2, OfOne: 12})
	var friends []net.Conn
	for range 6 {
		c := knock(t, address)
		if !ask(c, "/known") {
			t.Fatal("not let in")
		}
		friends = append(friends, c)
	}
	var strangers []net.Conn
	for range 1000 {
		strangers = append(strangers, knock(t, address))
	}
	for i, c := range friends {
		if !ask(c, "/known") {
			t.Errorf("friend %d was thrown out", i)
		}
	}
	if !ask(knock(t, address), "/known") {
		t.Error("a newcomer was not let in")
	}
	// Of the strangers those who came first had to go.
	strangers[0].SetDeadline(time.Now().Add(30 * time.Second))
	if _, err := strangers[0].Read(make([]byte, 1)); err != io.EOF {
		if ne, ok := err.(net.Error); !ok || ne.Timeout() {
			t.Errorf("the first stranger: %v", err)
		}
	}
	if !ask(strangers[999], "/") {
		t.Error("the last stranger was thrown out")
	}
}

func TestAllPlacesTakenTheIdleGoFirst(t *testing.T) {
	address, idle := house(t, gate.Places{All: 5, Strangers: 4, Familiar: 2, OfOne: 12})
	var friends []net.Conn
	for range 20 { // each is known and idle when the next one comes
		c := knock(t, address)
		if !ask(c, "/known") {
			t.Fatalf("friend %d was not let in", len(friends))
		}
		<-idle
		friends = append(friends, c)
	}
	if ask(friends[0], "/known") {
		t.Error("there are five places, and the first of twenty is still there")
	}
	if !ask(friends[19], "/known") {
		t.Error("the last one is not there")
	}
}

// knockFrom knocks from another address of this computer.
func knockFrom(t *testing.T, from, address string) net.Conn {
	t.Helper()
	c, err := (&net.Dialer{LocalAddr: &net.TCPAddr{IP: net.ParseIP(from)}}).Dial("tcp", address)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { c.Close() })
	return c
}

func TestStrangersFromManyAddressesLeaveThePlacesOfThoseWhoWereInBefore(t *testing.T) {
	address, _ := house(t, gate.Places{All: 12, Strangers: 4, Familiar: 2, OfOne: 12})
	owner := knockFrom(t, "127.0.0.2", address)
	marked := knockFrom(t, "127.0.0.3", address)
	if !ask(marked, "/recognised") {
		t.Fatal("not answered")
	}
	for i := range 200 {
		knockFrom(t, fmt.Sprintf("127.0.1.%d", i+1), address)
	}
	if !ask(owner, "/") || !ask(marked, "/") {
		t.Error("strangers took the places of an address, or of a browser, that was in before")
	}
}

func TestNobodyWhoIsKnownTakesThePlacesOfOthers(t *testing.T) {
	address, _ := house(t, gate.Places{All: 12, Strangers: 4, Familiar: 2, OfOne: 6})
	owner := knock(t, address)
	if !ask(owner, "/known/owner") {
		t.Fatal("not let in")
	}
	first := knock(t, address)
	if !ask(first, "/known/one") {
		t.Fatal("not let in")
	}
	for range 6 {
		if !ask(knock(t, address), "/known/one") {
			t.Fatal("not let in")
		}
	}
	if ask(first, "/known/one") {
		t.Error("one has seven places of six")
	}
	for range 7 {
		if !ask(knock(t, address), "/known/two") {
			t.Fatal("not let in")
		}
	}
	if !ask(owner, "/known/owner") || !ask(knock(t, address), "/") {
		t.Error("two who took all places kept others out")
	}
}

func TestPlacesFitTheDescriptors(t *testing.T) {
	if p := gate.Ordinary(); p.All < 4 || p.All > 1024 || p.Strangers < 2 || p.Strangers > p.All/2 {
		t.Errorf("%+v", p)
	}
}
