package run

import (
	"encoding/json"
	"fmt"
)

// Kept tells all that the journal keeps of a run but how far it has come.
func Kept(l *Life) string {
	data, err := json.Marshal(kept{l.stage})
	r := l.record
	r.Taken, r.Ended = 0, r.Ended.Truncate(0)
	if r.Ended.IsZero() || l.Stage() == Over { // the entry's own time tells
		r.Ended = r.Created
	}
	return fmt.Sprintf("%s %v %+v %d %d %d", data, err, r, l.ledger.Number, l.ledger.Before, len(l.ledger.Others))
}
