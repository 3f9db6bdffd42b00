package guard

import (
	"context"
	"fmt"
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

// most is how many of somebody's, or of all, were in it at a time.
func (b *busy) most(who string) int {
	b.mu.Lock()
	defer b.mu.Unlock()
	return b.top[who]
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

func from(who, path string, body io.Reader) *http.Request { return by("POST", who, path, body) }

func by(method, who, path string, body io.Reader) *http.Request {
	r := httptest.NewRequest(method, path, body)
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
		synctest.Wait()
		if b.most("all") > atOnce+1 || b.most("one") > ofOne || b.done.Load() != 202 || len(a.turns.own) != 0 {
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

func TestWhoLooksAtMuchDoesWhatHasToBeDone(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		a, b := &Access{turns: newTurns()}, newBusy()
		h := turned(a, func(_ http.ResponseWriter, r *http.Request) { b.computes(r.Method, time.Hour) }) // for a database that is away
		for range 60 {
			go h.ServeHTTP(httptest.NewRecorder(), by("GET", "owner", "/v1/runs", nil))
		}
		hold := func() time.Duration {
			begun := time.Now()
			turned(a, func(http.ResponseWriter, *http.Request) {}).ServeHTTP(httptest.NewRecorder(), by("POST", "owner", "/v1/runs/x/hold", nil))
			return time.Since(begun)
		}
		time.Sleep(time.Minute)
		if took := hold(); took > 100*time.Millisecond {
			t.Errorf("a hold waited %s behind what its own person looks at", took)
		}
		for range 4 {
			go h.ServeHTTP(httptest.NewRecorder(), by("PUT", "owner", "/v1/warm-ups/x", nil))
		}
		time.Sleep(time.Minute)
		synctest.Wait()
		if b.most("GET") > ofOne {
			t.Errorf("%d look at a time", b.most("GET"))
		}
		if took := hold(); took > turnWait+time.Second {
			t.Errorf("a hold waited %s behind what its own person does", took)
		}
		time.Sleep(100 * time.Hour)
	})
}

func TestLargeAnswersThatNobodyTakesAreFew(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		a, b := &Access{turns: newTurns()}, newBusy()
		ctx, end := context.WithCancel(t.Context())
		for size, most := range map[int]int{1 << 20: ofOne, 32 << 10: 30} {
			who := fmt.Sprint(size)
			h := turned(a, func(w http.ResponseWriter, _ *http.Request) {
				b.count(who, 1)
				w.Write(make([]byte, size))
			})
			for range 30 {
				go h.ServeHTTP(&stuck{httptest.NewRecorder(), ctx}, by("GET", who, "/v1/shelf", nil))
			}
			synctest.Wait()
			if b.most(who) != most {
				t.Errorf("of %d bytes each %d are in memory, want %d", size, b.most(who), most)
			}
		}
		end()
		synctest.Wait()
	})
}

// stuck is a client that takes nothing.
type stuck struct {
	*httptest.ResponseRecorder
	ctx context.Context
}

func (s *stuck) Write(p []byte) (int, error) { <-s.ctx.Done(); return len(p), nil }

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

func TestWhatHasEndedIsSaidBeforeAnybodysTurn(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		a := &Access{turns: newTurns()}
		comes, sends := io.Pipe()
		var ended, said time.Time
		go turned(a, func(_ http.ResponseWriter, r *http.Request) {
			time.AfterFunc(time.Minute, func() {
				ended = time.Now()
				r.Context().Value(stageKey{}).(*stage).end()
				sends.Close()
			})
			io.Copy(io.Discard, r.Body)
			said = time.Now()
		}).ServeHTTP(httptest.NewRecorder(), from("slicer", "/v1/shelf", comes))
		synctest.Wait()
		for i := range atOnce { // who compute when it ends
			h := turned(a, func(http.ResponseWriter, *http.Request) { time.Sleep(time.Hour) })
			go h.ServeHTTP(httptest.NewRecorder(), from(fmt.Sprint(i), "/v1/runs", nil))
		}
		time.Sleep(2 * time.Hour)
		synctest.Wait()
		if took := said.Sub(ended); ended.IsZero() || said.IsZero() || took > lastWords/2 {
			t.Errorf("why it has ended was said after %s", took)
		}
	})
}
