package service

import (
	"time"

	"diathermon/internal/core/bed"
	"diathermon/internal/durable"
)

// openBed returns what is known of the bed after this start, and where that is kept.
func (s *starting) openBed() (bed.Bed, *durable.Value[bed.Kept], error) {
	kept := keep[bed.Kept](s, "bed.json", "what is known of the bed", "look at it, and say how it is")
	now, before := time.Now().UTC(), kept.Get()
	found := before.Bed.Found(before.Ended, now)
	if before.Bed.State == "" && s.config.ClearBed {
		found = bed.Bed{State: bed.Clear, Since: now, Why: "a new printer's bed is clear"}
	}
	s.closers = append(s.closers, func() {
		if err := kept.Put(bed.Kept{Bed: kept.Get().Bed, Ended: true}); err != nil {
			s.log.Error("what is known of the bed is not kept", "error", err)
		}
	})
	return found, kept, kept.Put(bed.Kept{Bed: found})
}
