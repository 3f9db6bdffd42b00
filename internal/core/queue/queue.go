// Package queue is what waits to be printed.
package queue

import "time"

// An Entry is a file that waits in turn.
type Entry struct {
	ID     string // UUID, in the order of asking
	File   string // its name on the shelf
	Digest string // of the bytes that were meant
	Sender string // who asked
	Asked  time.Time
}
