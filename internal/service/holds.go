package service

import (
	"log/slog"
	"maps"
	"sync"

	"diathermon/internal/core/wire"
	"diathermon/internal/durable"
)

// holds keeps what printers can hold in a small file.
type holds struct {
	mu   sync.Mutex // one is noted at a time
	kept *durable.Value[map[string]wire.Holds]
}

func openHolds(path string, log *slog.Logger) *holds {
	kept, err := durable.OpenValue[map[string]wire.Holds](path, func(err error) { log.Error("what the printer can hold is not kept", "error", err) })
	if err != nil { // it is measured again
		log.Warn("what printers can hold is measured anew", "error", err)
	}
	return &holds{kept: kept}
}

// Holds returns what is known of a printer.
func (h *holds) Holds(printer string) (wire.Holds, bool) {
	known, ok := h.kept.Get()[printer]
	return known, ok && known.Bytes > 0
}

// KeepHolds keeps what was found out of a printer.
func (h *holds) KeepHolds(printer string, found wire.Holds) {
	h.mu.Lock()
	defer h.mu.Unlock()
	all := maps.Clone(h.kept.Get())
	if all == nil {
		all = map[string]wire.Holds{}
	}
	all[printer] = found
	h.kept.Set(all)
}
