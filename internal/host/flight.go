package host

import (
	"archive/zip"
	"bytes"
	"compress/flate"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"strconv"
	"time"
)

// flight is the flight recorder: everything that passed the port, every reading
// and position, every decision, of the last minutes. It keeps text in blocks that
// are packed as they fill, and is bounded in time and in bytes.
type flight struct {
	block  []byte // being filled
	blocks []packed
	bytes  int // of all packed blocks
}

type packed struct {
	until time.Time
	data  []byte
}

const (
	flightSpan  = 10 * time.Minute
	flightBlock = 64 << 10
	flightBytes = 8 << 20 // packed; some thirty as text
)

// The marks of what a recording's line holds.
const (
	markSent     = '>' // bytes written to the port
	markReceived = '<' // bytes read from it
	markMeasured = '=' // a reading or a position
	markDecided  = '!' // what the host made of it
)

// add appends one line: microseconds since 1970, the mark, the text as a quoted
// Go string.
func (f *flight) add(mark byte, text []byte) {
	now := time.Now()
	f.block = strconv.AppendInt(f.block, now.UnixMicro(), 10)
	f.block = append(f.block, ' ', mark, ' ')
	f.block = strconv.AppendQuoteToASCII(f.block, string(text))
	f.block = append(f.block, '\n')
	if len(f.block) < flightBlock {
		return
	}
	data := pack(f.block)
	f.blocks = append(f.blocks, packed{now, data})
	f.bytes += len(data)
	f.block = f.block[:0]
	for len(f.blocks) > 1 && (f.bytes > flightBytes || now.Sub(f.blocks[0].until) > flightSpan) {
		f.bytes -= len(f.blocks[0].data)
		f.blocks = f.blocks[1:]
	}
}

func pack(block []byte) []byte {
	var out bytes.Buffer
	w, err := flate.NewWriter(&out, flate.BestSpeed)
	if err != nil {
		return nil // only for a level that there is not
	}
	w.Write(block)
	w.Close()
	return out.Bytes()
}

// decide notes a decision in the recording.
func (h *Host) decide(format string, args ...any) {
	h.flight.add(markDecided, fmt.Appendf(nil, format, args...))
}

// A Recording is what the flight recorder held at one moment.
type Recording struct {
	Printer string
	Made    time.Time
	Run     *RunNow
	Link    Link
	blocks  []packed
	last    []byte
}

// Recording returns what the flight recorder holds now.
func (h *Host) Recording(ctx context.Context) (Recording, error) {
	var r Recording
	err := h.ask(ctx, func() { r = h.recording() })
	return r, err
}

func (h *Host) recording() Recording {
	return Recording{
		Printer: h.cfg.Printer.Name, Made: time.Now().UTC(), Run: h.runNow(), Link: h.link,
		blocks: append([]packed(nil), h.flight.blocks...), last: bytes.Clone(h.flight.block),
	}
}

const aboutRecording = `A recording of a printer's wire, made by Diathermon.

recording.log holds one event a line: microseconds since 1970, a mark, and text
as a quoted string. The marks: > bytes written to the printer, < bytes read from
it, = a reading or a position, ! a decision of the host.
about.json says of which printer and run.

Read it with: diathermon wire --replay FILE
`

// WriteArchive writes the recording as a ZIP archive.
func (r Recording) WriteArchive(w io.Writer) error {
	archive := zip.NewWriter(w)
	about, err := json.MarshalIndent(map[string]any{"printer": r.Printer, "made": r.Made, "link": r.Link, "run": r.Run}, "", "  ")
	if err != nil {
		return err
	}
	for name, text := range map[string][]byte{"README.txt": []byte(aboutRecording), "about.json": about} {
		out, err := archive.CreateHeader(&zip.FileHeader{Name: name, Method: zip.Deflate, Modified: r.Made})
		if err != nil {
			return err
		}
		if _, err := out.Write(text); err != nil {
			return err
		}
	}
	log, err := archive.CreateHeader(&zip.FileHeader{Name: "recording.log", Method: zip.Deflate, Modified: r.Made})
	if err != nil {
		return err
	}
	for _, b := range r.blocks {
		if _, err := io.Copy(log, flate.NewReader(bytes.NewReader(b.data))); err != nil {
			return err
		}
	}
	if _, err := log.Write(r.last); err != nil {
		return err
	}
	return archive.Close()
}
