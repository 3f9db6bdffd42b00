package service

import (
	"context"

	"diathermon/internal/core/heat"
	"diathermon/internal/rehearsal"
)

// rehearsed is the printer that files are rehearsed for: what is known of it now.
func (s *starting) rehearsed(ctx context.Context) (rehearsal.Printer, error) {
	bench, err := s.Host.Bench(ctx)
	if err != nil {
		return rehearsal.Printer{}, err
	}
	known, err := s.Host.Heat.Behaviour(ctx)
	if err != nil {
		return rehearsal.Printer{}, err
	}
	how, baud := s.Shelf.Reading(), s.config.Baud
	if baud == 0 && bench.Link.Live() {
		baud = bench.Link.Baud
	}
	p := rehearsal.Printer{Machine: s.config.Printer.Printer, Motion: how.Limits, LimitsOf: how.Of, Baud: baud, Pace: s.config.Pace, Heaters: map[heat.Heater]rehearsal.Heater{}}
	for h, model := range known.Models {
		p.Heaters[h] = rehearsal.Heater{Model: model, Shape: known.Shapes[h], Climbs: known.Climbs[h], Experience: known.Lived[h]}
	}
	return p, nil
}
