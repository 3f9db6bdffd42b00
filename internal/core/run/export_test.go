package run

import (
	"encoding/json"
	"fmt"
)

// Kept tells what the journal keeps of a run's stage and of its lines.
func Kept(l *Life) string {
	data, err := json.Marshal(kept{l.stage})
	return fmt.Sprintf("%s %v, from line %d, command %d, %d others", data, err, l.ledger.Number, l.ledger.Before, len(l.ledger.Others))
}
