package service

import (
	"diathermon/internal/core/motion"
	"diathermon/internal/core/toolpath"
)

// reading is how files are read: with what the printer has told of its axes, or else
// with what the keeper has. How many moves it plans together no firmware lists.
func (s *starting) reading() toolpath.Options {
	how := s.config.Printer.Reading()
	if l := s.told.Get(); l.Told {
		l.Ring = how.Limits.Ring
		return toolpath.Options{Limits: l, Of: toolpath.PrintersLimits}
	}
	return how
}

// axes takes what the printer tells of its axes.
func (s *starting) axes(l motion.Limits) {
	s.told.Set(l)
	s.Shelf.ReadWith(s.reading())
}
