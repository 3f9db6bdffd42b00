package guard

import (
	"context"
	"net/http"
	"slices"
	"sync"
	"time"

	"golang.org/x/time/rate"

	"diathermon/internal/api"
	"diathermon/internal/gate"
	"diathermon/internal/web/desk"
)

// A print needs a little of the computer at the right moment, and whoever asks may take
// all of it. So requests take turns at computing: a few at a time, of which nobody has more
// than some, and none while it waits for the network. How many others ask then makes a
// request slower, and no line of a print.
const (
	atOnce    = 3 // requests that compute at a time
	ofOne     = 2 // of these, of one person, program, or of all strangers
	turnWait  = 2 * time.Second
	strangers = ""         // as who takes a turn
	halting   = "/v1/halt" // waits for nobody
)

// Strangers, and those who were in before, ask so often, together.
var (
	strangersPace = [2]int{50, 100} // a second, and at once
	familiarPace  = [2]int{100, 200}
)

// turns are who computes.
type turns struct {
	places chan struct{}

	mu  sync.Mutex
	own map[lane]*ownTurns

	strangers, familiar *rate.Limiter
}

// A lane is where somebody's requests take turns: those that look, or those that do something.
type lane struct {
	who   string
	looks bool
}

// ownTurns are somebody's.
type ownTurns struct {
	places chan struct{}
	users  int
}

func newTurns() *turns {
	limiter := func(pace [2]int) *rate.Limiter { return rate.NewLimiter(rate.Limit(pace[0]), pace[1]) }
	return &turns{places: make(chan struct{}, atOnce), own: map[lane]*ownTurns{}, strangers: limiter(strangersPace), familiar: limiter(familiarPace)}
}

// A turn is a request's. It is not taken by several at a time.
type turn struct {
	all   *turns
	in    lane
	mine  *ownTurns
	ctx   context.Context
	taken bool // of the places of all
	held  bool // of one's own
	ended bool
}

// looking are the methods of requests that look, and do nothing.
var looking = []string{http.MethodGet, http.MethodHead, http.MethodOptions, "PROPFIND"}

// begin waits for the turn of a request. Those that look and those that do something have
// places of their own, so that whoever looks at much can hold a run all the same.
func (t *turns) begin(ctx context.Context, who, method string) *turn {
	in := lane{who, slices.Contains(looking, method)}
	t.mu.Lock()
	mine := t.own[in]
	if mine == nil {
		mine = &ownTurns{places: make(chan struct{}, ofOne)}
		t.own[in] = mine
	}
	mine.users++
	t.mu.Unlock()
	one := &turn{all: t, in: in, mine: mine, ctx: ctx}
	one.take()
	return one
}

// take waits until the request may compute: a while, since somebody may compute for long, or
// wait for a database that is away; one that looks waits for its own others for as long as
// it takes.
func (t *turn) take() {
	if t == nil || t.ended {
		return
	}
	while, cancel := context.WithTimeout(t.ctx, turnWait)
	defer cancel()
	own := while
	if t.in.looks {
		own = t.ctx
	}
	t.held = t.held || place(own, t.mine.places)
	t.taken = t.taken || place(while, t.all.places)
}

// place waits for a place until ctx ends, and reports whether there was one.
func place(ctx context.Context, places chan struct{}) bool {
	select {
	case places <- struct{}{}:
		return true
	case <-ctx.Done():
		return false
	}
}

// leave lets others compute while the request waits for something.
func (t *turn) leave() {
	t.lend()
	if t != nil && t.held {
		<-t.mine.places
		t.held = false
	}
}

// lend lets others compute, but for whoever sends the request: it has much in memory.
func (t *turn) lend() {
	if t != nil && t.taken {
		<-t.all.places
		t.taken = false
	}
}

// end ends the turn for good.
func (t *turn) end() {
	if t == nil || t.ended {
		return
	}
	t.leave()
	t.ended = true
	t.all.mu.Lock()
	defer t.all.mu.Unlock()
	if t.mine.users--; t.mine.users == 0 {
		delete(t.all.own, t.in)
	}
}

// Waits says that a request does little from now on but wait, as one does that tells what
// happens.
func Waits(ctx context.Context) {
	if st, ok := ctx.Value(stageKey{}).(*stage); ok {
		st.turn.end()
	}
}

// inTurn lets a request compute when it is its turn; the function that is returned ends it.
func (a *Access) inTurn(r *http.Request, who string) (end func()) {
	st, ok := r.Context().Value(stageKey{}).(*stage)
	if !ok || r.URL.Path == halting {
		return func() {}
	}
	if st.turn != nil { // a stranger's, who has turned out to be somebody
		st.turn.end()
	}
	st.turn = a.turns.begin(r.Context(), who, r.Method)
	return st.turn.end
}

// Paced slows down those who show nothing that is good. Whoever was in before has a pace of
// their own.
func (a *Access) Paced(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if token, _ := a.bearer(r); token != "" {
			if _, good := a.People.Find(token); good {
				next.ServeHTTP(w, r)
				return
			}
		}
		pace := a.turns.strangers
		if a.familiar(r) {
			pace = a.turns.familiar
			gate.Recognise(r.Context())
		}
		if err := pace.Wait(r.Context()); err != nil {
			desk.WriteProblem(w, &api.Problem{Status: http.StatusServiceUnavailable, Title: "too many ask at once", Detail: "try again in a moment"})
			return
		}
		defer a.inTurn(r, strangers)()
		next.ServeHTTP(w, r)
	})
}
