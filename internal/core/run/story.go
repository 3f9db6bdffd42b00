package run

import (
	"bufio"
	"encoding/json"
	"fmt"
	"hash/crc32"
	"io"
	"strconv"
	"strings"
	"time"

	"diathermon/internal/core/gcode"
)

// EntryKind tells what an Entry says.
type EntryKind string

// The kinds of entry.
const (
	Begins  EntryKind = "begins"  // Record: the run
	Counts  EntryKind = "counts"  // from line Number on, the file's commands after the first Command are said
	Other   EntryKind = "other"   // line Number was not of the file: Text
	Reached EntryKind = "reached" // Command of the file's commands have been taken, the last with line Number
	Becomes EntryKind = "becomes" // State, because of Reason; Back is where a held run goes on
	Lost    EntryKind = "lost"    // the printer has forgotten everything
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
	State   State           `json:"state,omitempty"`
	Reason  string          `json:"reason,omitempty"`
	Back    *Point          `json:"back,omitempty"`
	Printer json.RawMessage `json:"printer,omitempty"` // Counts: what the printer said of itself, the host's to read
}

// A Story is what a run's journal amounts to: enough to go on with the run when
// the host, the printer or both have gone away in the middle of it.
type Story struct {
	Record  Record
	Said    int // line numbers that may have been used; all below
	Number  int // the first line number that counts
	Before  int // the file's commands said before that
	Others  map[int]string
	Taken   int // of the file's commands; may lag behind the printer
	State   State
	Reason  string
	Back    *Point // where a held run goes on; nil if it is not held
	Lost    bool   // the printer has forgotten everything since
	Picking bool   // it is being picked up on a printer that had: until it runs, its lines do not tell where the machine is

	Printer json.RawMessage
}

// Tell carries the story on by an entry.
func (s *Story) Tell(e Entry) {
	switch e.Kind {
	case Begins:
		*s = Story{Record: *e.Record, State: e.Record.State}
	case Counts:
		s.Number, s.Before, s.Others, s.Printer = e.Number, e.Command, map[int]string{}, e.Printer
		s.Taken, s.Said = e.Command, e.Number
		s.Picking = s.Lost
		s.Lost = false
	case Other:
		s.Others[e.Number] = e.Text
		s.Said = max(s.Said, e.Number+1)
	case Reached:
		s.Taken = e.Command
		s.Said = max(s.Said, e.Number+1)
	case Becomes:
		if e.State == Interrupted { // what it was before is what it goes on as
			return
		}
		s.State, s.Reason, s.Back = e.State, e.Reason, e.Back
		s.Picking = s.Picking && e.State != Running
	case Lost:
		s.Lost = true
	}
}

// Commands returns how many of the file's commands a printer has taken whose
// last line has that number.
func (s *Story) Commands(number int) int {
	n := s.Before
	for at := s.Number; at <= number; at++ {
		if _, other := s.Others[at]; !other {
			n++
		}
	}
	return n
}

// Replay returns the point that a printer has come to whose last line has that
// number: the file's commands, and those that were said between them.
func (s *Story) Replay(file io.Reader, number int) (Point, error) {
	in := bufio.NewReaderSize(file, 64<<10)
	p, err := Replay(in, s.Before)
	if err != nil {
		return p, err
	}
	var l gcode.Line
	apply := func(command string) {
		if l.Parse([]byte(command)) == nil {
			p.Apply(&l)
		}
	}
	rest := Commands(in)
	for at := s.Number; at <= number; at++ {
		if other, is := s.Others[at]; is {
			apply(other)
			continue
		}
		command, ok := rest()
		if !ok {
			return p, fmt.Errorf("the file ends before line %d", at)
		}
		apply(command)
	}
	return p, nil
}

// Line puts an entry into a line of a journal: a checksum, a space, JSON and a
// line end.
func (e Entry) Line() []byte {
	body, err := json.Marshal(e)
	if err != nil { // a Point with a number that JSON does not know; it cannot be gone back to
		e.Back = nil
		body, _ = json.Marshal(e)
	}
	return fmt.Appendf(nil, "%08x %s\n", crc32.ChecksumIEEE(body), body)
}

// ParseEntry reads a line of a journal. A line that was cut short or damaged is
// an error.
func ParseEntry(line string) (Entry, error) {
	var e Entry
	sum, body, ok := strings.Cut(strings.TrimSuffix(line, "\n"), " ")
	want, err := strconv.ParseUint(sum, 16, 32)
	if !ok || err != nil || uint32(want) != crc32.ChecksumIEEE([]byte(body)) {
		return e, fmt.Errorf("a damaged line: %.40q", line)
	}
	return e, json.Unmarshal([]byte(body), &e)
}
