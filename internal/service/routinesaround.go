package service

import (
	"fmt"

	"diathermon/internal/core/run"
	"diathermon/internal/durable"
	"diathermon/internal/host/performing"
	"diathermon/internal/host/printing"
)

// routinesAround are the routines around every run, as they are kept.
type routinesAround struct {
	kept  *durable.Value[run.Around]
	sound *performing.Performing // nil until the host is there
}

// Around are they.
func (r *routinesAround) Around() run.Around { return r.kept.Get() }

// SetAround changes them, if each can be performed on this printer.
func (r *routinesAround) SetAround(a run.Around) error {
	for _, all := range [][]run.Performs{a.Before, a.After} {
		for _, one := range all {
			if err := r.sound.Sound(one); err != nil {
				return fmt.Errorf("%w: %s: %w", printing.ErrAround, one.Routine, err)
			}
		}
	}
	return r.kept.Put(a)
}
