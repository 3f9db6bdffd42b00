package service

import (
	"encoding/json"
	"os"

	"diathermon/internal/core/motion"
	"diathermon/internal/core/toolpath"
	"diathermon/internal/durable"
)

// told is where it is kept what the printer has told of its axes, so that files are read
// with that before it answers.
const told = "printer-axes.json"

// reading is how files are read: with what the printer has told of its axes, or else
// with what the keeper has.
func (s *starting) reading() toolpath.Options {
	how := s.config.Printer.Reading()
	b, err := os.ReadFile(s.in(told))
	if err != nil {
		return how
	}
	var l motion.Limits
	if err := json.Unmarshal(b, &l); err != nil || !l.Told {
		s.log.Warn("what the printer has told of its axes cannot be read, and is asked anew", "file", s.in(told), "error", err)
		return how
	}
	return s.toldBy(l)
}

// toldBy is how files are read for a printer that has told its limits. How many moves it
// plans together no firmware lists.
func (s *starting) toldBy(l motion.Limits) toolpath.Options {
	l.Ring = s.config.Printer.Reading().Limits.Ring
	return toolpath.Options{Limits: l, Of: toolpath.PrintersLimits}
}

// axes takes what the printer tells of its axes.
func (s *starting) axes(l motion.Limits) {
	go func() { // the disk may be slow
		b, err := json.MarshalIndent(l, "", "  ")
		if err == nil {
			err = durable.Replace(s.in(told), durable.Bytes(append(b, '\n')))
		}
		if err != nil {
			s.log.Error("what the printer tells of its axes is not kept", "error", err)
		}
	}()
	s.Shelf.ReadWith(s.toldBy(l))
}
