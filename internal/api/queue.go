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
	Cause  string    `json:"cause,omitempty" doc:"Why it waits, though it was to begin at once or at its time"`
	Missed bool      `json:"missed,omitempty" doc:"Its time has passed, so that it begins when a person says so"`
	Why    string    `json:"why,omitempty" doc:"What stands in its way now; absent: it could begin"`
	Checks []Check   `json:"checks,omitempty" doc:"All that stands in its way, or should be known"`
	QueueWish
}

// QueueWish is how an entry is to be run.
type QueueWish struct {
	Copies      int        `json:"copies" doc:"That are still to be printed"`
	After       *time.Time `json:"after,omitempty" doc:"It begins by itself then, if the bed was said to be clear before; absent: when a person says so"`
	SoakSeconds *float64   `json:"soak_seconds,omitempty" doc:"The bed is held hot for so long before the first line, 0: until it has settled; absent: it is not"`
	Slots       []int      `json:"slots,omitempty" doc:"From which each of the file's tools is printed; absent: from that of its number"`
	Around      *Around    `json:"around,omitempty" doc:"The routines around it; absent: those of every run"`
}

// AddEntry lets a file wait.
type AddEntry struct {
	File        string    `json:"file" minLength:"1" doc:"Name on the shelf"`
	Copies      int       `json:"copies,omitempty" default:"1" minimum:"1" maximum:"100" doc:"How often it is printed"`
	After       time.Time `json:"after,omitzero" doc:"It begins by itself then, if the bed was said to be clear before"`
	SoakSeconds *float64  `json:"soak_seconds,omitempty" minimum:"0" maximum:"14400" doc:"Hold the bed hot for so long before the first line, 0: until it has settled"`
	Slots       []int     `json:"slots,omitempty" maxItems:"16" doc:"From which each of the file's tools is printed, tool 0 first; absent: from that of its number"`
	Around      *Around   `json:"around,omitempty" doc:"The routines around it; absent: those of every run. Takes the scope operate"`
}

// ChangeEntry changes an entry; what is left out stays.
type ChangeEntry struct {
	Before      *string    `json:"before,omitempty" doc:"It goes to the place before the entry of that ID; empty: to the end"`
	Copies      *int       `json:"copies,omitempty" minimum:"1" maximum:"100"`
	After       *time.Time `json:"after,omitempty" doc:"0001-01-01T00:00:00Z: it begins when a person says so"`
	SoakSeconds *float64   `json:"soak_seconds,omitempty" maximum:"14400" doc:"Below zero: it does not soak"`
	Slots       *[]int     `json:"slots,omitempty" maxItems:"16"`
	Around      *Around    `json:"around,omitempty" doc:"Takes the scope operate"`
}

// StartNext lets the first entry begin.
type StartNext struct {
	ID       string     `json:"id,omitempty" doc:"The entry that was seen to be the next; without it whichever is"`
	Clear    bool       `json:"clear,omitempty" doc:"Say that the bed is clear; takes the scope operate"`
	Seen     time.Time  `json:"bed_seen,omitzero" doc:"With clear: since when the bed was as you saw it"`
	Overrule []Overrule `json:"overrule,omitempty" maxItems:"20" doc:"Blocks that do not matter; takes the scope operate"`
}
