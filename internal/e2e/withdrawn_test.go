package e2e

import (
	"bufio"
	"bytes"
	"context"
	"fmt"
	"io"
	"net"
	"net/http"
	"slices"
	"strings"
	"testing"
	"time"

	"diathermon/internal/api"
	"diathermon/internal/api/ops"
	"diathermon/internal/client"
	"diathermon/internal/core/access"
	"diathermon/internal/simprinter"
)

// endsWithin is how soon the last byte has gone after a right was taken away.
const endsWithin = time.Second

// TestWithdrawnIsDeadAtEveryDoor, at every door that takes or gives bytes for longer.
func TestWithdrawnIsDeadAtEveryDoor(t *testing.T) {
	t.Parallel()
	b := start(t, simprinter.Config{})
	body := coupon(t, 400)
	b.mustSend("cap.gcode", body, false)
	part := body[:len(body)/2]
	const boundary = "b"
	head := "--" + boundary + "\r\nContent-Disposition: form-data; name=\"file\"; filename=\"form.gcode\"\r\n\r\n"
	sends := func(method, path string, more ...string) func(token string) string {
		return func(token string) string {
			return fmt.Sprintf("%s %s HTTP/1.1\r\nHost: vesper\r\nAuthorization: %s\r\nContent-Length: %d\r\n%s\r\n", method, path, token, len(body)+len(head), strings.Join(more, ""))
		}
	}
	t.Cleanup(func() { // after all of them
		if now, err := client.Ask(context.Background(), b.Client, ops.GetBench); err != nil || now.Run != nil {
			t.Errorf("something was started: %+v %v", now.Run, err)
		}
	})
	for what, door := range map[string]struct {
		asks   func(token string) string
		begins []byte // of its body
		stored string
	}{
		"bytes that are put":     {sends("PUT", "/v1/shelf/put.gcode"), part, "put.gcode"},
		"a form":                 {sends("POST", "/v1/shelf", "Content-Type: multipart/form-data; boundary="+boundary+"\r\n"), append([]byte(head), part...), "form.gcode"},
		"a form to be printed":   {sends("POST", "/v1/shelf?then=print", "Content-Type: multipart/form-data; boundary="+boundary+"\r\n"), append([]byte(head), part...), "form.gcode"},
		"a piece":                {sends("PUT", "/v1/shelf/piece.gcode", fmt.Sprintf("Content-Range: bytes 0-%d/%d\r\n", len(body)+len(head)-1, 2*len(body)+len(head))), part, "piece.gcode"},
		"the folder":             {sends("PUT", "/dav/dav.gcode"), part, "dav.gcode"},
		"the folder that prints": {sends("PUT", "/dav/print/dav.gcode"), part, "dav.gcode"},
		"what is kept aside":     {sends("PUT", "/dav/.aside.gcode"), part, ".aside.gcode"},
		"what happens": {asks: func(token string) string {
			return "GET /v1/events HTTP/1.1\r\nHost: vesper\r\nAuthorization: " + token + "\r\n\r\n"
		}},
		"a routine's body": {sends("PUT", "/v1/routines/x", "Content-Type: application/json\r\n"), []byte(`{"text":"`), ""},
	} {
		for how, end := range map[string]func(api.TokenInfo) error{
			"withdrawn": func(made api.TokenInfo) error {
				return client.Do(t.Context(), b.Client, ops.WithdrawToken, ops.Ending{ID: made.ID})
			},
			"expired": nil,
		} {
			t.Run(what+" "+how, func(t *testing.T) {
				t.Parallel()
				in := api.MakeToken{Name: "slicer", Scopes: access.Scopes}
				if end == nil {
					soon := time.Now().Add(1500 * time.Millisecond)
					in.Expires = &soon
				}
				made, err := client.Call(t.Context(), b.Client, ops.MakeToken, ops.Body(in))
				if err != nil {
					t.Fatal(err)
				}
				c, err := net.Dial("tcp", strings.TrimPrefix(b.service.URL, "http://"))
				if err != nil {
					t.Fatal(err)
				}
				defer c.Close()
				token := "Bearer " + made.Token
				if strings.Contains(what, "folder") || strings.Contains(what, "aside") {
					r := &http.Request{Header: http.Header{}}
					r.SetBasicAuth("maker", made.Token)
					token = r.Header.Get("Authorization")
				}
				c.SetDeadline(time.Now().Add(idlePatience))
				io.WriteString(c, door.asks(token))
				c.Write(door.begins)
				b.until("its being let in", func(api.Bench) bool {
					now, err := client.Ask(t.Context(), b.Client, ops.ListTokens)
					return err == nil && slices.ContainsFunc(now.Tokens, func(t api.TokenInfo) bool { return t.ID == made.Info.ID && t.Used != nil }) || end == nil && time.Now().After(*in.Expires)
				})
				answers := bufio.NewReader(c)
				if door.begins == nil {
					if _, err := answers.ReadString('\n'); err != nil {
						t.Fatal(err)
					}
				}
				if end != nil {
					if err := end(made.Info); err != nil {
						t.Fatal(err)
					}
					now := time.Now()
					in.Expires = &now
				}
				gone := *in.Expires
				var rest []byte
				last := gone // when something came last
				for piece := make([]byte, 4096); ; {
					var n int
					if n, err = answers.Read(piece); n > 0 {
						rest, last = append(rest, piece[:n]...), time.Now()
					}
					if err != nil {
						break
					}
				}
				if ne, late := err.(net.Error); late && ne.Timeout() {
					t.Fatalf("it is not over after %s", time.Since(gone))
				}
				if after := last.Sub(gone); after > endsWithin {
					t.Errorf("the last byte came %s after the right to it had gone", after)
				}
				if door.begins != nil && !bytes.Contains(rest, []byte(" 401 ")) {
					t.Errorf("it is answered with %.300q", rest)
				}
				if all, err := client.Ask(t.Context(), b.Client, ops.ListFiles); err != nil || door.stored != "" && strings.Contains(fmt.Sprint(all.Files), door.stored) {
					t.Errorf("it is on the shelf: %+v %v", all, err)
				}
			})
		}
	}
}
