package service

import (
	"sync"
	"time"

	"diathermon/internal/core/bed"
	"diathermon/internal/durable"
)

// bedside keeps what is known of the bed in a small file, with whether the service has
// ended by itself since.
type bedside struct {
	kept *durable.Value[bedNote]

	mu   sync.Mutex
	last bedNote
}

// bedNote is what the file holds.
type bedNote struct {
	Bed   bed.Bed
	Ended bool // the service, by itself
}

// openBed returns what is known of the bed after this start.
func (s *starting) openBed() (bed.Bed, *bedside, error) {
	kept, err := durable.OpenValue[bedNote](s.in("bed.json"), func(err error) { s.log.Error("what is known of the bed is not kept", "error", err) })
	if err != nil {
		s.log.Warn("what was known of the bed is lost", "error", err)
	}
	b := &bedside{kept: kept}
	now, before := time.Now().UTC(), kept.Get()
	found := before.Bed.Found(before.Ended, now)
	if before.Bed.State == "" && s.config.ClearBed {
		found = bed.Bed{State: bed.Clear, Since: now, Why: "a new printer's bed is clear"}
	}
	b.last = bedNote{Bed: found}
	return found, b, kept.Put(b.last)
}

// KeepBed keeps what is known of it.
func (b *bedside) KeepBed(now bed.Bed) {
	b.mu.Lock()
	defer b.mu.Unlock()
	b.last.Bed = now
	b.kept.Set(b.last)
}

// end notes that the service ends by itself.
func (b *bedside) end() error {
	b.mu.Lock()
	defer b.mu.Unlock()
	b.last.Ended = true
	return b.kept.Put(b.last)
}
