package shelf

// Between lets a test do something between the steps of a change.
func Between(f func(step string)) (undo func()) {
	before := step
	step = f
	return func() { step = before }
}

// Limit sets the largest file that is taken.
func (s *Shelf) Limit(bytes int64) { s.maxBytes = bytes }
