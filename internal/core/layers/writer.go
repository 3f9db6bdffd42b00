package layers

import (
	"encoding/binary"
	"io"
	"math"
	"sort"

	"diathermon/internal/core/gcode"
	"diathermon/internal/core/run"
	"diathermon/internal/core/toolpath"
)

// A Writer writes a file of layers. Stroke is for toolpath.Options; Close ends it.
type Writer struct {
	w      io.Writer
	err    error
	offset int64
	buf    []byte
	layers []Layer
	count  int // layers, those drawn together with others too
	merge  int // how many of them are drawn together
	open   Layer
	layer  int // of the strokes that come; -1 before the first
	total  int

	at      [4]int64 // in steps
	command int
	feed    int64
	fan     byte
	nozzle  int64
	tool    int

	first, above box
}

type box struct {
	min, max [3]float64
	any      bool
}

func (b *box) add(p gcode.Position) {
	for i := range 3 {
		if !b.any || p[i] < b.min[i] {
			b.min[i] = p[i]
		}
		if !b.any || p[i] > b.max[i] {
			b.max[i] = p[i]
		}
	}
	b.any = true
}

// NewWriter returns a writer.
func NewWriter(w io.Writer) *Writer {
	out := &Writer{w: w, layer: -1, merge: 1}
	out.write([]byte(Magic))
	return out
}

func (w *Writer) write(b []byte) {
	if w.err != nil {
		return
	}
	n, err := w.w.Write(b)
	w.offset += int64(n)
	w.err = err
}

func steps(p gcode.Position) (out [4]int64) {
	for i := range 3 {
		out[i] = int64(math.Round(p[i] * perMM))
	}
	out[gcode.E] = int64(math.Round(p[gcode.E] * perMMofE))
	return out
}

// Stroke takes the next stroke.
func (w *Writer) Stroke(k *toolpath.Stroke) {
	if k.Layer != w.layer {
		w.flush()
		w.layer = k.Layer
		w.open = Layer{Offset: w.offset, Command: k.Command - 1}
		w.command, w.feed, w.fan, w.nozzle, w.tool = k.Command-1, -1, 0, -1, -1
		w.begin(k)
		w.buf = append(w.buf, blows, 0)
	}
	if from := steps(k.From); from != w.at { // homed, or its place redefined
		w.begin(k)
	}
	w.state(k)
	to := steps(k.To)
	var d [4]int64
	for i := range d {
		d[i] = to[i] - w.at[i]
	}
	ahead := k.Command - w.command
	kind := byte(moves)
	switch {
	case d[2] != 0 || d[3] < 0 || d[0] == 0 && d[1] == 0:
	case d[3] == 0:
		kind = travels
	default:
		kind = lays
	}
	w.buf = append(w.buf, kind|byte(min(ahead, moreCommands))<<3)
	if ahead >= moreCommands {
		w.buf = binary.AppendUvarint(w.buf, uint64(ahead-moreCommands))
	}
	w.buf = binary.AppendVarint(binary.AppendVarint(w.buf, d[0]), d[1])
	if kind == moves {
		w.buf = binary.AppendVarint(w.buf, d[2])
	}
	if kind != travels {
		w.buf = binary.AppendVarint(w.buf, d[3])
	}
	w.at, w.command = to, k.Command
	w.open.Strokes++
	if k.Lays() {
		w.open.Z, w.open.Height = k.To[gcode.Z], k.Height
		b := &w.above
		if k.Layer == 0 {
			b = &w.first
		}
		b.add(k.From)
		b.add(k.To)
	}
}

// begin says where the next stroke begins.
func (w *Writer) begin(k *toolpath.Stroke) {
	w.at = steps(k.From)
	w.buf = append(w.buf, begins)
	for _, v := range w.at {
		w.buf = binary.AppendVarint(w.buf, v)
	}
}

// state says what has changed about how strokes are made.
func (w *Writer) state(k *toolpath.Stroke) {
	if feed := int64(math.Round(k.Feed * perSpeed)); feed != w.feed {
		w.feed = feed
		w.buf = binary.AppendUvarint(append(w.buf, sets), uint64(min(max(feed, 0), 1<<30)))
	}
	if fan := byte(math.Round(100 * k.Fan)); fan != w.fan {
		w.fan = fan
		w.buf = append(w.buf, blows, fan)
	}
	if nozzle := int64(math.Round(k.Nozzle)); nozzle != w.nozzle {
		w.nozzle = nozzle
		w.buf = binary.AppendUvarint(append(w.buf, heats), uint64(max(nozzle, 0)))
	}
	if k.Tool != w.tool {
		w.tool = k.Tool
		w.buf = append(w.buf, turns, byte(min(max(k.Tool, 0), 255)))
	}
}

// flush ends a layer. Where there are very many, neighbours become one of the index:
// their bytes stand behind each other, and each begins with its place.
func (w *Writer) flush() {
	if w.layer < 0 {
		return
	}
	w.open.Size = len(w.buf)
	w.write(w.buf)
	w.total += w.open.Strokes
	w.buf = w.buf[:0]
	if w.count%w.merge == 0 {
		w.layers = append(w.layers, w.open)
	} else {
		join(&w.layers[len(w.layers)-1], w.open)
	}
	if w.count++; len(w.layers) < most || w.count%w.merge != 0 {
		return
	}
	kept := w.layers[:0]
	for i := 0; i < len(w.layers); i += 2 {
		l := w.layers[i]
		if i+1 < len(w.layers) {
			join(&l, w.layers[i+1])
		}
		kept = append(kept, l)
	}
	w.layers, w.merge = kept, 2*w.merge
}

func join(l *Layer, next Layer) {
	l.Size, l.Strokes = l.Size+next.Size, l.Strokes+next.Strokes
	if next.Height > 0 {
		l.Z, l.Height = next.Z, next.Height
	}
}

// Close writes the index; the marks tell when a layer begins.
func (w *Writer) Close(marks []run.Mark) error {
	w.flush()
	at := w.offset
	var b []byte
	for _, l := range w.layers {
		b = binary.LittleEndian.AppendUint64(b, uint64(l.Offset))
		for _, v := range []int{l.Size, l.Strokes, l.Command} {
			b = binary.LittleEndian.AppendUint32(b, uint32(v))
		}
		begins := 0.0
		if i := sort.Search(len(marks), func(i int) bool { return marks[i].Command > l.Command }); i > 0 {
			begins = marks[i-1].Seconds
		}
		for _, v := range []float64{l.Z, l.Height, begins, 0} {
			b = binary.LittleEndian.AppendUint32(b, math.Float32bits(float32(v)))
		}
	}
	b = binary.LittleEndian.AppendUint64(b, uint64(at))
	b = binary.LittleEndian.AppendUint32(b, uint32(len(w.layers)))
	b = binary.LittleEndian.AppendUint32(b, uint32(w.total))
	size := w.above
	if !size.any {
		size = w.first
	}
	for _, p := range [][3]float64{size.min, size.max} {
		for _, v := range p {
			b = binary.LittleEndian.AppendUint32(b, math.Float32bits(float32(v)))
		}
	}
	w.write(append(b, Tail...))
	return w.err
}
