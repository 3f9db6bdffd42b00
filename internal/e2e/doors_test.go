package e2e

import (
	"bytes"
	"fmt"
	"io"
	"net"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"sync/atomic"
	"testing"

	"diathermon/internal/api"
	"diathermon/internal/api/ops"
	"diathermon/internal/client"
	"diathermon/internal/simprinter"
)

// tool runs a program that somebody else wrote and returns what it said.
func tool(t *testing.T, stdin, name string, args ...string) string {
	t.Helper()
	path, err := exec.LookPath(name)
	if err != nil {
		t.Fatalf("%s is not installed: run 'make test', which installs it", name)
	}
	cmd := exec.CommandContext(t.Context(), path, args...)
	cmd.Stdin, cmd.Dir = strings.NewReader(stdin), t.TempDir()
	cmd.Env = append(os.Environ(), "HOME="+cmd.Dir)
	if name == "cadaver" { // which takes name and password from there
		os.WriteFile(filepath.Join(cmd.Dir, ".netrc"), []byte(stdin[:strings.Index(stdin, "\n")+1]), 0o600)
		cmd.Stdin = strings.NewReader(stdin[strings.Index(stdin, "\n")+1:])
	}
	out, err := cmd.CombinedOutput()
	if err != nil {
		t.Logf("%s: %v", name, err)
	}
	return string(out)
}

// shelved fails unless a file lies on the shelf with these bytes.
func (b *bench) shelved(name string, body []byte) {
	b.t.Helper()
	var got bytes.Buffer
	if err := client.Fetch(b.t.Context(), b.Client, ops.GetFileContent, ops.Name{Name: name}, &got); err != nil || !bytes.Equal(got.Bytes(), body) {
		b.t.Errorf("%s on the shelf has %d bytes, %v; want %d", name, got.Len(), err, len(body))
	}
}

func TestTheFolderKeepsToItsStandard(t *testing.T) {
	t.Parallel()
	b := start(t, simprinter.Config{})
	said := tool(t, "", "litmus", b.service.URL+"/dav/", "maker", b.service.Keeper)
	for _, suite := range []string{"basic", "copymove", "props", "locks", "http"} {
		if !regexp.MustCompile("summary for `" + suite + `': of (\d+) tests run: (\d+) passed, 0 failed. 100.0%`).MatchString(said) {
			t.Errorf("%s does not pass:\n%s", suite, strings.ReplaceAll(said, "\r", "\n"))
		}
	}
	if strings.Contains(said, "WARNING") || strings.Contains(said, "skipped") {
		t.Errorf("it is not content:\n%s", strings.ReplaceAll(said, "\r", "\n"))
	}
}

func TestAFileComesByProgramsOfOthers(t *testing.T) {
	t.Parallel()
	b := start(t, simprinter.Config{})
	dir, body := t.TempDir(), coupon(t, 40)
	path := filepath.Join(dir, "cap.gcode")
	os.WriteFile(path, body, 0o600)
	url, token := b.service.URL, "Authorization: Bearer "+b.service.Keeper

	tool(t, "", "curl", "-s", "-T", path, "-H", token, url+"/v1/shelf/put.gcode")
	b.shelved("put.gcode", body)
	tool(t, "", "curl", "-s", "-F", "then=queue", "-F", "what a slicer calls it=@"+path+";filename=form.gcode", "-H", token, url+"/v1/shelf")
	b.shelved("form.gcode", body)

	half := filepath.Join(dir, "half")
	os.WriteFile(half, body[:len(body)/2], 0o600)
	said := tool(t, "", "curl", "-s", "-T", half, "-H", token, "-H", fmt.Sprintf("Content-Range: bytes 0-%d/%d", len(body)/2-1, len(body)), url+"/v1/shelf/pieces.gcode")
	if !strings.Contains(said, fmt.Sprintf(`"received_bytes":%d`, len(body)/2)) {
		t.Errorf("half of it: %s", said)
	}
	tool(t, "", "curl", "-s", "-C", fmt.Sprint(len(body)/2), "-T", path, "-H", token, url+"/v1/shelf/pieces.gcode")
	b.shelved("pieces.gcode", body)

	login := "machine 127.0.0.1 login maker password " + b.service.Keeper + "\n"
	said = tool(t, login+"put "+path+" mounted.gcode\nput "+path+" late.gcode.part\nmove late.gcode.part late.gcode\nmkcol aside\nput "+path+" aside/kept.gcode\nmove mounted.gcode other.gcode\nls\nget other.gcode "+filepath.Join(dir, "back")+"\nquit\n", "cadaver", url+"/dav/")
	b.shelved("late.gcode", body)
	b.shelved("other.gcode", body)
	if back, _ := os.ReadFile(filepath.Join(dir, "back")); !bytes.Equal(back, body) {
		t.Errorf("%d bytes came back; it said %s", len(back), said)
	}
	shelf, err := client.Ask(t.Context(), b.Client, ops.ListFiles)
	if err != nil || len(shelf.Files) != 5 {
		t.Errorf("on the shelf are %d files, %v", len(shelf.Files), err)
	}
	if q, err := client.Ask(t.Context(), b.Client, ops.ListQueue); err != nil || len(q.Entries) != 1 || q.Entries[0].File != "form.gcode" {
		t.Errorf("what waits: %+v, %v", q, err)
	}
}

// dav sends a request to the folder.
func (b *bench) dav(method, path, body string, headers ...string) (int, string) {
	b.t.Helper()
	res, text := b.as(b.service.Keeper, method, "/dav"+path, body, headers...)
	return res.StatusCode, text
}

func basic(name, password string) string {
	r := &http.Request{Header: http.Header{}}
	r.SetBasicAuth(name, password)
	return strings.TrimPrefix(r.Header.Get("Authorization"), "Basic ")
}

func TestTheFolderRefusesInWords(t *testing.T) {
	t.Parallel()
	b := start(t, quick()).live()
	body := string(coupon(t, 2))
	deep := strings.Repeat("<a>", 100) + strings.Repeat("</a>", 100)
	b.dav("PUT", "/cap.gcode", body)
	b.dav("MKCOL", "/mine", "")
	for what, c := range map[string]struct {
		method, path, body string
		status             int
		words              string
		headers            []string
	}{
		"a model":                   {"PUT", "/knob.stl", "solid x\n", 422, "model (STL)", nil},
		"a name with a backslash":   {"PUT", "/a%5Cb.gcode", body, 400, "slash", nil},
		"a folder that is not":      {"PUT", "/nowhere/cap.gcode", body, 409, "make it first", nil},
		"everything at once":        {"PROPFIND", "/", "", 403, "one folder at a time", []string{"Depth", "infinity"}},
		"another host":              {"MOVE", "/cap.gcode", "", 502, "another host", []string{"Destination", "http://elsewhere.example/dav/x.gcode"}},
		"outside the folder":        {"MOVE", "/cap.gcode", "", 404, "", []string{"Destination", b.service.URL + "/v1/shelf/x.gcode"}},
		"entities":                  {"PROPFIND", "/", `<!DOCTYPE x [<!ENTITY a "aaaa">]><propfind xmlns="DAV:"><allprop/></propfind>`, 400, "document type", []string{"Depth", "0"}},
		"deep XML":                  {"PROPPATCH", "/cap.gcode", deep, 400, "deep", nil},
		"much XML":                  {"PROPPATCH", "/cap.gcode", strings.Repeat(" ", 100<<10), 413, "too large", nil},
		"a part of a file":          {"PUT", "/cap.gcode", "G28\n", 400, "whole files", []string{"Content-Range", "bytes 0-3/8"}},
		"a folder into itself":      {"COPY", "/mine", "", 403, "into itself", []string{"Destination", b.service.URL + "/dav/mine/deeper"}},
		"all of it":                 {"COPY", "/", "", 403, "always there", []string{"Destination", b.service.URL + "/dav/mine/all"}},
		"a name that is too long":   {"PUT", "/mine/" + strings.Repeat("x", 300), body, 400, "the disk does not take it", nil},
		"what is always there":      {"DELETE", "/print", "", 403, "always there", nil},
		"a folder in print":         {"MKCOL", "/print/x", "", 403, "files alone", nil},
		"an If that cannot be read": {"PUT", "/cap.gcode", body, 400, "If header", []string{"If", "(<"}},
		"another lock's token":      {"UNLOCK", "/cap.gcode", "", 409, "no such lock", []string{"Lock-Token", "<urn:uuid:none>"}},
		"one that cannot start":     {"PUT", "/print/cold.gcode", "G28\nG1 X10 Y10 Z0.2 F3000\nM104 S999\nG1 X20 E5\n", 409, "has not started", nil},
	} {
		if status, said := b.dav(c.method, c.path, c.body, c.headers...); status != c.status || !strings.Contains(said, c.words) {
			t.Errorf("%s: %d %s; want %d and %q", what, status, said, c.status, c.words)
		}
	}
	if res, said := b.raw("PUT", "/dav/x.gcode", strings.NewReader(body), "Authorization", "Basic "+basic("maker", "wrong")); res.StatusCode != 401 || !strings.HasPrefix(res.Header.Get("WWW-Authenticate"), "Basic") {
		t.Errorf("a wrong password: %d %s", res.StatusCode, said)
	}

	// A file that is being printed stays what it is.
	long, _ := os.ReadFile(longFile(t, t.TempDir()))
	if status, said := b.dav("PUT", "/print/long.gcode", string(long)); status != 201 {
		t.Fatalf("put to be printed: %d %s", status, said)
	}
	b.untilRun("warming", "running")
	for _, c := range [][]string{{"PUT", "/long.gcode", ""}, {"MOVE", "/cap.gcode", b.service.URL + "/dav/long.gcode"}, {"MOVE", "/long.gcode", b.service.URL + "/dav/other.gcode"}, {"DELETE", "/long.gcode", ""}} {
		if status, said := b.dav(c[0], c[1], body, "Destination", c[2]); status != 409 || !strings.Contains(said, "being printed") {
			t.Errorf("%s %s while it is printed: %d %s", c[0], c[1], status, said)
		}
	}
	b.shelved("long.gcode", long)
	b.shelved("cap.gcode", []byte(body))
}

func TestALockIsHeldByOneAndNotForEver(t *testing.T) {
	t.Parallel()
	b := start(t, simprinter.Config{})
	const exclusive = `<lockinfo xmlns="DAV:"><lockscope><exclusive/></lockscope><locktype><write/></locktype><owner>maker</owner></lockinfo>`
	body := string(coupon(t, 2))
	status, said := b.dav("LOCK", "/cap.gcode", exclusive, "Timeout", "Infinite, Second-4100000000")
	token := regexp.MustCompile(`urn:uuid:[0-9a-f-]+`).FindString(said)
	if status != 201 || token == "" || !strings.Contains(said, "Second-600") {
		t.Fatalf("locked: %d %s", status, said)
	}
	if status, said := b.dav("PUT", "/cap.gcode", body); status != 423 || !strings.Contains(said, "another program has locked it") {
		t.Errorf("without its token: %d %s", status, said)
	}
	if status, said := b.dav("PUT", "/cap.gcode", body, "If", "(<"+token+">)"); status != 201 {
		t.Errorf("with its token: %d %s", status, said)
	}
	if _, said := b.dav("PROPFIND", "/cap.gcode", `<propfind xmlns="DAV:"><prop><lockdiscovery/><supportedlock/></prop></propfind>`, "Depth", "0"); !strings.Contains(said, token) || !strings.Contains(said, "shared") {
		t.Errorf("seen: %s", said)
	}
	if status, said := b.dav("UNLOCK", "/cap.gcode", "", "Lock-Token", "<"+token+">"); status != 204 {
		t.Errorf("unlocked: %d %s", status, said)
	}
	if status, _ := b.dav("DELETE", "/cap.gcode", ""); status != 204 {
		t.Errorf("then removed: %d", status)
	}
}

func TestAnUploadThatIsCutOffGoesOn(t *testing.T) {
	t.Parallel()
	b := start(t, simprinter.Config{})
	body := coupon(t, 200)
	var pieces atomic.Int64
	proxy := cutting(t, b.service.URL, func() int64 { return pieces.Add(1) * 100_000 })
	c, err := client.New(proxy, b.service.Keeper)
	if err != nil {
		t.Fatal(err)
	}
	stored, err := c.Send(t.Context(), client.Sending{Name: "tall.gcode", Body: bytes.NewReader(body), Size: int64(len(body))})
	if err != nil || stored.Outcome != "created" || pieces.Load() < 3 {
		t.Fatalf("%+v, %v after %d pieces of %d bytes", stored.Outcome, err, pieces.Load(), len(body))
	}
	b.shelved("tall.gcode", body)
}

func TestFilesWaitInTurn(t *testing.T) {
	t.Parallel()
	b := start(t, quick()).live()
	p := person{t: t, home: t.TempDir()}
	p.ok("Paired", "pair", b.service.URL, b.service.PairCode())
	file := filepath.Join(p.home, "cap.gcode")
	os.WriteFile(file, coupon(t, 2), 0o600)
	p.ok("number 1", "send", "--queue", file)
	p.ok("number 2", "send", "--queue", "--name", "knob.gcode", file)
	p.ok("knob.gcode", "queue")
	b.service.Close() // it waits still when the host is back
	b.up()
	p = person{t: t, home: t.TempDir()}
	p.ok("Paired", "pair", b.service.URL, b.service.PairCode())
	b.live()
	if _, err := b.Send(t.Context(), client.Sending{Name: "cap.gcode", Body: strings.NewReader("G28\n"), Size: 4, Replace: true}); err != nil {
		t.Fatal(err)
	}
	p.fails(6, "not what it was", "queue", "next")
	p.ok("Does not wait any more: cap.gcode", "queue", "remove", "1")
	p.ok("Started: knob.gcode", "queue", "next")
	p.fails(6, "nothing waits", "queue", "next")
	p.ok("Waits in turn", "queue", "add", "cap.gcode")
	p.fails(6, "a run is going on", "queue", "next")
	p.ok("cap.gcode", "queue")
	b.untilRun("finished")
}

func TestTheWatchedFolderPrints(t *testing.T) {
	t.Parallel()
	b := start(t, quick()).live()
	b.service.Close()
	b.config.Folder.Path, b.config.Folder.Start = t.TempDir(), true
	os.Mkdir(filepath.Join(b.config.Folder.Path, "print"), 0o700)
	b.up()
	b.live()
	body := coupon(t, 2)
	os.WriteFile(filepath.Join(b.config.Folder.Path, "knob.stl"), []byte("solid x\n"), 0o600)
	os.WriteFile(filepath.Join(b.config.Folder.Path, "print", "cap.gcode"), body, 0o600)
	b.untilRun("finished")
	b.mustHavePrinted(body)
	answered := filepath.Join(b.config.Folder.Path, "answers", "knob.stl.txt")
	b.until("an answer about the model", func(api.Bench) bool {
		text, err := os.ReadFile(answered)
		return err == nil && strings.Contains(string(text), "slice it first")
	})
}

// cutting passes connections on to a host, and cuts each after as many bytes as most says.
func cutting(t *testing.T, host string, most func() int64) string {
	t.Helper()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { l.Close() })
	go func() {
		for {
			in, err := l.Accept()
			if err != nil {
				return
			}
			out, err := net.Dial("tcp", strings.TrimPrefix(host, "http://"))
			if err != nil {
				in.Close()
				continue
			}
			go io.Copy(in, out)
			go func() {
				io.CopyN(out, in, most())
				in.Close()
				out.Close()
			}()
		}
	}()
	return "http://" + l.Addr().String()
}

// as sends a request to the folder by another token.
func (b *bench) as(token, method, path, body string, headers ...string) (*http.Response, string) {
	b.t.Helper()
	return b.raw(method, path, strings.NewReader(body), append([]string{"Authorization", "Basic " + basic("maker", token)}, headers...)...)
}

func TestOneSendersLocksAndPropertiesAreBoundedAndKeepNobodyOut(t *testing.T) {
	t.Parallel()
	b := start(t, simprinter.Config{})
	token := func() string { // of the same name each time
		made, err := client.Call(t.Context(), b.Client, ops.MakeToken, ops.Body(api.MakeToken{Name: "slicer", Scopes: []string{"send"}}))
		if err != nil {
			t.Fatal(err)
		}
		return made.Token
	}
	one, other := token(), token()
	lock := func(token, path, scope, owner string) (int, string) {
		res, _ := b.as(token, "LOCK", path, `<lockinfo xmlns="DAV:"><lockscope><`+scope+`/></lockscope><locktype><write/></locktype><owner>`+owner+`</owner></lockinfo>`, "Timeout", "Second-600")
		return res.StatusCode, res.Header.Get("Lock-Token")
	}
	if status, _ := lock(one, "/dav/x.gcode", "exclusive", strings.Repeat("x", 60<<10)); status != http.StatusRequestEntityTooLarge {
		t.Errorf("an owner of 60 KiB: %d", status)
	}
	for _, root := range []string{"/dav/", "/dav/print/", "/dav/queue/"} {
		if status, _ := lock(one, root, "exclusive", "me"); status != http.StatusForbidden {
			t.Errorf("a lock on %s: %d", root, status)
		}
	}
	held := 0
	for i := range 200 {
		if status, _ := lock(one, fmt.Sprintf("/dav/%d.gcode", i), "exclusive", strings.Repeat("x", 500)); status == http.StatusCreated {
			held++
		} else if status != http.StatusInsufficientStorage {
			t.Fatalf("lock %d: %d", i, status)
		}
	}
	if held < 10 || held > 64 {
		t.Errorf("one sender holds %d locks", held)
	}
	status, urn := lock(other, "/dav/mine.gcode", "exclusive", "me")
	if status != http.StatusCreated {
		t.Errorf("another finds no room for a lock: %d", status)
	}
	if res, said := b.as(one, "UNLOCK", "/dav/mine.gcode", "", "Lock-Token", urn); res.StatusCode != http.StatusConflict {
		t.Errorf("a program of the same name took a lock away: %d %s", res.StatusCode, said)
	}
	if res, said := b.as(one, "PUT", "/dav/mine.gcode", "G28\n", "If", "("+urn+")"); res.StatusCode != http.StatusLocked {
		t.Errorf("a program of the same name wrote under it: %d %s", res.StatusCode, said)
	}

	patch := func(token string, file, name int) bool {
		_, said := b.as(token, "PROPPATCH", fmt.Sprintf("/dav/props/%d", file), fmt.Sprintf(`<propertyupdate xmlns="DAV:"><set><prop><p%d xmlns="urn:x">%s</p%[1]d></prop></set></propertyupdate>`, name, strings.Repeat("y", 1900)))
		return strings.Contains(said, " 200 OK")
	}
	b.as(one, "MKCOL", "/dav/props", "")
	kept := 0
	for file := range 30 {
		b.as(one, "PUT", fmt.Sprintf("/dav/props/%d", file), "aside")
		for name := range 20 {
			if patch(one, file, name) {
				kept++
			}
		}
	}
	if bytes := kept * 1900; bytes < 100<<10 || bytes > 256<<10 {
		t.Errorf("of one sender's properties %d bytes are kept", bytes)
	}
	if !patch(other, 29, 99) {
		t.Error("another finds no room for a property")
	}
	var names strings.Builder
	for i := range 3000 {
		fmt.Fprintf(&names, `<x%d xmlns="urn:y"/>`, i)
	}
	for range 200 {
		b.as(other, "PUT", "/dav/props/"+strings.Repeat("n", kept%9+1)+fmt.Sprint(kept), "aside")
		kept++
	}
	if res, said := b.as(other, "PROPFIND", "/dav/props", `<propfind xmlns="DAV:"><prop>`+names.String()+`</prop></propfind>`, "Depth", "1"); res.StatusCode != http.StatusInsufficientStorage {
		t.Errorf("3,000 properties of each of 200 files: %d, %d bytes", res.StatusCode, len(said))
	}
	if _, said := b.as(other, "PROPFIND", "/dav/props", "", "Depth", "1"); len(said) > 1<<20 || !strings.Contains(said, "p99") {
		t.Errorf("the listing has %d bytes", len(said))
	}
}

func TestNothingInTheFolderIsRunByABrowser(t *testing.T) {
	t.Parallel()
	b := start(t, simprinter.Config{})
	b.as(b.service.Keeper, "MKCOL", "/dav/mine", "")
	for name, body := range map[string]string{"x.html": "<script>alert(1)</script>", "x.js": "alert(1)", "x.svg": `<svg xmlns="http://www.w3.org/2000/svg"/>`, "x.css": "a{}", "x.xhtml": "<html/>", "x": "<!doctype html>"} {
		b.as(b.service.Keeper, "PUT", "/dav/mine/"+name, body)
		res, said := b.as(b.service.Keeper, "GET", "/dav/mine/"+name, "")
		h := res.Header
		if said != body || h.Get("Content-Type") != "application/octet-stream" || !strings.HasPrefix(h.Get("Content-Disposition"), "attachment") || h.Get("X-Content-Type-Options") != "nosniff" || !strings.Contains(h.Get("Content-Security-Policy"), "sandbox") {
			t.Errorf("%s comes with %v", name, h)
		}
		if _, said := b.as(b.service.Keeper, "PROPFIND", "/dav/mine/"+name, "", "Depth", "0"); !strings.Contains(said, "getcontenttype>application/octet-stream<") {
			t.Errorf("%s is said to be %s", name, said)
		}
	}
	res, err := http.Get(b.service.URL + "/sign-in")
	if err != nil || strings.Contains(res.Header.Get("Content-Security-Policy"), "sandbox") {
		t.Error("the console itself is in a sandbox")
	}
}
