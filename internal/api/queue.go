package api

import "time"

// Queue is what waits to be printed, the next first.
type Queue struct {
	Entries []QueueEntry `json:"entries"`
}

// QueueEntry is a file that waits in turn.
type QueueEntry struct {
	ID     string    `json:"id"`
	File   string    `json:"file" doc:"Name on the shelf"`
	Digest string    `json:"digest" doc:"Of the bytes that were meant; if others are on the shelf, it does not begin"`
	Sender string    `json:"sender" doc:"Who asked, by the token's name"`
	Asked  time.Time `json:"asked"`
}

// AddEntry lets a file wait.
type AddEntry struct {
	File string `json:"file" minLength:"1" doc:"Name on the shelf"`
}

// BedClear says that the bed is clear, so that the next may begin.
type BedClear struct {
	ID string `json:"id,omitempty" doc:"The entry that was seen to be the next; without it whichever is"`
}
