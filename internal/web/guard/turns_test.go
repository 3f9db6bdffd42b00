package guard

import (
	"context"
	"io"
	"net/http"
	"net/http/httptest"
	"sync"
	"sync/atomic"
	"testing"
	"testing/synctest"
	"time"
)

// busy is a handler that counts how many are in it at a time, of each and of all.
type busy struct {
	mu       sync.Mutex
	now, top map[string]int
	done     atomic.Int32
}

func newBusy() *busy { return &busy{now: map[string]int{}, top: map[string]int{}} }

func (b *busy) count(who string, n int) {
	b.mu.Lock()
	defer b.mu.Unlock()
	for _, of := range []string{who, "all"} {
		b.now[of] += n
		b.top[of] = max(b.top[of], b.now[of])
	}
}

// computes takes a while, as who does.
func (b *busy) computes(who string, d time.Duration) {
	b.count(who, 1)
	time.Sleep(d)
	b.count(who, -1)
	b.done.Add(1)
}

// turned lets a request take turns as who sends it, as if it had been let in.
func turned(a *Access, handler http.HandlerFunc) http.Handler {
	return Limited(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		defer a.inTurn(r, r.Header.Get("Who"))()
		handler(w, r)
	}))
}

func from(who, path string, body io.Reader) *http.Request {
	r := httptest.NewRequest("POST", path, body)
	r.Header.Set("Who", who)
	return r
}

func TestRequestsTakeTurnsAtComputing(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		a, b := &Access{turns: newTurns()}, newBusy()
		h := turned(a, func(_ http.ResponseWriter, r *http.Request) { b.computes(r.Header.Get("Who"), 10*time.Millisecond) })
		for range 40 {
			for _, who := range []string{"one", "two", "three", "four", "five"} {
				go h.ServeHTTP(httptest.NewRecorder(), from(who, "/v1/shelf", nil))
			}
		}
		time.Sleep(15 * time.Millisecond) // beside all of them
		begun := time.Now()
		h.ServeHTTP(httptest.NewRecorder(), from("six", halting, nil))
		if took := time.Since(begun); took > 10*time.Millisecond {
			t.Errorf("an emergency stop waited %s", took)
		}
		begun = time.Now()
		h.ServeHTTP(httptest.NewRecorder(), from("six", "/v1/bench", nil))
		if took := time.Since(begun); took > 100*time.Millisecond {
			t.Errorf("one who asks once waited %s behind two hundred of others", took)
		}
		time.Sleep(time.Minute)
		if b.top["all"] > atOnce+1 || b.top["one"] > ofOne || b.done.Load() != 202 || len(a.turns.own) != 0 {
			t.Errorf("at a time were %v; %d came to an end, and %d are remembered", b.top, b.done.Load(), len(a.turns.own))
		}
	})
}

func TestWhoWaitsLetsOthersCompute(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		a, b := &Access{turns: newTurns()}, newBusy()
		ctx, end := context.WithCancel(t.Context())
		slow, _ := io.Pipe()
		context.AfterFunc(ctx, func() { slow.Close() })
		for range 20 { // who send without an end, and who watch
			go turned(a, func(_ http.ResponseWriter, r *http.Request) { io.Copy(io.Discard, r.Body) }).ServeHTTP(httptest.NewRecorder(), from("sender", "/v1/shelf", slow))
			go turned(a, func(_ http.ResponseWriter, r *http.Request) { Waits(r.Context()); <-ctx.Done() }).ServeHTTP(httptest.NewRecorder(), from("watcher", "/v1/events", nil))
		}
		synctest.Wait()
		begun := time.Now()
		h := turned(a, func(_ http.ResponseWriter, r *http.Request) { b.computes("one", time.Millisecond) })
		for _, who := range []string{"sender", "watcher", "one"} {
			h.ServeHTTP(httptest.NewRecorder(), from(who, "/v1/bench", nil))
		}
		if took := time.Since(begun); took > 4*time.Millisecond {
			t.Errorf("three requests took %s beside those who wait", took)
		}
		end()
		synctest.Wait()
	})
}

func TestWhoComputesForLongHoldsNobodyUpForEver(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		a, b := &Access{turns: newTurns()}, newBusy()
		h := turned(a, func(_ http.ResponseWriter, r *http.Request) { b.computes(r.Header.Get("Who"), time.Hour) }) // for a database that is away
		for _, who := range []string{"one", "one", "two", "two", "three"} {
			go h.ServeHTTP(httptest.NewRecorder(), from(who, "/v1/runs", nil))
		}
		synctest.Wait()
		begun := time.Now()
		turned(a, func(http.ResponseWriter, *http.Request) {}).ServeHTTP(httptest.NewRecorder(), from("owner", "/v1/runs/x/hold", nil))
		if took := time.Since(begun); took > turnWait+time.Second {
			t.Errorf("another waited %s", took)
		}
		time.Sleep(2 * time.Hour)
	})
}

func TestStrangersAskAtTheirPace(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		d := newEntrance(t)
		var answered atomic.Int32
		h := Limited(d.access.Paced(http.HandlerFunc(func(http.ResponseWriter, *http.Request) { answered.Add(1) })))
		ctx, end := context.WithCancel(t.Context())
		for range 64 {
			go func() {
				for ctx.Err() == nil {
					h.ServeHTTP(httptest.NewRecorder(), httptest.NewRequestWithContext(ctx, "GET", "/sign-in", nil))
				}
			}()
		}
		time.Sleep(10 * time.Second)
		if n := answered.Load(); n > 10*50+100+1 || n < 400 {
			t.Errorf("strangers were answered %d times in ten seconds", n)
		}
		begun := time.Now()
		r := httptest.NewRequest("GET", "/sign-in", nil)
		r.Header.Set("Authorization", "Bearer "+d.keeper)
		h.ServeHTTP(httptest.NewRecorder(), r)
		if took := time.Since(begun); took > 10*time.Millisecond {
			t.Errorf("who has a token waited %s", took)
		}
		h2, _ := d.access.People.Find(d.keeper)
		d.access.People.Used(h2, "198.51.100.9")
		begun = time.Now()
		r = httptest.NewRequest("GET", "/sign-in", nil)
		r.RemoteAddr = "198.51.100.9:1"
		h.ServeHTTP(httptest.NewRecorder(), r)
		if took := time.Since(begun); took > 100*time.Millisecond {
			t.Errorf("who was in before waited %s", took)
		}
		end()
		time.Sleep(time.Minute)
	})
}
