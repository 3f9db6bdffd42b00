// Package heat knows the printer's heaters: their names, the readings in a
// firmware's reports, the bounds of a setpoint and the state a heater is in.
//
// Temperatures are °C, duty is a share from 0 to 1. It leaves to others when a
// reading was made and where readings are kept.
package heat

import (
	"fmt"
	"math"
	"strconv"
	"strings"
	"time"
)

// Heater names one heater: nozzle0, nozzle1, …, bed or chamber.
type Heater string

// The heaters every firmware knows.
const (
	Nozzle  Heater = "nozzle0"
	Bed     Heater = "bed"
	Chamber Heater = "chamber"
)

// NozzleOf returns the nozzle of a tool.
func NozzleOf(tool int) Heater { return Heater("nozzle" + strconv.Itoa(tool)) }

// Tool returns the tool whose nozzle h is, or false for another heater.
func (h Heater) Tool() (int, bool) {
	digits, ok := strings.CutPrefix(string(h), "nozzle")
	if !ok {
		return 0, false
	}
	n, err := strconv.Atoi(digits)
	return n, err == nil && n >= 0 && n < 16 && strconv.Itoa(n) == digits
}

// ParseHeater reads a heater's name; "nozzle" alone is nozzle0.
func ParseHeater(s string) (Heater, error) {
	h := Heater(strings.ToLower(strings.TrimSpace(s)))
	if h == "nozzle" {
		return Nozzle, nil
	}
	if _, ok := h.Tool(); ok || h == Bed || h == Chamber {
		return h, nil
	}
	return "", fmt.Errorf("there is no heater %q: use nozzle0, bed or chamber", s)
}

// SameSetpoint reports whether a firmware that was given one setpoint tells the other:
// some keep whole degrees.
func SameSetpoint(a, b float64) bool { return math.Abs(a-b) < 1 && (a > 0) == (b > 0) }

// SetCommand returns the G-code that gives h a setpoint, in whole tenths of a
// degree, without waiting for it.
func SetCommand(h Heater, setpoint float64) string {
	s := strconv.FormatFloat(setpoint, 'f', -1, 64)
	switch h {
	case Bed:
		return "M140 S" + s
	case Chamber:
		return "M141 S" + s
	}
	if tool, ok := h.Tool(); ok && tool > 0 {
		return fmt.Sprintf("M104 T%d S%s", tool, s)
	}
	return "M104 S" + s
}

// MostNozzle is the highest limit of a nozzle that any printer is built for, and MostPlate
// that of a bed or a chamber, °C.
const (
	MostNozzle = 550
	MostPlate  = 250
)

// Limits bound the setpoints of a printer: the highest for each kind of heater.
type Limits struct {
	Nozzle, Bed, Chamber float64
}

// Of returns the highest setpoint for h.
func (l Limits) Of(h Heater) float64 {
	switch h {
	case Bed:
		return l.Bed
	case Chamber:
		return l.Chamber
	}
	return l.Nozzle
}

// Check says why setpoint may not be given to h, or nil if it may. Zero, which
// switches the heater off, always may.
func (l Limits) Check(h Heater, setpoint float64) error {
	limit := l.Of(h)
	switch {
	case math.IsNaN(setpoint) || math.IsInf(setpoint, 0):
		return fmt.Errorf("a setpoint is a number of °C from 0 to %g for the %s", limit, h)
	case setpoint == 0:
		return nil
	case limit == 0:
		return fmt.Errorf("this printer has no heated %s", h)
	case setpoint < 0:
		return fmt.Errorf("%g °C is below zero: a setpoint for the %s is 0 to %g °C", setpoint, h, limit)
	case setpoint > limit:
		return fmt.Errorf("%g °C is above this printer's limit of %g °C for the %s", setpoint, limit, h)
	}
	return nil
}

// A Reading is what a report says of one heater.
type Reading struct {
	Heater      Heater
	Actual      float64 // °C
	Setpoint    float64 // °C; 0 is off
	HasSetpoint bool
	Duty        float64 // 0 to 1; as ParseReport finds it up to 2, where the firmware counts further than most
	HasDuty     bool
}

// A Sample is a reading and when it was made.
type Sample struct {
	At time.Time
	Reading
}

// fullDuty is the number that most firmwares report, after '@', for full power;
// others report up to 255, which is mostDuty.
const (
	fullDuty = 127
	mostDuty = 255.0 / fullDuty
)

// A DutyScale brings the duties of one heater to 0 to 1: a firmware that has once
// told more than 127 counts up to 255.
type DutyScale struct {
	Fine bool
}

// Note brings a reading's duty to scale.
func (s *DutyScale) Note(r *Reading) {
	if r.Duty > 1 {
		s.Fine = true
	}
	if s.Fine {
		r.Duty /= mostDuty
	}
}

// ParseReport finds the readings in a line a printer said: an answer to M105
// after its "ok", an automatic report, or a line of a wait. It understands
// spaces or none around the slash, setpoints left out, several tools, a chamber,
// and duties at the end; it returns nil for a line that reports nothing.
func ParseReport(line string) []Reading {
	line = strings.TrimSpace(line)
	if rest, ok := strings.CutPrefix(line, "ok"); ok {
		line = strings.TrimSpace(rest)
	}
	if !strings.Contains(line, "T:") && !strings.Contains(line, "B:") && !strings.Contains(line, "C:") && !strings.Contains(line, "T0:") {
		return nil
	}
	var readings []Reading
	find := func(h Heater) *Reading {
		for i := range readings {
			if readings[i].Heater == h {
				return &readings[i]
			}
		}
		return nil
	}
	rest := line
	var last *Reading
	for rest != "" {
		rest = strings.TrimLeft(rest, " \t")
		if after, ok := strings.CutPrefix(rest, "/"); ok { // the setpoint of the reading before it
			v, n := number(after)
			if n == 0 {
				return finish(readings)
			}
			if last != nil {
				last.Setpoint, last.HasSetpoint = v, true
			}
			rest = after[n:]
			continue
		}
		end := strings.IndexAny(rest, " \t:")
		if end < 0 || rest[end] != ':' {
			if end < 0 {
				break
			}
			rest, last = rest[end:], nil
			continue
		}
		key := rest[:end]
		v, n := number(rest[end+1:])
		rest = rest[end+1+n:]
		last = nil
		if n == 0 {
			continue
		}
		if name, duty := strings.CutSuffix(key, "@"); duty || strings.HasPrefix(key, "@") {
			h := heaterOf(name, key)
			if r := find(h); r != nil {
				r.Duty, r.HasDuty = min(max(v/fullDuty, 0), mostDuty), true
			}
			continue
		}
		h := Heater("")
		switch {
		case key == "B":
			h = Bed
		case key == "C":
			h = Chamber
		case key == "T":
			h = Nozzle
		case len(key) == 2 && key[0] == 'T' && key[1] >= '0' && key[1] <= '9':
			h = NozzleOf(int(key[1] - '0'))
		default:
			continue
		}
		if last = find(h); last != nil {
			last.Actual = v
			continue
		}
		readings = append(readings, Reading{Heater: h, Actual: v})
		last = &readings[len(readings)-1]
	}
	return finish(readings)
}

// heaterOf tells whose duty a key such as "@", "B@", "C@" or "@1" gives.
func heaterOf(name, key string) Heater {
	switch {
	case name == "B":
		return Bed
	case name == "C":
		return Chamber
	case len(key) == 2 && key[1] >= '0' && key[1] <= '9':
		return NozzleOf(int(key[1] - '0'))
	}
	return Nozzle
}

// finish drops readings that cannot be: not a number, or of absurd size.
func finish(readings []Reading) []Reading {
	kept := readings[:0]
	for _, r := range readings {
		if plausible(r.Actual) && plausible(r.Setpoint) {
			kept = append(kept, r)
		}
	}
	if len(kept) == 0 {
		return nil
	}
	return kept
}

func plausible(v float64) bool { return v > -300 && v < 2000 }

// number reads the decimal number at the start of s after spaces and says how
// many bytes it took; 0 if there is none.
func number(s string) (float64, int) {
	start := len(s) - len(strings.TrimLeft(s, " "))
	end := start
	for end < len(s) && (s[end] >= '0' && s[end] <= '9' || s[end] == '.' || end == start && (s[end] == '-' || s[end] == '+')) {
		end++
	}
	v, err := strconv.ParseFloat(s[start:end], 64)
	if err != nil {
		return 0, 0
	}
	return v, end
}

// State is what a heater is doing.
type State string

// The states of a heater.
const (
	Off      State = "off"      // no setpoint, near the room's temperature
	Heating  State = "heating"  // well below its setpoint
	Settling State = "settling" // near its setpoint, not long enough
	Steady   State = "steady"   // at its setpoint for SteadyAfter
	Soaked   State = "soaked"   // steady until its heat has spread
	Cooling  State = "cooling"  // above its setpoint, or switched off and still warm
	Alarmed  State = "alarm"    // a guard's alarm waits for a person
)

const (
	nearBand  = 4.0  // °C from the setpoint within which a heater settles
	holdBand  = 2.0  // °C from the setpoint within which it counts as there
	touchSafe = 40.0 // °C under which a heater that is off is not called cooling

	// SteadyAfter is how long a heater must hold its setpoint to be steady.
	SteadyAfter = 15 * time.Second
)

// A Watch follows one heater from reading to reading.
type Watch struct {
	Last  Reading
	At    time.Duration // when Last was made, since any fixed instant
	State State
	since time.Duration // in the band around the setpoint since then
	held  bool
}

// Note takes a reading made at that time and returns the state it leads to.
func (w *Watch) Note(r Reading, at time.Duration) State {
	if !r.HasSetpoint {
		r.Setpoint = w.Last.Setpoint
	}
	if r.Setpoint != w.Last.Setpoint {
		w.held = false
	}
	w.Last, w.At = r, at
	off := r.Actual - r.Setpoint
	in := r.Setpoint > 0 && math.Abs(off) <= holdBand
	if in && !w.held {
		w.since = at
	}
	w.held = in || w.held && math.Abs(off) <= nearBand
	switch {
	case r.Setpoint <= 0 && r.Actual > touchSafe:
		w.State = Cooling
	case r.Setpoint <= 0:
		w.State = Off
	case off < -nearBand:
		w.State = Heating
	case off > nearBand:
		w.State = Cooling
	case w.held && at-w.since >= SteadyAfter:
		w.State = Steady
	default:
		w.State = Settling
	}
	return w.State
}
