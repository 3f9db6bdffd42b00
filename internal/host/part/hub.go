package part

import "sync"

// An Update is one live event: what a part shows of itself, of the type that the
// part's package gives it.
type Update struct {
	What  any
	Frame *Frame
}

// A Frame is what an update looks like on its way to subscribers: made by the
// first of them, for all.
type Frame struct {
	once  sync.Once
	bytes []byte
}

// Bytes returns the frame, made by make if nobody has yet.
func (f *Frame) Bytes(make func() []byte) []byte {
	f.once.Do(func() { f.bytes = make() })
	return f.bytes
}

// Queued is how many updates wait for a slow subscriber before it is let go: a
// minute of a busy printer.
const Queued = 512

// hub hands updates to subscribers without waiting for any of them.
type hub struct {
	mu   sync.Mutex
	subs map[chan Update]struct{}
}

// Subscribe returns a channel of what happens from now on. It is closed when
// the subscriber is too slow, and must be given back with the function. It may be
// called from anywhere.
func (l *Loop) Subscribe() (<-chan Update, func()) {
	ch := make(chan Update, Queued)
	l.hub.mu.Lock()
	defer l.hub.mu.Unlock()
	if l.hub.subs == nil {
		l.hub.subs = map[chan Update]struct{}{}
	}
	l.hub.subs[ch] = struct{}{}
	return ch, func() {
		l.hub.mu.Lock()
		defer l.hub.mu.Unlock()
		l.hub.drop(ch)
	}
}

func (h *hub) drop(ch chan Update) {
	if _, there := h.subs[ch]; there {
		delete(h.subs, ch)
		close(ch)
	}
}

// Publish shows everyone what has changed.
func (l *Loop) Publish(what any) { l.hub.publish(Update{What: what, Frame: &Frame{}}) }

func (h *hub) publish(u Update) {
	h.mu.Lock()
	defer h.mu.Unlock()
	for ch := range h.subs {
		select {
		case ch <- u:
		default:
			h.drop(ch)
		}
	}
}
