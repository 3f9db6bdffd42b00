package people

import (
	"slices"
	"sync"
	"time"
)

// A Passage is a request that goes on by its holder's rights. It ends when one of those
// does that it goes by.
type Passage struct {
	holder *Holder
	end    func()
	late   *time.Timer // when the token expires; nil: never

	mu   sync.Mutex
	by   []string // the scopes that it goes by
	over bool
}

// Pass begins a passage; end is called, once, when it has to end, and not after Close, which
// must be called.
func (p *People) Pass(h *Holder, end func()) *Passage {
	w := &Passage{holder: h, end: end}
	p.mu.Lock()
	p.passages[w] = true
	p.mu.Unlock()
	if h.Expires != nil {
		w.late = time.AfterFunc(time.Until(*h.Expires)+time.Millisecond, w.look)
	}
	w.look() // it may have been withdrawn since it was found
	return w
}

// Close says that the request is over.
func (w *Passage) Close() {
	if w.late != nil {
		w.late.Stop()
	}
	w.mu.Lock()
	w.over = true
	w.mu.Unlock()
	p := w.holder.people
	p.mu.Lock()
	defer p.mu.Unlock()
	delete(p.passages, w)
}

// May reports whether the holder has a scope. If so the request goes by it from now on.
func (w *Passage) May(scope string) bool {
	w.mu.Lock() // a change that comes meanwhile is looked at after this
	defer w.mu.Unlock()
	has := slices.Contains(w.holder.May(), scope)
	if has && !slices.Contains(w.by, scope) {
		w.by = append(w.by, scope)
	}
	return has
}

// look ends the passage if one of its rights has gone.
func (w *Passage) look() {
	w.mu.Lock()
	defer w.mu.Unlock() // until it has ended: it is not closed meanwhile
	may := w.holder.May()
	if !w.over && (!w.holder.Good() || slices.ContainsFunc(w.by, func(s string) bool { return !slices.Contains(may, s) })) {
		w.over = true
		w.end()
	}
}

// look ends what goes on by rights that have gone.
func (p *People) look() {
	p.mu.Lock()
	all := make([]*Passage, 0, len(p.passages))
	for w := range p.passages {
		all = append(all, w)
	}
	p.mu.Unlock()
	for _, w := range all {
		w.look()
	}
}
