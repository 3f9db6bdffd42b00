package records

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"log/slog"
	"os"

	"diathermon/internal/private"
)

// aside is a file in which records wait for a database that is away: one JSON
// object a line, the oldest first.
type aside struct {
	path string
	held int // entries in the file
}

// read returns what the file holds. A last line that was cut off by a power cut
// is left out.
func (a *aside) read() ([]entry, error) {
	body, err := os.ReadFile(a.path)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	if err != nil {
		return nil, fmt.Errorf("the records that wait cannot be read: %w", err)
	}
	var out []entry
	whole := 0
	for line := range bytes.Lines(body) {
		var e entry
		if !bytes.HasSuffix(line, []byte("\n")) || json.Unmarshal(line, &e) != nil {
			break
		}
		out = append(out, e)
		whole += len(line)
	}
	if whole < len(body) { // what follows would stand on the rest of that line
		if err := os.Truncate(a.path, int64(whole)); err != nil {
			return nil, fmt.Errorf("the records that wait cannot be mended: %w", err)
		}
	}
	a.held = len(out)
	return out, nil
}

// add writes those entries of what waits to the file that it does not hold yet,
// and returns when they are safe.
func (a *aside) add(waiting []entry) error {
	if len(waiting) <= a.held {
		return nil
	}
	f, err := os.OpenFile(a.path, os.O_CREATE|os.O_WRONLY|os.O_APPEND, private.FileMode)
	if err != nil {
		return err
	}
	defer f.Close()
	var out bytes.Buffer
	each := json.NewEncoder(&out)
	for _, e := range waiting[a.held:] {
		if err := each.Encode(e); err != nil {
			return err
		}
	}
	size, err := f.Seek(0, io.SeekEnd)
	if err != nil {
		return err
	}
	if _, err := f.Write(out.Bytes()); err != nil {
		return errors.Join(err, f.Truncate(size)) // a disk that is full keeps no half of a line
	}
	if err := f.Sync(); err != nil {
		return err
	}
	a.held = len(waiting)
	return nil
}

// clear forgets the file, whose records are in the database.
func (a *aside) clear(log *slog.Logger) {
	if a.held == 0 {
		return
	}
	if err := os.Remove(a.path); err != nil && !errors.Is(err, fs.ErrNotExist) {
		log.Error("the records that waited are written and their file does not go; they will be written again at the next start", "error", err)
	}
	a.held = 0
}
