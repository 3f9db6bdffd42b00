package routine

import (
	"fmt"
	"maps"
	"slices"
	"strings"

	"diathermon/internal/core/gcode"
)

// Sentences say what a routine may do, and what it leaves behind when it is stopped.
func (f Facts) Sentences(safe Safe) []string {
	var out []string
	add := func(format string, args ...any) { out = append(out, "It "+fmt.Sprintf(format, args...)+".") }
	for _, h := range slices.Sorted(maps.Keys(f.Heats)) {
		add("may heat %s to at most %s °C", h, decimal(f.Heats[h]))
	}
	if f.Homes {
		add("homes")
	}
	for axis := range 3 {
		letter := gcode.Letters[axis]
		if to := f.To[axis]; to != nil {
			add("may go to %c %s mm", letter, to)
		}
		if by := f.By[axis]; by != nil {
			add("may move %c by %s mm", letter, by)
		}
	}
	if f.Pushes > 0 {
		add("may push %.0f mm of filament", f.Pushes)
	}
	if f.Draws > 0 {
		add("may draw %.0f mm of filament back", f.Draws)
	}
	if len(f.Outputs) > 0 {
		add("may set %s", strings.Join(f.Outputs, ", "))
	}
	if f.Tunes {
		add("lets the firmware tune a heater")
	}
	if f.Stores {
		add("writes settings that outlast a restart")
	}
	if f.SaysBed {
		add("says how the bed is")
	}
	if f.MotorsOff {
		add("may turn the motors off")
	}
	if f.Longest > 0 {
		add("waits and asks for at most %.0f min, all together", max(f.Longest.Minutes(), 1))
	}
	add("leaves this when it is stopped: %s", safe)
	return out
}
