package host

import (
	"sync"

	"diathermon/internal/core/heat"
	"diathermon/internal/core/wire"
)

// An Update is one live event. Exactly one field is set, besides Frame.
type Update struct {
	Frame    *Frame
	Link     *Link
	Heat     *HeatUpdate
	Run      *RunNow
	Position *Position
	Wire     []Traffic
	Message  *wire.Message
	Alarms   []heat.Alarm // that wait for a person, if Told
	Told     bool
}

// A HeatUpdate is what has come of the heaters.
type HeatUpdate struct {
	Heaters []HeaterNow
	WarmUp  *WarmUpNow
	Flow    heat.FlowState
	Watch   heat.FlowAction
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

// queued is how many updates wait for a slow subscriber before it is let go: a
// minute of a busy printer.
const queued = 512

// hub hands updates to subscribers without waiting for any of them.
type hub struct {
	mu   sync.Mutex
	subs map[chan Update]struct{}
}

// Subscribe returns a channel of what happens from now on. It is closed when
// the subscriber is too slow, and must be given back with the function.
func (h *Host) Subscribe() (<-chan Update, func()) {
	ch := make(chan Update, queued)
	h.hub.mu.Lock()
	defer h.hub.mu.Unlock()
	if h.hub.subs == nil {
		h.hub.subs = map[chan Update]struct{}{}
	}
	h.hub.subs[ch] = struct{}{}
	return ch, func() {
		h.hub.mu.Lock()
		defer h.hub.mu.Unlock()
		h.hub.drop(ch)
	}
}

func (h *hub) drop(ch chan Update) {
	if _, there := h.subs[ch]; there {
		delete(h.subs, ch)
		close(ch)
	}
}

func (h *hub) publish(u Update) {
	u.Frame = &Frame{}
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
