package service

import "diathermon/internal/durable"

// keep opens a small value that is kept in a file of the data folder. What it is is said
// in the log where it cannot be read, or cannot be kept.
func keep[T any](s *starting, file, what string) *durable.Value[T] {
	kept, err := durable.OpenValue[T](s.in(file), func(err error) { s.log.Error(what+" is not kept", "error", err) })
	if err != nil {
		s.log.Warn(what+" is not known any more", "error", err)
	}
	return kept
}
