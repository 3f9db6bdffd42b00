package toolpath

import (
	"math"
)

// featureOf is the feature that a move at a speed in this layer belongs to.
func (s *scanner) featureOf(speed float64) *Feature {
	if f := s.feature; f < len(s.Features) && speed == s.drawn.speed && s.height == s.drawn.height {
		return &s.Features[f]
	}
	s.drawn.speed, s.drawn.height = speed, s.height
	speed = max(math.Round(speed), 1)
	height := math.Round(100*s.height) / 100
	nearest, least := 0, math.Inf(1)
	for i := range s.Features {
		f := &s.Features[i]
		away := 100*math.Abs(f.Height-height) + math.Abs(f.Speed-speed)
		if away < least {
			nearest, least = i, away
		}
	}
	if least > 0 && len(s.Features) < mostFeatures {
		nearest = len(s.Features)
		s.Features = append(s.Features, Feature{Height: height, Speed: speed})
	}
	s.feature = nearest
	return &s.Features[nearest]
}

// push counts filament.
func (s *scanner) push(mm float64) {
	if mm == 0 {
		return
	}
	s.Filament += mm
	add(&s.ByTool, s.tool(), mm)
}

// mostTool is the highest tool that is told apart.
const mostTool = 15

// tool is the tool in use.
func (s *scanner) tool() int { return min(max(s.program.Tool, 0), mostTool) }

// add adds to what a tool has in a list.
func add(list *[]float64, tool int, v float64) {
	for len(*list) <= tool {
		*list = append(*list, 0)
	}
	(*list)[tool] += v
}
