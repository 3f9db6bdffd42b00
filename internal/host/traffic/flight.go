package traffic

import (
	"archive/zip"
	"bytes"
	"compress/flate"
	"encoding/json"
	"io"
	"slices"
	"strconv"
	"time"
)

// A Recorder is the flight recorder: everything that passed the port, every reading
// and position, every decision, of the last minutes. It keeps text in blocks that
// are packed as they fill, and is bounded in time and in bytes.
type Recorder struct {
	block  []byte // being filled
	blocks []packed
	bytes  int // of all packed blocks
	packer *flate.Writer
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

// Add appends one line: microseconds since 1970, the mark, the text as a quoted
// Go string.
func (f *Recorder) Add(mark byte, text []byte) {
	now := time.Now()
	f.block = strconv.AppendInt(f.block, now.UnixMicro(), 10)
	f.block = append(f.block, ' ', mark, ' ')
	f.block = strconv.AppendQuoteToASCII(f.block, string(text))
	f.block = append(f.block, '\n')
	if len(f.block) < flightBlock {
		return
	}
	data := f.pack()
	f.blocks = append(f.blocks, packed{now, data})
	f.bytes += len(data)
	f.block = f.block[:0]
	for len(f.blocks) > 1 && (f.bytes > flightBytes || now.Sub(f.blocks[0].until) > flightSpan) {
		f.bytes -= len(f.blocks[0].data)
		f.blocks = f.blocks[1:]
	}
}

// pack packs the block. The packer is kept: making one takes ten times the block.
func (f *Recorder) pack() []byte {
	var out bytes.Buffer
	if f.packer == nil {
		f.packer, _ = flate.NewWriter(&out, flate.BestSpeed) // it fails only for a level that there is not
	}
	f.packer.Reset(&out)
	f.packer.Write(f.block)
	f.packer.Close()
	return out.Bytes()
}

// A Recording is what the flight recorder held at one moment.
type Recording struct {
	Made   time.Time
	About  map[string]any // of which printer and run, as JSON
	blocks []packed
	last   []byte
}

// Recording returns what the recorder holds now.
func (f *Recorder) Recording(about map[string]any) Recording {
	made := time.Now().UTC()
	about["made"] = made
	return Recording{Made: made, About: about, blocks: slices.Clone(f.blocks), last: bytes.Clone(f.block)}
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
	about, err := json.MarshalIndent(r.About, "", "  ")
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
