package stock

import (
	"errors"
	"fmt"
	"math"
	"slices"
	"strconv"
	"strings"

	"diathermon/internal/core/gcode"
)

// A Mapping says from which slot each of a file's tools is printed, by the tool's number.
// Tools beyond its end, and all of them where it is empty, are printed from the slot of
// their own number.
type Mapping []int

// ErrMapping means that tools cannot be printed so.
var ErrMapping = errors.New("the file's tools cannot be printed so")

// Of is the slot of a tool.
func (m Mapping) Of(tool int) int {
	if tool >= 0 && tool < len(m) {
		return m[tool]
	}
	return tool
}

// Same reports whether every tool is printed from the slot of its own number.
func (m Mapping) Same() bool {
	for tool, slot := range m {
		if tool != slot {
			return false
		}
	}
	return true
}

// Check says what is wrong with a mapping of a file that uses so many tools, on a printer
// with so many slots.
func (m Mapping) Check(tools, slots int) error {
	if len(m) > max(tools, 1) {
		return fmt.Errorf("%w: tool %d was given a slot, and the file has %d, from 0", ErrMapping, len(m)-1, max(tools, 1))
	}
	for tool, slot := range m {
		if slot < 0 || slot >= slots {
			return fmt.Errorf("%w: tool %d was given slot %d, and this printer has %d, from 0", ErrMapping, tool, slot, slots)
		}
	}
	return nil
}

// words are the commands whose T is a tool's number, by what they set.
var words = map[int]bool{104: true, 109: true, 200: true, 221: true}

// Line is what a command of the file becomes: T, and the T of what sets a tool's heat, flow
// or filament, name the slot. Everything else is as it was.
func (m Mapping) Line(command string) string {
	if m.Same() || len(command) < 2 {
		return command
	}
	switch letter := command[0] &^ 0x20; {
	case letter != 'T' && letter != 'M':
		return command
	case letter == 'M' && strings.IndexByte(strings.ToUpper(command), 'T') < 0:
		return command
	}
	var l gcode.Line
	if l.Parse([]byte(command)) != nil || l.Sub != 0 {
		return command
	}
	switch {
	case l.Letter == 'T' && l.Number >= 0 && l.Number < len(m):
		return "T" + strconv.Itoa(m[l.Number]) + afterNumber(command)
	case l.Letter == 'M' && words[l.Number]:
		if t, has := l.Value('T'); has && t >= 0 && t < float64(len(m)) && t == math.Trunc(t) {
			at := strings.LastIndexByte(strings.ToUpper(command), 'T')
			return command[:at] + "T" + strconv.Itoa(m[int(t)]) + afterNumber(command[at:])
		}
	}
	return command
}

// afterNumber is what follows a letter and its number.
func afterNumber(word string) string {
	end := 1
	for end < len(word) && (word[end] >= '0' && word[end] <= '9' || strings.IndexByte(" .+-\t", word[end]) >= 0) {
		end++
	}
	if rest := word[end:]; rest != "" {
		return " " + rest
	}
	return ""
}

// A Want is what one of a file's tools is for, by its comments.
type Want struct {
	Used     bool
	Material string // empty: not said
	Colour   string // #rrggbb; empty: not said
}

// Propose returns from which slots a file's tools would best be printed: of the same kind of
// plastic, then of the nearest colour, each from a slot of its own where there are enough.
// A tool that nothing is known of keeps its number. It is a proposal for a person to see.
func Propose(tools []Want, slots []Slot) Mapping {
	m := make(Mapping, len(tools))
	taken := map[int]bool{}
	for tool, w := range tools {
		m[tool] = tool
		if !w.Used || w.Material == "" && w.Colour == "" {
			continue
		}
		best := math.Inf(1)
		for _, s := range slots {
			if off := w.off(s); !math.IsInf(off, 1) {
				if taken[s.Number] {
					off += 1e6
				}
				if s.Number != tool {
					off++ // of equals the one of its number
				}
				if off < best {
					best, m[tool] = off, s.Number
				}
			}
		}
		taken[m[tool]] = true
	}
	for tool := range m {
		if m[tool] >= len(slots) {
			return slices.Clone(m[:tool])
		}
	}
	return m
}

// off is how far what is in a slot is from what is wanted; infinite: it does not go.
func (w Want) off(s Slot) float64 {
	want, have := Family(w.Material), Family(s.Material)
	switch {
	case !s.Loaded, want != "" && have != "" && want != have:
		return math.Inf(1)
	case want != "" && have == "":
		return 1e4
	}
	a, b := rgb(w.Colour), rgb(s.Colour)
	if a == nil || b == nil {
		return 0
	}
	sum := 0.0
	for i, weight := range []float64{2, 4, 3} { // roughly as eyes weigh red, green and blue
		d := a[i] - b[i]
		sum += weight * d * d
	}
	return math.Sqrt(sum)
}

func rgb(colour string) []float64 {
	if !Coloured(strings.ToLower(colour)) {
		return nil
	}
	out := make([]float64, 3)
	for i := range out {
		v, _ := strconv.ParseUint(colour[1+2*i:3+2*i], 16, 8)
		out[i] = float64(v)
	}
	return out
}
