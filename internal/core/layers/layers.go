// Package layers keeps the strokes of a file by layer, compact and so that any layer
// can be read alone: what a drawing is made of, for a picture or on a screen far away.
//
// The form is docs/layers.md's. A stroke takes some seven bytes. The writer holds
// one layer's bytes and an index whose length is bounded; the reader wants nothing but
// io.ReaderAt.
//
// It leaves to toolpath what a stroke is, and to picture what it looks like.
package layers

import (
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"math"
)

// Magic begins a file of layers, and says its version; Tail ends it.
const (
	Magic = "DTHLAYR1"
	Tail  = "DTHLAYRE"
)

const (
	entrySize = 36
	tailSize  = 8 + 4 + 4 + 6*4 + 8
	perMM     = 100.0  // steps of X, Y and Z
	perMMofE  = 1000.0 // steps of filament
	perSpeed  = 10.0   // steps of a mm/s
	most      = 16384  // layers of the index; of more, neighbours are drawn together
)

// The kinds of entries in a layer. Above the kind's three bits a stroke has how many
// commands it is behind the one before; moreCommands: that many, and as many again as
// the number behind says.
const (
	travels = iota // X and Y change
	lays           // X, Y and E change
	moves          // all four may change
	sets           // speed
	blows          // fan
	heats          // setpoint of the nozzle
	turns          // tool
	begins         // where the next stroke begins, and what command was before it
)

const moreCommands = 31

// A Layer is a file's as the index has it.
type Layer struct {
	Offset  int64   // of its bytes
	Size    int     // bytes
	Strokes int     // all of them
	Command int     // commands before it
	Z       float64 // mm
	Height  float64 // mm
	Begins  float64 // s that the moves before it take
}

// An Index is what stands at the end of a file of layers.
type Index struct {
	Layers   []Layer
	Strokes  int
	Min, Max [3]float64 // mm of what is laid above the first layer; of all that is laid if there is no other
}

// ErrForm means that bytes are no file of layers of this version.
var ErrForm = errors.New("this is no file of layers")

// ReadIndex reads the index of a file of that size.
func ReadIndex(r io.ReaderAt, size int64) (Index, error) {
	var x Index
	tail := make([]byte, tailSize)
	if size < int64(len(Magic)+tailSize) {
		return x, fmt.Errorf("%w: it has %d bytes", ErrForm, size)
	}
	if _, err := r.ReadAt(tail, size-tailSize); err != nil {
		return x, err
	}
	if string(tail[tailSize-8:]) != Tail {
		return x, fmt.Errorf("%w: it does not end as one", ErrForm)
	}
	at := int64(binary.LittleEndian.Uint64(tail))
	n := int(binary.LittleEndian.Uint32(tail[8:]))
	x.Strokes = int(binary.LittleEndian.Uint32(tail[12:]))
	for i := range 3 {
		x.Min[i] = real32(tail[16+4*i:])
		x.Max[i] = real32(tail[28+4*i:])
	}
	if n > most || at < int64(len(Magic)) || at+int64(n)*entrySize != size-tailSize {
		return x, fmt.Errorf("%w: its index is damaged", ErrForm)
	}
	entries := make([]byte, n*entrySize)
	if _, err := r.ReadAt(entries, at); err != nil {
		return x, err
	}
	for ; len(entries) > 0; entries = entries[entrySize:] {
		x.Layers = append(x.Layers, Layer{
			Offset: int64(binary.LittleEndian.Uint64(entries)), Size: int(binary.LittleEndian.Uint32(entries[8:])),
			Strokes: int(binary.LittleEndian.Uint32(entries[12:])), Command: int(binary.LittleEndian.Uint32(entries[16:])),
			Z: real32(entries[20:]), Height: real32(entries[24:]), Begins: real32(entries[28:]),
		})
	}
	return x, nil
}

func real32(b []byte) float64 { return float64(math.Float32frombits(binary.LittleEndian.Uint32(b))) }
