package service

import (
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"log/slog"
	"os"
	"sync"

	"diathermon/internal/core/wire"
	"diathermon/internal/durable"
)

// holds keeps what printers can hold in a small file.
type holds struct {
	path string
	log  *slog.Logger

	writing sync.Mutex // one writes at a time, the newest last
	mu      sync.Mutex
	kept    map[string]wire.Holds
}

func openHolds(path string, log *slog.Logger) (*holds, error) {
	h := &holds{path: path, log: log, kept: map[string]wire.Holds{}}
	b, err := os.ReadFile(path)
	switch {
	case errors.Is(err, fs.ErrNotExist):
		return h, nil
	case err != nil:
		return nil, fmt.Errorf("what printers can hold cannot be read: %w", err)
	}
	if err := json.Unmarshal(b, &h.kept); err != nil { // it is measured again
		log.Warn("what printers can hold cannot be read, and is measured anew", "file", path, "error", err)
		h.kept = map[string]wire.Holds{}
	}
	return h, nil
}

// Holds returns what is known of a printer.
func (h *holds) Holds(printer string) (wire.Holds, bool) {
	h.mu.Lock()
	defer h.mu.Unlock()
	known, ok := h.kept[printer]
	return known, ok && known.Bytes > 0
}

// KeepHolds keeps what was found out of a printer.
func (h *holds) KeepHolds(printer string, found wire.Holds) {
	h.mu.Lock()
	defer h.mu.Unlock()
	h.kept[printer] = found
	go h.write()
}

func (h *holds) write() {
	h.writing.Lock()
	defer h.writing.Unlock()
	h.mu.Lock()
	b, err := json.MarshalIndent(h.kept, "", "  ")
	h.mu.Unlock()
	if err == nil {
		err = durable.Replace(h.path, durable.Bytes(append(b, '\n')))
	}
	if err != nil {
		h.log.Error("what the printer can hold is not kept", "error", err)
	}
}
