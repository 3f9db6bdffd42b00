package toolpath

import (
	"math"

	"diathermon/internal/core/gcode"
)

// onBed finds where a file's first layer ends: at the beginning of the first layer of which
// more than half lies on what was laid below. Heights alone do not tell it from a priming
// line at another height beside the part.
type onBed struct {
	lowest  map[[2]int32]float64 // mm, by cell: at which plastic was laid there first
	order   int                  // of the layer that is being drawn
	command int                  // before it
	on, all int                  // samples of it that lie on something, and all
	second  int                  // commands before the layer that lies on the first; 0: none has been found
	over    bool                 // no more is looked at
}

const (
	cell      = 2.0     // mm of the bed that are looked at as one
	mostCells = 1 << 17 // half a square metre; a larger first layer is given up
)

// lay takes a move that lays plastic in the layer that is the order'th to have begun, behind
// so many commands.
func (b *onBed) lay(m *gcode.Move, order, command int) {
	if b.over {
		return
	}
	if order != b.order || b.lowest == nil {
		b.judge()
		b.order, b.command, b.on, b.all = order, command, 0, 0
		if b.lowest == nil {
			b.lowest = map[[2]int32]float64{}
		}
	}
	dx, dy, z := m.To[0]-m.From[0], m.To[1]-m.From[1], m.To[2]
	steps := int(math.Min(math.Hypot(dx, dy)/(cell/2), 4096)) + 1
	for i := range steps {
		share := (float64(i) + 0.5) / float64(steps)
		at := [2]int32{int32(math.Floor((m.From[0] + share*dx) / cell)), int32(math.Floor((m.From[1] + share*dy) / cell))}
		b.all++
		if low, there := b.lowest[at]; !there || z < low {
			b.lowest[at] = z
		} else if z > low+layerStep/2 {
			b.on++
		}
	}
	b.over = b.over || len(b.lowest) > mostCells
}

// judge looks at the layer that is over.
func (b *onBed) judge() {
	if b.second == 0 && 2*b.on > b.all {
		b.second, b.over, b.lowest = b.command, true, nil
	}
}
