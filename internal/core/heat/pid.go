package heat

import (
	"fmt"
	"strconv"
	"strings"
)

// PID are the constants of a firmware's heater control, in its own units.
type PID struct{ P, I, D float64 }

// Tuning follows what a firmware says while it tunes a heater by itself (M303).
type Tuning struct {
	Cycles int    // asked for
	Cycle  int    // that have been made
	Result PID    // the last constants it told
	Found  bool   // Result holds something
	Failed string // why it gave up, in its words
}

// TuneCommand returns the G-code with which a firmware tunes a heater.
func TuneCommand(h Heater, setpoint float64, cycles int) string {
	index := -1 // the bed
	if tool, nozzle := h.Tool(); nozzle {
		index = tool
	} else if h == Chamber {
		index = -2
	}
	return fmt.Sprintf("M303 E%d S%s C%d", index, strconv.FormatFloat(setpoint, 'f', -1, 64), cycles)
}

// Commands returns the G-code that gives a heater these constants.
func (p PID) Command(h Heater) string {
	format := func(v float64) string { return strconv.FormatFloat(v, 'f', 2, 64) }
	command := "M304"
	if tool, nozzle := h.Tool(); nozzle {
		command = fmt.Sprintf("M301 E%d", tool)
	} else if h == Chamber {
		command = "M309"
	}
	return fmt.Sprintf("%s P%s I%s D%s", command, format(p.P), format(p.I), format(p.D))
}

// SaveCommand lets a firmware keep its settings over a restart.
const SaveCommand = "M500"

// Note takes a line that the firmware said, and reports whether it was about the
// tuning.
func (t *Tuning) Note(line string) bool {
	lower := strings.ToLower(line)
	switch {
	case strings.Contains(lower, "autotune") && (strings.Contains(lower, "fail") || strings.Contains(lower, "timeout") || strings.Contains(lower, "too high")):
		t.Failed = strings.TrimSpace(line)
	case strings.Contains(lower, "bias:") && strings.Contains(lower, "max:"):
		t.Cycle = min(t.Cycle+1, t.Cycles)
	case strings.Contains(lower, "kp") && strings.Contains(lower, "ki") && strings.Contains(lower, "kd"):
		p, okP := named(lower, "kp")
		i, okI := named(lower, "ki")
		d, okD := named(lower, "kd")
		if !okP || !okI || !okD {
			return false
		}
		t.Result, t.Found = PID{p, i, d}, true
	default:
		return strings.Contains(lower, "autotune") || strings.Contains(lower, "classic pid")
	}
	return true
}

// named finds the number behind a name and a colon, an equals sign or spaces.
func named(line, name string) (float64, bool) {
	_, rest, ok := strings.Cut(line, name)
	if !ok {
		return 0, false
	}
	v, n := number(strings.TrimLeft(rest, " :=\t"))
	return v, n > 0
}
