package service

import "diathermon/internal/durable"

// keep opens a small value that is kept in a file of the data folder. Where it cannot be
// read, or cannot be kept, the log says what it is; and if it is lost, what follows.
func keep[T any](s *starting, file, what, follows string) *durable.Value[T] {
	kept, err := durable.OpenValue[T](s.in(file), func(err error) { s.log.Error(what+" is not kept", "error", err) })
	if err != nil {
		s.log.Warn(what+" is not known any more: "+follows, "error", err)
	}
	return kept
}
