// Package trim changes a file's lines for one run, as a person wants it without slicing
// again: hotter, slower, with more flow, the nozzle a little higher.
//
// It promises that every command of the file stays one command, so that counts, marks and
// journals mean the same with and without; that the same changes made at the same
// commands give the same lines again, after any restart; and that whatever was not asked
// for is as the file has it: a stroke's place, travels, retractions. It leaves the bounds
// of setpoints to heat, and to the host when a change is made.
package trim

import (
	"errors"
	"fmt"
	"maps"
	"math"
	"slices"
	"strings"

	"diathermon/internal/core/gcode"
	"diathermon/internal/core/heat"
)

// A Trim is how a run differs from its file. The zero Trim changes nothing.
type Trim struct {
	Heaters map[heat.Heater]float64 `json:",omitempty"` // K that are added to setpoints above 0
	First   map[heat.Heater]float64 `json:",omitempty"` // K that are added besides until the second layer begins
	Numbers
	Skip []string `json:",omitempty"` // objects whose lines are left out, by their keys
}

// lowest is what the nozzle stays above the bed while it lays plastic, mm.
const lowest = 0.02

// ErrValue means that a run cannot differ so from its file.
var ErrValue = errors.New("a run cannot differ so from its file")

// None reports whether the trim changes nothing.
func (t Trim) None() bool {
	return !some(t.Heaters) && !some(t.First) && t.none() && len(t.Skip) == 0
}

func some(m map[heat.Heater]float64) bool {
	for _, v := range m {
		if v != 0 {
			return true
		}
	}
	return false
}

// Equal reports whether two trims change the same.
func (t Trim) Equal(o Trim) bool {
	same := func(a, b map[heat.Heater]float64) bool {
		return maps.Equal(a, b) || !some(a) && !some(b)
	}
	return same(t.Heaters, o.Heaters) && same(t.First, o.First) && t.equal(o.Numbers) && slices.Equal(t.Skip, o.Skip)
}

// Factor is by how much faster what lays plastic is drawn.
func (t Trim) Factor() float64 { return t.speed() }

// Moves is what of the trim bears on how long moves take.
func (t Trim) Moves() Trim {
	return Trim{Numbers: Numbers{Speed: t.Speed, Acceleration: t.Acceleration}, Skip: t.Skip}
}

func (t Trim) speed() float64 { return share(t.Speed) }

func (t Trim) flow() float64 { return share(t.Flow) }

// share is a percentage as a factor; 0 is 1.
func share(percent float64) float64 {
	if percent == 0 {
		return 1
	}
	return percent / 100
}

func (t Trim) fanMost() float64 {
	if t.FanMost == 0 {
		return 100
	}
	return t.FanMost
}

// Setpoint is what becomes of a setpoint of the file, °C.
func (t Trim) Setpoint(h heat.Heater, file float64, first bool) float64 {
	if file <= 0 {
		return file
	}
	return max(file+t.more(h, first), 0)
}

// more is what is added to a setpoint, K.
func (t Trim) more(h heat.Heater, first bool) float64 {
	if first {
		return t.Heaters[h] + t.First[h]
	}
	return t.Heaters[h]
}

// fan is what becomes of a level of the part fan, 0 to 255, that is on.
func (t Trim) fan(level float64) float64 {
	return math.Round(min(max(min(level, 255), t.FanLeast*2.55), t.fanMost()*2.55))
}

// A File is what must be known of a file to trim it.
type File struct {
	Setpoints map[heat.Heater]float64 // the highest, °C
	Second    int                     // commands before the second layer begins; 0: there is none
	Lowest    float64                 // mm: the lowest height at which plastic is laid
	Highest   float64                 // mm: the highest that the nozzle goes
	Room      float64                 // mm that the machine has; 0: not known
	Has       Accel                   // what the printer has before the first line
	Tool      int                     // that is in use before the first line
	Objects   []Object                // that its lines tell apart
}

// An Object is one of several that a file prints.
type Object struct {
	Key, Name string
	Fixed     string // why its lines cannot be left out, in words; empty: they can
}

// Called is its name, or its key where it has none.
func (o Object) Called() string {
	if o.Name != "" {
		return o.Name
	}
	return "object " + o.Key
}

// An Accel is with what moves are accelerated that extrude, and those that do not, mm/s²;
// 0: not known.
type Accel struct{ Print, Travel float64 }

// within is an Accel that is nowhere above most; 0: as it is.
func (a Accel) within(most float64) Accel {
	if most > 0 {
		a.Print, a.Travel = min(a.Print, most), min(a.Travel, most)
	}
	return a
}

// set takes what a line sets (M204).
func (a *Accel) set(l *gcode.Line) {
	for letter, to := range map[byte][]*float64{'S': {&a.Print, &a.Travel}, 'P': {&a.Print}, 'T': {&a.Travel}} {
		if v, ok := l.Value(letter); ok && v > 0 {
			for _, t := range to {
				*t = v
			}
		}
	}
}

// line is what gives it to a printer; empty where it is not known.
func (a Accel) line() string {
	if a.Print <= 0 || a.Travel <= 0 {
		return ""
	}
	return fmt.Sprintf("M204 P%.0f T%.0f", a.Print, a.Travel)
}

// Keyed is the trim with objects by their keys where they were named.
func (t Trim) Keyed(f File) Trim {
	t.Skip = slices.Clone(t.Skip)
	for i, said := range t.Skip {
		if slices.ContainsFunc(f.Objects, func(o Object) bool { return o.Key == said }) {
			continue
		}
		if at := slices.IndexFunc(f.Objects, func(o Object) bool { return o.Name != "" && o.Name == said }); at >= 0 {
			t.Skip[i] = f.Objects[at].Key
		}
	}
	slices.Sort(t.Skip)
	return t
}

// Check says what is wrong with a trim of a file, on a machine with those limits.
func (t Trim) Check(f File, limits heat.Limits) error {
	wrong := func(format string, args ...any) error {
		return fmt.Errorf("%w: %w", ErrValue, fmt.Errorf(format, args...))
	}
	for _, f := range Fields {
		if err := f.Check(*f.Of(&t.Numbers)); err != nil {
			return wrong("%w", err)
		}
	}
	for i, key := range t.Skip {
		at := slices.IndexFunc(f.Objects, func(o Object) bool { return o.Key == key })
		switch {
		case at < 0:
			return wrong("the file tells no object %q apart", key)
		case f.Objects[at].Fixed != "":
			return wrong("%s cannot be skipped: %s", f.Objects[at].Called(), f.Objects[at].Fixed)
		case slices.Contains(t.Skip[:i], key):
			return wrong("%s is skipped twice", f.Objects[at].Called())
		}
	}
	if len(t.Skip) > 0 && len(t.Skip) == len(f.Objects) {
		return wrong("nothing would be left; stop the run instead")
	}
	if t.FanLeast > t.fanMost() {
		return wrong("the fan cannot be %g %% at least and %g %% at most", t.FanLeast, t.fanMost())
	}
	if f.Lowest > 0 && t.Height < 0 && f.Lowest+t.Height < lowest {
		return wrong("%g mm lower the nozzle would lay its first layer, which the file has at %g mm, in the bed", -t.Height, f.Lowest)
	}
	if f.Room > 0 && t.Height > 0 && f.Highest+t.Height > f.Room {
		return wrong("%g mm higher the nozzle would go to %g mm, and this printer has %g mm", t.Height, f.Highest+t.Height, f.Room)
	}
	for _, of := range []map[heat.Heater]float64{t.Heaters, t.First} {
		for _, h := range slices.Sorted(maps.Keys(of)) {
			if err := Heat.Check(of[h]); err != nil {
				return wrong("%w", err)
			}
			if of[h] != 0 && f.Setpoints[h] <= 0 {
				return wrong("the file gives %q no setpoint", h)
			}
		}
	}
	for h, file := range f.Setpoints {
		for _, first := range []bool{false, true} {
			if err := limits.Check(h, t.Setpoint(h, file, first)); t.Setpoint(h, file, first) != file && err != nil {
				return wrong("%v", err)
			}
		}
	}
	return nil
}

// A Change is a trim that holds from some command of the file on.
type Change struct {
	From int // commands before it
	Trim Trim
	Lead gcode.State `json:",omitzero"` // where these lead, of the first change alone: lines before it are as the file has them
	Has  Accel       `json:",omitzero"` // with what the file, or the printer before it, accelerates
}

// A Schedule is the trims of a run in the order of the commands from which on they hold.
type Schedule []Change

// And is the schedule with a change that is made now. Those that were to be made behind it, at
// commands that the printer had not taken after all when its host was cut off, are none any more.
func (s Schedule) And(c Change) Schedule { return append(s.upTo(c.From), c) }

// upTo are the changes up to a command.
func (s Schedule) upTo(from int) Schedule {
	n := len(s)
	for n > 0 && s[n-1].From > from {
		n--
	}
	return s[:n:n]
}

// Last is the trim that was made last.
func (s Schedule) Last() Trim {
	if len(s) == 0 {
		return Trim{}
	}
	return s[len(s)-1].Trim
}

// Words say how the trim differs from the file that it is of; empty: it does not.
func (t Trim) Words(f File) string { return strings.Join(t.against(Trim{}, f), ", ") }

// Against says in words what is different from another trim of a file.
func (t Trim) Against(o Trim, f File) string {
	if parts := t.against(o, f); len(parts) > 0 {
		return strings.Join(parts, ", ")
	}
	return "nothing different"
}

func (t Trim) against(o Trim, f File) []string {
	var parts []string
	add := func(format string, args ...any) { parts = append(parts, fmt.Sprintf(format, args...)) }
	for _, of := range []struct {
		is, was map[heat.Heater]float64
		when    string
	}{{t.Heaters, o.Heaters, ""}, {t.First, o.First, " for the first layer"}} {
		all := maps.Clone(of.is)
		if all == nil {
			all = map[heat.Heater]float64{}
		}
		maps.Copy(all, of.was)
		for _, h := range slices.Sorted(maps.Keys(all)) {
			if of.is[h] != of.was[h] {
				add("%s %+g K (the file has %g °C)%s", f.heater(h), of.is[h], f.Setpoints[h], of.when)
			}
		}
	}
	if t.speed() != o.speed() {
		add("speed %g %%", t.speed()*100)
	}
	if t.flow() != o.flow() {
		add("flow %g %%", t.flow()*100)
	}
	if t.FanLeast != o.FanLeast || t.fanMost() != o.fanMost() {
		add("fan %g to %g %%", t.FanLeast, t.fanMost())
	}
	if t.Height != o.Height {
		add("nozzle %+g mm", t.Height)
	}
	if t.Acceleration != o.Acceleration {
		if add("acceleration at most %g mm/s²", t.Acceleration); t.Acceleration == 0 {
			parts[len(parts)-1] = "accelerations as in the file"
		}
	}
	for _, key := range t.Skip {
		if !slices.Contains(o.Skip, key) {
			add("skips %s", f.called(key))
		}
	}
	for _, key := range o.Skip {
		if !slices.Contains(t.Skip, key) {
			add("prints %s again", f.called(key))
		}
	}
	return parts
}

// heater is what a heater of the file is called: its nozzle, where there is but one.
func (f File) heater(h heat.Heater) string {
	tool, nozzle := h.Tool()
	if _, second := f.Setpoints[heat.NozzleOf(1)]; nozzle && tool == 0 && !second {
		return "nozzle"
	}
	return string(h)
}

// called is what an object is called that has a key.
func (f File) called(key string) string {
	if at := slices.IndexFunc(f.Objects, func(o Object) bool { return o.Key == key }); at >= 0 {
		return f.Objects[at].Called()
	}
	return key
}
