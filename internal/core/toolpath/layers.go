package toolpath

import (
	"math"

	"diathermon/internal/core/gcode"
	"diathermon/internal/core/motion"
	"diathermon/internal/core/run"
)

// layerStep is the rise, in mm, that begins a layer.
const layerStep = 0.01

// sloping is how far a layer goes up, in mm, where plastic is laid as Z rises and no
// distance between layers is known.
const sloping = 0.2

// layers are a file's, as they are found. A layer is what is laid at one height: what
// is lifted between does not count, and a height below the highest belongs to the
// layer that is being drawn, unless it is the first one's again, from where another
// object is drawn. Where plastic is laid as Z rises, a layer is a rise by the distance
// between the layers before.
type layers struct {
	marks     []run.Mark
	begun     int         // layers that have begun
	order     int         // and those that turned out to be none
	highest   float64     // Z of the last of them, mm
	height    float64     // of the last of them, mm
	lowest    float64     // Z of the first, mm
	step      float64     // rise that begins one, mm
	spent     motion.Time // by all moves the planner is done with
	own       motion.Time // by the printer's own limits, whatever the file says of them
	elsewhere float64     // s spent in moves that lay nothing
	pending   []layer     // whose time is not known yet
}

// layer is one that has begun.
type layer struct {
	run.Mark
	order int // how many had begun before it
}

// lay takes a move that lays plastic; filament is what was pushed before it, mm.
func (s *layers) lay(m *gcode.Move, commands int, filament float64) {
	z := m.To[gcode.Z]
	if m.From[gcode.Z] != z {
		s.slope(max(z, m.From[gcode.Z]), commands, filament)
		return
	}
	switch {
	case s.begun == 1 && z < s.highest-layerStep: // what came before was a priming line above the first layer
		s.begun, s.marks, s.pending = 0, nil, nil
	case s.begun > 1 && z <= s.lowest+layerStep/2 && s.highest > s.lowest+layerStep: // another object
		s.begin(z, s.lowest, commands, filament)
		return
	}
	if s.begun == 0 || z > s.highest+s.step {
		s.begin(z, z-s.highest, commands, filament)
	}
}

// slope takes a move that lays plastic as it rises or falls.
func (s *layers) slope(z float64, commands int, filament float64) {
	step := sloping
	if s.height > layerStep {
		step = s.height
	}
	if step = max(step, s.step); s.begun == 0 || z >= s.highest+step-layerStep/10 {
		if next := s.highest + step; s.begun > 0 && z < next+step { // it passes its height within a move
			z = next
		}
		s.begin(z, step, commands, filament)
	}
}

// begin begins a layer at a height.
func (s *layers) begin(z, height float64, commands int, filament float64) {
	if s.begun == 0 {
		s.lowest, height = z, z
	}
	s.pending = append(s.pending, layer{run.Mark{Command: commands - 1, Z: z, Filament: filament}, s.order})
	s.begun, s.order, s.highest, s.height = s.begun+1, s.order+1, z, height
}

// time moves the layers that began before a move, when order of them had begun, to the
// marks: all moves before it are made.
func (s *layers) time(order int) {
	done := 0
	for ; done < len(s.pending) && s.pending[done].order < order; done++ {
		m := s.pending[done].Mark
		m.Seconds = s.spent.All
		s.marks = append(s.marks, m)
	}
	if done > 0 {
		s.pending = append(s.pending[:0], s.pending[done:]...)
	}
	if len(s.marks) > mostMarks {
		s.thin()
	}
}

// thin draws layers together until half of them are left: their rise is less than
// any slicer's, or there is no end to them.
func (s *layers) thin() {
	for len(s.marks) > mostMarks/2 {
		s.step *= 2
		kept := s.marks[:1]
		for _, m := range s.marks[1:] {
			if math.Abs(m.Z-kept[len(kept)-1].Z) > s.step {
				kept = append(kept, m)
			}
		}
		if len(kept) == len(s.marks) { // heights that come again and again
			kept = s.marks[:0]
			for i := 0; i < len(s.marks); i += 2 {
				kept = append(kept, s.marks[i])
			}
		}
		s.marks = kept
	}
}

// commonest is the distance between layers that occurs most, to a hundredth of
// a millimetre.
func commonest(marks []run.Mark) float64 {
	counts := map[int]int{}
	best := 0
	for i := 1; i < len(marks); i++ {
		step := int(math.Round((marks[i].Z - marks[i-1].Z) * 100))
		if step <= 0 {
			continue
		}
		counts[step]++
		if counts[step] > counts[best] || counts[step] == counts[best] && step < best {
			best = step
		}
	}
	return float64(best) / 100
}
