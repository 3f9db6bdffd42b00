package records

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"log/slog"

	"diathermon/internal/durable"
)

// aside is a file in which records wait for a database that is away: one JSON
// object a line with its checksum, the oldest first.
type aside struct {
	path string
	log  *durable.Log // nil until something waits
	held int          // entries in the file
}

// parse reads a line of the file. Before there were checksums a line was the object
// alone.
func parse(line []byte) (entry, error) {
	var e entry
	body, ok := durable.Body(line)
	if !ok {
		body = line
	}
	return e, json.Unmarshal(body, &e)
}

// read returns what the file holds. What a power cut has spoilt at its end is left
// out.
func (a *aside) read() ([]entry, error) {
	log, data, err := durable.Open(a.path, durable.Lines(func(line []byte) bool {
		_, err := parse(line)
		return err == nil
	}), durable.Options{})
	if err != nil {
		return nil, fmt.Errorf("the records that wait cannot be read: %w", err)
	}
	var out []entry
	for line := range bytes.Lines(data) {
		if e, err := parse(line); err == nil {
			out = append(out, e)
		}
	}
	a.log, a.held = log, len(out)
	return out, nil
}

// add writes those entries of what waits to the file that it does not hold yet,
// and returns when they are safe.
func (a *aside) add(waiting []entry) error {
	if len(waiting) > a.held {
		var out []byte
		for _, e := range waiting[a.held:] {
			body, err := json.Marshal(e)
			if err != nil {
				return err
			}
			out = append(out, durable.Line(body)...)
		}
		if a.log == nil {
			a.log = durable.New(a.path, durable.Options{})
		}
		err := a.log.Append(out)
		if errors.Is(err, durable.ErrFull) {
			return err
		}
		a.held = len(waiting) // what the disk does not take now it takes with what follows
		if err != nil {
			return err
		}
	}
	if a.log == nil {
		return nil
	}
	return a.log.Sync()
}

// clear forgets the file, whose records are in the database.
func (a *aside) clear(log *slog.Logger) {
	if a.log == nil {
		return
	}
	if err := a.log.Remove(); err != nil {
		log.Error("the records that waited are written and their file does not go; they will be written again at the next start", "error", err)
	}
	a.log, a.held = nil, 0
}
