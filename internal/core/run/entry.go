package run

import (
	"encoding/json"
	"time"

	"diathermon/internal/core/trim"
)

// EntryKind tells what an Entry says.
type EntryKind string

// The kinds of entry.
const (
	Begins  EntryKind = "begins"  // Record: the run
	Counts  EntryKind = "counts"  // from line Number on, the file's commands after the first Command are said
	Other   EntryKind = "other"   // line Number was not of the file: Text
	Reached EntryKind = "reached" // Command of the file's commands have been taken, the last with line Number
	Trims   EntryKind = "trims"   // Trim: how the file's lines are said from some command on
	Untils  EntryKind = "until"   // Until: where it is to be held, or to end; nowhere without one
	Becomes EntryKind = "becomes" // Stage, because of Reason
	Lost    EntryKind = "lost"    // the printer has forgotten everything; of versions that kept no stages
)

// An Entry is one line of a run's journal. Which fields hold something depends
// on Kind.
type Entry struct {
	Kind    EntryKind       `json:"kind"`
	At      time.Time       `json:"at"`
	Record  *Record         `json:"record,omitempty"`
	Number  int             `json:"number,omitempty"`
	Command int             `json:"command,omitempty"`
	Text    string          `json:"text,omitempty"`
	Trim    *trim.Change    `json:"trim,omitempty"`
	Until   *Until          `json:"until,omitempty"`
	Stage   kept            `json:"-"`
	Data    json.RawMessage `json:"stage,omitempty"` // what Encode writes of Stage
	State   State           `json:"state,omitempty"`
	Reason  string          `json:"reason,omitempty"`
	Started time.Time       `json:"started,omitzero"`
	Laying  time.Time       `json:"laying,omitzero"`
	Back    *Point          `json:"back,omitempty"`    // where a held run goes on; of versions that kept no stages
	Printer json.RawMessage `json:"printer,omitempty"` // Counts: what the printer said of itself, the host's to read
}

// Encode puts an entry into words: one line of JSON, without its end.
func (e Entry) Encode() []byte {
	if e.Stage.stage != nil {
		e.Data, _ = json.Marshal(e.Stage) // without it, for a number that JSON does not know, State tells
	}
	text, _ := json.Marshal(e)
	return text
}

// ParseEntry reads what Encode has written.
func ParseEntry(text []byte) (Entry, error) {
	var e Entry
	err := json.Unmarshal(text, &e)
	if err == nil && e.Data != nil {
		err = json.Unmarshal(e.Data, &e.Stage)
	}
	return e, err
}

// stage is the stage that an entry tells: for one without, as versions wrote that
// kept none, the nearest to its state; nil where it was of no account.
func (e Entry) stage() stage {
	switch {
	case e.Stage.stage != nil:
		return e.Stage.stage
	case e.State == Waiting:
		return fresh{}
	case e.State == Warming:
		return heating{}
	case e.State == Running:
		return drawing{}
	case e.State == Held && e.Back != nil:
		return parked{Back: *e.Back}
	case e.State == Held:
		return settling{}
	case e.State == Ending:
		return finishing{}
	case e.State.Final():
		return over{e.State}
	}
	return nil
}
