package layers

import (
	"encoding/binary"
	"fmt"
	"io"

	"diathermon/internal/core/gcode"
	"diathermon/internal/core/toolpath"
)

// Each reads one layer and tells each of its strokes; the stroke is valid during the
// call. Number is the layer's, for Stroke.Layer.
func Each(r io.ReaderAt, l Layer, number int, stroke func(*toolpath.Stroke)) error {
	b := make([]byte, l.Size)
	if _, err := r.ReadAt(b, l.Offset); err != nil {
		return err
	}
	k := toolpath.Stroke{Layer: number, Height: l.Height, Command: l.Command}
	var at [4]int64
	ok := true
	pass := func(n int) {
		if n <= 0 {
			ok, n = false, len(b)
		}
		b = b[n:]
	}
	varint := func() int64 {
		v, n := binary.Varint(b)
		pass(n)
		return v
	}
	uvarint := func() uint64 {
		v, n := binary.Uvarint(b)
		pass(n)
		return v
	}
	for ok && len(b) > 0 {
		kind, ahead := b[0]&7, int(b[0]>>3)
		b = b[1:]
		switch kind {
		case travels, lays, moves:
			if ahead == moreCommands {
				ahead += int(uvarint() & (1<<31 - 1))
			}
			k.Command += ahead
			k.From = place(at)
			at[0] += varint()
			at[1] += varint()
			if kind == moves {
				at[2] += varint()
			}
			if kind != travels {
				at[3] += varint()
			}
			if k.To = place(at); ok {
				stroke(&k)
			}
		case sets:
			k.Feed = float64(uvarint()) / perSpeed
		case heats:
			k.Nozzle = float64(uvarint())
		case blows, turns:
			if len(b) == 0 {
				ok = false
				break
			}
			if kind == blows {
				k.Fan = float64(b[0]) / 100
			} else {
				k.Tool = int(b[0])
			}
			b = b[1:]
		case begins:
			for i := range at {
				at[i] = varint()
			}
		}
	}
	if !ok {
		return fmt.Errorf("%w: layer %d is damaged", ErrForm, number+1)
	}
	return nil
}

func place(at [4]int64) (p gcode.Position) {
	for i := range 3 {
		p[i] = float64(at[i]) / perMM
	}
	p[gcode.E] = float64(at[gcode.E]) / perMMofE
	return p
}
