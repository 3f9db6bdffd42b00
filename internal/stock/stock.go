// Package stock keeps what is loaded where.
//
// It promises that what was said of a slot is known over restarts, whatever becomes of
// the database: a run is held against it before it starts. It leaves to core/stock what
// can be in a slot, and to preflight what follows from it.
package stock

import (
	"slices"
	"sync"
	"time"

	core "diathermon/internal/core/stock"
	"diathermon/internal/durable"
)

// Stock is what is loaded in one printer.
type Stock struct {
	kept    *durable.Value[[]core.Slot]
	hottest float64
	tell    func()

	mu  sync.Mutex // one slot is changed at a time
	now []core.Slot
}

// Open returns what is kept at path for a printer of so many slots, whose nozzles may be
// as hot as hottest, °C. What cannot be read is told, and nothing is loaded then. Tell is
// called when something has changed.
func Open(path string, slots int, hottest float64, tell func()) (*Stock, error) {
	kept, err := durable.OpenValue[[]core.Slot](path, nil)
	s := &Stock{kept: kept, hottest: hottest, tell: tell, now: make([]core.Slot, slots)}
	for i := range s.now {
		s.now[i].Number = i
	}
	for _, slot := range kept.Get() {
		if good, wrong := slot.Check(slots, hottest); wrong == nil && good.Loaded {
			s.now[good.Number] = good
		}
	}
	return s, err
}

// Slots are what is loaded, by their numbers. It never waits.
func (s *Stock) Slots() []core.Slot {
	s.mu.Lock()
	defer s.mu.Unlock()
	return slices.Clone(s.now)
}

// Load notes what is in a slot from now on, and who says so, and returns it as it is kept.
func (s *Stock) Load(slot core.Slot, by string) (core.Slot, error) {
	slot, err := slot.Check(len(s.now), s.hottest)
	if err != nil {
		return slot, err
	}
	slot.By, slot.Since = by, time.Now().UTC().Truncate(time.Millisecond)
	s.mu.Lock()
	next := slices.Clone(s.now)
	next[slot.Number] = slot
	s.now = next
	s.kept.Set(next)
	s.mu.Unlock()
	s.tell()
	return slot, s.kept.Flush()
}
