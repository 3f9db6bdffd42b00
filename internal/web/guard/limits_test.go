package guard

import (
	"bufio"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"testing"
	"testing/synctest"
	"time"
)

func TestAddressesThatAreNotTextAreRefused(t *testing.T) {
	d := newEntrance(t)
	for _, path := range []string{"/v1/shelf/%00", "/v1/shelf/%ff", "/v1/runs/%00", "/v1/heat/warm-ups/%ff", "/v1/heat?run=%00", "/v1/heat?heater=%ff", "/%00", "/v1/runs/a%00/recording"} {
		if w := d.ask("GET", path, "", "Authorization", "Bearer "+d.keeper); w.Code != http.StatusBadRequest || w.Header().Get("Content-Type") != "application/problem+json" {
			t.Errorf("%s: %d %s", path, w.Code, w.Body)
		}
	}
}

// pipe is a listener of one connection in the time of the test's bubble.
type pipe struct {
	conn chan net.Conn
	done chan struct{}
}

func (p *pipe) Accept() (net.Conn, error) {
	select {
	case c := <-p.conn:
		return c, nil
	case <-p.done:
		return nil, io.EOF
	}
}
func (p *pipe) Close() error   { close(p.done); return nil }
func (p *pipe) Addr() net.Addr { return &net.IPAddr{} }

// converse lets do talk to a handler over a connection, in virtual time.
func converse(t *testing.T, handler http.HandlerFunc, do func(net.Conn)) {
	synctest.Test(t, func(t *testing.T) {
		l := &pipe{make(chan net.Conn), make(chan struct{})}
		server := &http.Server{Handler: Limited(handler), ReadHeaderTimeout: 10 * time.Second}
		go server.Serve(l)
		ours, theirs := net.Pipe()
		l.conn <- theirs
		do(ours)
		ours.Close()
		server.Close()
		synctest.Wait()
	})
}

func TestABodyThatNeverComesIsNotWaitedFor(t *testing.T) {
	for what, handler := range map[string]http.HandlerFunc{
		"read":   func(_ http.ResponseWriter, r *http.Request) { io.ReadAll(r.Body) },
		"unread": func(w http.ResponseWriter, _ *http.Request) { w.WriteHeader(http.StatusUnauthorized) },
	} {
		converse(t, handler, func(c net.Conn) {
			begun := time.Now()
			fmt.Fprint(c, "POST /sign-in HTTP/1.1\r\nHost: x\r\nContent-Length: 100\r\n\r\n")
			io.Copy(io.Discard, c) // until the server closes it
			if took := time.Since(begun); took > 2*time.Minute {
				t.Errorf("%s: it was waited for %s", what, took)
			}
		})
	}
}

func TestALongUploadMayTakeItsTimeAndADripMayNot(t *testing.T) {
	for what, c := range map[string]struct {
		piece int
		every time.Duration
		whole bool
	}{"slow": {4 << 10, 2 * time.Second, true}, "a drip": {1, 5 * time.Second, false}} {
		all := make(chan int64, 1)
		converse(t, func(_ http.ResponseWriter, r *http.Request) {
			n, _ := io.Copy(io.Discard, r.Body)
			all <- n
		}, func(conn net.Conn) {
			const pieces = 400
			go io.Copy(io.Discard, conn)
			fmt.Fprintf(conn, "PUT /v1/shelf/a HTTP/1.1\r\nHost: x\r\nContent-Length: %d\r\n\r\n", pieces*c.piece)
			for range pieces {
				time.Sleep(c.every)
				if _, err := conn.Write(make([]byte, c.piece)); err != nil {
					break
				}
			}
			came := <-all
			if whole := came == int64(pieces*c.piece); whole != c.whole {
				t.Errorf("%s: %d bytes came of %d", what, came, pieces*c.piece)
			}
		})
	}
}

func TestAClientThatTakesNothingIsLetGo(t *testing.T) {
	ended := make(chan error, 1)
	converse(t, func(w http.ResponseWriter, _ *http.Request) {
		for {
			if _, err := w.Write(make([]byte, 64<<10)); err != nil {
				ended <- err
				return
			}
		}
	}, func(c net.Conn) {
		fmt.Fprint(c, "GET / HTTP/1.1\r\nHost: x\r\n\r\n")
		bufio.NewReader(c).ReadByte()
		time.Sleep(time.Minute)
		var late net.Error
		select {
		case err := <-ended:
			if !errors.As(err, &late) || !late.Timeout() {
				t.Errorf("it ended with %v", err)
			}
		default:
			t.Error("after a minute it is still being written to")
		}
	})
}

func TestACallThatTakesLongIsNotBrokenOffByItsBodysLimit(t *testing.T) {
	converse(t, func(w http.ResponseWriter, r *http.Request) {
		io.ReadAll(r.Body)
		select {
		case <-time.After(5 * time.Minute):
			io.WriteString(w, "homed")
		case <-r.Context().Done():
		}
	}, func(c net.Conn) {
		fmt.Fprint(c, "POST /v1/wire HTTP/1.1\r\nHost: x\r\nContent-Length: 2\r\n\r\n{}")
		res, err := http.ReadResponse(bufio.NewReader(c), nil)
		if err != nil {
			t.Fatal(err)
		}
		if body, err := io.ReadAll(res.Body); string(body) != "homed" {
			t.Errorf("%q, %v", body, err)
		}
	})
}
