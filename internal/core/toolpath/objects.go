package toolpath

import (
	"diathermon/internal/core/gcode"
)

// An Object is one of several that a file prints, as its lines tell them apart.
type Object struct {
	Key      string  // as its lines have it
	Name     string  // empty: they give none
	Extent   Box     // of what is laid
	Filament float64 // mm that lay it
	Fixed    string  // why its lines cannot be left out, in words; empty: they can
}

// mostObjects is how many are told apart.
const mostObjects = 256

// mark looks whether a command says whose lines follow.
func (s *scanner) mark(command []byte) {
	if c := command[0] | 0x20; c != 'm' && c != 'e' {
		return
	}
	text := string(command)
	if key, says := gcode.ObjectOf(text); says {
		s.object = s.objectOf(key)
	}
	if name := gcode.ObjectName(text); name != "" && s.object >= 0 {
		s.Objects[s.object].Name = name[:min(len(name), longestHint)]
	}
}

func (s *scanner) objectOf(key string) int {
	if key == "" {
		return -1
	}
	for i := range s.Objects {
		if s.Objects[i].Key == key {
			return i
		}
	}
	if len(s.Objects) >= mostObjects {
		return -1
	}
	s.Objects = append(s.Objects, Object{Key: key, Extent: Box{Empty: true}})
	return len(s.Objects) - 1
}

// fixed notes what an object's lines do besides drawing it, so that they cannot be left out.
func (s *scanner) fixed(l *gcode.Line) {
	if s.object < 0 || s.Objects[s.object].Fixed != "" {
		return
	}
	o := &s.Objects[s.object]
	switch {
	case l.Letter == 'T':
		o.Fixed = "its lines change the tool"
	case l.Is('G', 28):
		o.Fixed = "its lines home the axes"
	case l.Is('G', 92) && (l.Has('X') || l.Has('Y') || l.Has('Z') || !l.Has('E')):
		o.Fixed = "its lines set where the head is"
	case l.Is('G', 91):
		o.Fixed = "its lines are relative"
	case l.Letter == 'G' && l.Number <= 3 && s.program.Relative:
		o.Fixed = "its lines are relative"
	}
}
