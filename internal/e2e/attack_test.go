package e2e

import (
	"bytes"
	"context"
	"encoding/base64"
	"encoding/json"
	"flag"
	"fmt"
	"io"
	"math/rand/v2"
	"net"
	"net/http"
	"net/url"
	"os"
	"os/exec"
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

// attack is for how long the service bears each of the loads; in an ordinary test all of
// them come at once, for a few seconds.
var attack = flag.Duration("attack", 0, "for how long the service is attacked with each load, one after the other")

// attackBy is by which loads; all of them, if none is named.
var attackBy = flag.String("attack-by", "", "by which loads, with commas between")

// attackEnv makes the test program attack a service instead of testing anything: the load's
// name, the address, and a token of its scope.
const attackEnv = "DIATHERMON_TEST_ATTACK"

// An attacker asks again and again, as fast as it is answered.
type attacker struct {
	address, token string
	n              int // which of several it is
	client         *http.Client
	from           string
}

// ask sends a request and reads the answer.
func (a *attacker) ask(method, path, body string, headers ...string) (int, string) {
	r, err := http.NewRequest(method, "http://"+a.address+path, strings.NewReader(body))
	if err != nil {
		return 0, ""
	}
	if a.token != "" {
		r.Header.Set("Authorization", "Bearer "+a.token)
		if strings.HasPrefix(path, "/dav") {
			r.SetBasicAuth("maker", a.token)
		}
	}
	for i := 0; i < len(headers); i += 2 {
		r.Header.Set(headers[i], headers[i+1])
	}
	res, err := a.client.Do(r)
	if err != nil {
		return 0, ""
	}
	defer res.Body.Close()
	said, _ := io.ReadAll(io.LimitReader(res.Body, 4<<10))
	io.Copy(io.Discard, res.Body)
	return res.StatusCode, string(said)
}

// burden is what callers of one scope, or of none, do all at once.
type burden struct {
	scope  string // empty: none
	many   int    // at a time
	once   bool   // each on a connection of its own
	spread bool   // each from an address of its own
	does   func(*attacker)
}

const lock = `<lockinfo xmlns="DAV:"><lockscope><%s/></lockscope><locktype><write/></locktype><owner>%s</owner></lockinfo>`

// loads are the worst that the table in docs/security.md has room for.
var loads = map[string]burden{
	"strangers look":          {many: 8, does: func(a *attacker) { a.ask("GET", "/sign-in", "") }},
	"strangers come and go":   {many: 8, once: true, does: func(a *attacker) { a.ask("GET", "/healthz", "") }},
	"strangers from all over": {many: 200, once: true, spread: true, does: func(a *attacker) { a.ask("GET", "/sign-in", "") }},
	"strangers hold":          {many: 300, spread: true, does: (*attacker).holds},
	"wrong tokens":            {many: 16, does: func(a *attacker) { a.ask("GET", "/v1/bench", "", "Authorization", "Bearer wrong") }},
	"wrong codes": {many: 16, does: func(a *attacker) {
		a.ask("POST", "/sign-in", `{"code":"wrong","name":"thief"}`, "Content-Type", "application/json")
	}},
	"wrong passwords": {many: 16, spread: true, does: func(a *attacker) { a.form("/sign-in", url.Values{"name": {"Mira"}, "password": {"wrong"}}) }},
	"passkey offers": {many: 16, does: func(a *attacker) {
		a.ask("POST", "/passkeys", "{}", "Content-Type", "application/json", "Host", "localhost")
	}},
	"who asks to be let in": {many: 16, spread: true, does: func(a *attacker) {
		a.ask("POST", "/pairings", `{"name":"slicer","scopes":["send"]}`, "Content-Type", "application/json")
	}},
	"large headers":        {many: 16, does: func(a *attacker) { a.ask("GET", "/sign-in", "", "X-Large", strings.Repeat("x", 60<<10)) }},
	"everything is listed": {scope: access.Read, many: 32, does: func(a *attacker) { a.ask("GET", "/v1/shelf", "") }},
	"the document":         {scope: access.Read, many: 32, does: func(a *attacker) { a.ask("GET", "/v1/openapi.json", "") }},
	"pictures of the log": {scope: access.Read, many: 16, does: func(a *attacker) {
		a.ask("GET", "/v1/heat/export?format=png&width=2000&height=1000&from=2026-01-01T00:00:00Z", "")
	}},
	"all of the log":           {scope: access.Read, many: 16, does: func(a *attacker) { a.ask("GET", "/v1/heat/export?format=json&from=2020-01-01T00:00:00Z", "") }},
	"watchers":                 {scope: access.Read, many: 300, does: (*attacker).watches},
	"the wire's past":          {scope: access.Read, many: 16, does: func(a *attacker) { a.ask("GET", "/v1/wire?limit=4000", "") }},
	"recordings":               {scope: access.Read, many: 8, does: func(a *attacker) { a.ask("GET", "/v1/wire/recording", "") }},
	"routines to be looked at": {scope: access.Read, many: 16, does: func(a *attacker) { a.json("POST", "/v1/routines/check", map[string]string{"text": hostileRoutine}) }},
	"browsers to be called":    {scope: access.Read, many: 16, does: (*attacker).calls},
	"locks":                    {scope: access.Send, many: 16, does: (*attacker).locks},
	"shared locks and lists":   {scope: access.Send, many: 16, does: (*attacker).shares},
	"properties":               {scope: access.Send, many: 16, does: (*attacker).describes},
	"what is kept aside":       {scope: access.Send, many: 8, does: (*attacker).keepsAside},
	"uploads": {scope: access.Send, many: 8, does: func(a *attacker) {
		a.ask("PUT", fmt.Sprintf("/v1/shelf/up-%d.gcode?replace=true", a.n), largePart(a.n))
	}},
	"many files": {scope: access.Send, many: 8, does: func(a *attacker) {
		a.ask("PUT", fmt.Sprintf("/v1/shelf/%d-%d.gcode", a.n, rand.Uint32()), "G28\nG1 X10 E1 F3000\nG1 X20 E2\n")
	}},
	"pieces":     {scope: access.Send, many: 8, does: (*attacker).pieces},
	"rehearsals": {scope: access.Send, many: 8, does: func(a *attacker) { a.ask("POST", "/v1/shelf/circles.gcode/rehearsal", "") }},
	"what waits": {scope: access.Start, many: 8, does: func(a *attacker) { a.json("POST", "/v1/queue", map[string]string{"file": "circles.gcode"}) }},
	"warm-ups": {scope: access.Operate, many: 8, does: func(a *attacker) {
		a.json("PUT", fmt.Sprintf("/v1/warm-ups/w%d", rand.IntN(1e6)), map[string]any{"setpoints": map[string]float64{"bed": 60}})
	}},
	"accounts": {scope: access.Keep, many: 8, does: func(a *attacker) {
		a.json("POST", "/v1/accounts", map[string]string{"name": fmt.Sprint(rand.Uint64()), "role": "watcher", "password": "three words together"})
	}},
}

// hostileRoutine is long, and nothing in it is a routine.
var hostileRoutine = strings.Repeat("repeat 1000 times\nrepeat 1000 times\n> G1 X1\nend\nend\n", 60)

func largePart(n int) string {
	return strings.Repeat(fmt.Sprintf("G1 X%d Y10 E1 F3000\nG1 X20 Y20 E2 F3000\n", 10+n), 50_000)
}

func (a *attacker) json(method, path string, body any) (int, string) {
	b, _ := json.Marshal(body)
	return a.ask(method, path, string(b), "Content-Type", "application/json")
}

func (a *attacker) form(path string, v url.Values) (int, string) {
	return a.ask("POST", path, v.Encode(), "Content-Type", "application/x-www-form-urlencoded")
}

// holds begins a request and never ends it.
func (a *attacker) holds() {
	c, err := (&net.Dialer{LocalAddr: &net.TCPAddr{IP: net.ParseIP(a.from)}}).Dial("tcp", a.address)
	if err != nil {
		return
	}
	defer c.Close()
	io.WriteString(c, "GET /sign-in HTTP/1.1\r\n")
	io.Copy(io.Discard, c)
}

func (a *attacker) watches() {
	r, _ := http.NewRequest("GET", "http://"+a.address+"/v1/events", nil)
	r.Header.Set("Authorization", "Bearer "+a.token)
	if res, err := a.client.Do(r); err == nil {
		io.CopyN(io.Discard, res.Body, 64<<10)
		res.Body.Close()
	}
}

func (a *attacker) calls() {
	status, said := a.json("POST", "/v1/notices/browsers", map[string]any{"name": "x", "endpoint": fmt.Sprintf("https://127.0.0.1/%d", rand.Uint32()), "key": pushKey, "secret": base64.RawURLEncoding.EncodeToString(make([]byte, 16))})
	var made struct{ ID string }
	if status == 200 && json.Unmarshal([]byte(said), &made) == nil {
		a.ask("POST", "/v1/notices/browsers/"+made.ID+"/trial", "")
	}
}

// pushKey is a point of P-256: its generator (SEC 2, 2.4.2).
var pushKey = base64.RawURLEncoding.EncodeToString([]byte("\x04\x6b\x17\xd1\xf2\xe1\x2c\x42\x47\xf8\xbc\xe6\xe5\x63\xa4\x40\xf2\x77\x03\x7d\x81\x2d\xeb\x33\xa0\xf4\xa1\x39\x45\xd8\x98\xc2\x96" +
	"\x4f\xe3\x42\xe2\xfe\x1a\x7f\x9b\x8e\xe7\xeb\x4a\x7c\x0f\x9e\x16\x2b\xce\x33\x57\x6b\x31\x5e\xce\xcb\xb6\x40\x68\x37\xbf\x51\xf5"))

func (a *attacker) locks() {
	a.ask("LOCK", fmt.Sprintf("/dav/%d.gcode", rand.IntN(1e6)), fmt.Sprintf(lock, "exclusive", strings.Repeat("x", rand.IntN(60<<10))), "Timeout", "Second-600")
	a.ask("LOCK", fmt.Sprintf("/dav/%d.gcode", rand.IntN(1e6)), fmt.Sprintf(lock, "exclusive", strings.Repeat("x", 500)), "Timeout", "Second-600")
	a.ask("PROPFIND", "/dav/", "", "Depth", "1")
}

func (a *attacker) shares() {
	a.ask("MKCOL", "/dav/mine", "")
	a.ask("LOCK", "/dav/mine", fmt.Sprintf(lock, "shared", strings.Repeat("x", 500)), "Depth", "infinity")
	a.ask("PUT", fmt.Sprintf("/dav/mine/%d", rand.IntN(1e6)), "x")
	a.ask("PROPFIND", "/dav/mine", "", "Depth", "1")
}

func (a *attacker) describes() {
	at := fmt.Sprintf("/dav/props-%d.tmp", rand.IntN(3000))
	a.ask("PUT", at, "x")
	a.ask("PROPPATCH", at, fmt.Sprintf(`<propertyupdate xmlns="DAV:"><set><prop><p%d xmlns="urn:x">%s</p%[1]d></prop></set></propertyupdate>`, rand.IntN(64), strings.Repeat("y", 1900)))
	a.ask("PROPFIND", "/dav/", "", "Depth", "1")
}

func (a *attacker) keepsAside() {
	dir := fmt.Sprintf("/dav/mine-%d", rand.IntN(1e6))
	a.ask("MKCOL", dir, "")
	a.ask("PUT", dir+"/x.bin", strings.Repeat("x", 1<<20))
	a.ask("COPY", dir, "", "Destination", "http://"+a.address+dir+"-copy")
}

func (a *attacker) pieces() {
	const size = 8 << 20
	a.ask("PUT", fmt.Sprintf("/v1/shelf/piece-%d.gcode", rand.IntN(1e6)), largePart(1)[:1<<20], "Content-Range", fmt.Sprintf("bytes 0-%d/%d", 1<<20-1, size))
}

// attacks goes on until the process is killed.
func attacks(name, address, token string) error {
	l, known := loads[name]
	if !known {
		return fmt.Errorf("there is no load %q", name)
	}
	for n := range l.many {
		a := &attacker{address: address, token: token, n: n, from: "127.0.0.1"}
		if l.spread {
			a.from = fmt.Sprintf("127.0.%d.%d", 1+n/250, 1+n%250)
		}
		a.client = &http.Client{Timeout: time.Minute, Transport: &http.Transport{DialContext: dialFrom(a.from), DisableKeepAlives: l.once}}
		go func() {
			for {
				before := time.Now()
				l.does(a)
				if time.Since(before) < 200*time.Microsecond { // nobody answers
					time.Sleep(time.Millisecond)
				}
			}
		}()
	}
	select {}
}

// under lets a service be attacked until what it returns is called.
func under(t *testing.T, name, address, token string) (end func()) {
	t.Helper()
	cmd := exec.Command("nice", "-n", "19", os.Args[0]) // as if it were another computer's: the service has all of this one that it wants
	cmd.Env = append(os.Environ(), attackEnv+"="+strings.Join([]string{name, address, token}, "|"))
	if err := cmd.Start(); err != nil {
		t.Fatal(err)
	}
	return func() { cmd.Process.Kill(); cmd.Wait() }
}

// TestThePrintGoesOnBesideTheWorstThatAnybodyAsks attacks the service, which is a process of
// its own, by what callers of each scope, and of none, may ask, beside a print.
func TestThePrintGoesOnBesideTheWorstThatAnybodyAsks(t *testing.T) {
	if testing.Short() {
		t.Skip("it takes a database")
	}
	s, p, address, _ := apart(t)
	defer s.device.Close()
	if _, err := client.Call(t.Context(), s.Client, ops.MakeAccount, ops.Body(api.MakeAccount{Name: "Mira", Role: "keeper", Password: "three words together"})); err != nil {
		t.Fatal(err)
	}
	signIn := func() time.Duration {
		begun := time.Now()
		client := &http.Client{Timeout: time.Minute, Transport: &http.Transport{DialContext: dialFrom("127.0.0.77"), DisableKeepAlives: true}}
		for {
			res, err := client.PostForm("http://"+address+"/sign-in", url.Values{"name": {"Mira"}, "password": {"three words together"}})
			if err == nil {
				said, _ := io.ReadAll(res.Body)
				res.Body.Close()
				if res.StatusCode != http.StatusOK {
					t.Errorf("the owner is answered %d %.200s", res.StatusCode, bytes.TrimSpace(said))
				}
				return time.Since(begun)
			}
			if time.Since(begun) > time.Minute {
				t.Errorf("the owner does not come in: %v", err)
				return time.Since(begun)
			}
		}
	}
	signIn()
	tokens := map[string]string{}
	for _, scope := range access.Scopes {
		made, err := client.Call(t.Context(), s.Client, ops.MakeToken, ops.Body(api.MakeToken{Name: scope, Scopes: []string{scope}}))
		if err != nil {
			t.Fatal(err)
		}
		tokens[scope] = made.Token
	}
	s.mustSend("circles.gcode", circles(1800, 400_000), true)
	s.until("the first moves", func(now api.Bench) bool { return now.Run != nil && now.Run.Taken > 600 })
	starved := func() (d time.Duration) {
		s.device.Do(func(board *simprinter.Board) { d = board.Starved() })
		return d
	}
	// measure returns how long the planner was empty and how much memory was taken at the most,
	// while something goes on.
	measure := func(d time.Duration, signs bool, begin func() (end func())) (empty time.Duration, most float64, in time.Duration) {
		before := starved()
		end := begin()
		defer end()
		for begun := time.Now(); time.Since(begun) < d; <-time.After(50 * time.Millisecond) {
			now, _ := footprint(t, p.cmd.Process.Pid)
			most = max(most, now)
			if in == 0 && signs && time.Since(begun) > d/2 {
				in = signIn()
			}
		}
		return starved() - before, most, in
	}
	names := slices.Sorted(func(yield func(string) bool) {
		for name := range loads {
			if !yield(name) {
				return
			}
		}
	})
	span := *attack
	if span == 0 {
		span = 6 * time.Second
	}
	without, rest, _ := measure(span, false, func() func() { return func() {} })
	t.Logf("without: empty %s of %s, %.0f MB", without.Round(time.Millisecond), span, rest)
	tell := func(name string, empty time.Duration, most float64, in time.Duration) {
		t.Logf("%-26s empty %6s, memory %+5.1f MB, the owner is in after %s", name, empty.Round(time.Millisecond), most-rest, in.Round(time.Millisecond))
		if in > 2*time.Second && *attack > 0 || in > 10*time.Second {
			t.Errorf("%s: the owner is in after %s", name, in)
		}
	}
	if *attack == 0 { // a few at once, beside other tests
		empty, most, in := measure(span, true, func() func() {
			var ends []func()
			for _, name := range []string{"strangers come and go", "strangers hold", "wrong passwords", "pictures of the log", "watchers", "locks", "shared locks and lists", "many files"} {
				ends = append(ends, under(t, name, address, tokens[loads[name].scope]))
			}
			return func() {
				for _, end := range ends {
					end()
				}
			}
		})
		tell("all at once", empty, most, in)
		if most-rest > 100 {
			t.Errorf("it took %.0f MB more", most-rest)
		}
	} else {
		for _, name := range names {
			if *attackBy != "" && !slices.Contains(strings.Split(*attackBy, ","), name) {
				continue
			}
			empty, most, in := measure(span, true, func() func() { return under(t, name, address, tokens[loads[name].scope]) })
			tell(name, empty, most, in)
			if empty > without+span/100 {
				t.Errorf("%s: the planner was empty for %s, without it for %s", name, empty, without)
			}
			if most-rest > 20 {
				t.Errorf("%s: it took %.0f MB more", name, most-rest)
			}
			<-time.After(3 * time.Second)
		}
	}
	now, err := client.Ask(context.Background(), s.Client, ops.GetBench)
	if err != nil || now.Run == nil || now.Run.State != "running" {
		t.Errorf("the run: %+v, %v", now.Run, err)
	}
}
