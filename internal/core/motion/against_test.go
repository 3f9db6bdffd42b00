package motion_test

import (
	"math"
	"strings"
	"testing"
	"time"

	"diathermon/internal/core/gcode"
	"diathermon/internal/core/motion"
	"diathermon/internal/simprinter"
)

// program times a program by the package.
func program(text string, limits motion.Limits) (seconds float64) {
	p := motion.NewProgram(limits, func(_ int, set, _ motion.Time) { seconds += set.All })
	var l gcode.Line
	for line := range strings.Lines(text) {
		if err := l.Parse(gcode.Command([]byte(line))); err != nil {
			panic(err)
		}
		p.Take(&l, 0)
	}
	p.Flush()
	return seconds
}

// made times a program by a stand-in's clock, from its first move on.
func made(text string, motion simprinter.Motion) (seconds float64, settings string) {
	b := simprinter.NewBoard(simprinter.Config{PlannerSlots: 32, Motion: motion, Record: true})
	run := func(line string) string {
		b.Receive([]byte(line))
		b.Advance(b.Now())
		for said := ""; ; {
			if said += string(b.Output()); strings.Contains(said, "ok") {
				return said
			}
			b.Advance(max(b.Next(), b.Now()) + time.Microsecond)
		}
	}
	run("M111\n") // its greeting is over
	settings = run("M503\n")
	begun := b.Now()
	for line := range strings.Lines(text) {
		run(line)
	}
	run("M400\n")
	return (b.Now() - begun).Seconds(), settings
}

func TestTimesAreThoseOfAPlannerWrittenApart(t *testing.T) {
	for name, text := range programs() {
		want := reference(text)
		got := program(text, motion.Ordinary)
		if off := got/want - 1; math.Abs(off) > 0.01 {
			t.Errorf("%s: %.2f s, the other planner has %.2f s: %+.1f %%", name, got, want, 100*off)
		}
		t.Logf("%-32s %8.2f s %+.2f %%", name, got, 100*(got/want-1))
	}
}

func TestTimesAreThoseOfTheStandIn(t *testing.T) {
	jerky := simprinter.Motion{}
	round := simprinter.Motion{Speed: [4]float64{250, 200, 10, 40}, Acceleration: [4]float64{2000, 1500, 200, 3000}, Laying: 1200, Travelling: 1800, Retracting: 2500, Deviation: 0.03}
	for kind, m := range map[string]simprinter.Motion{"jerk": jerky, "deviation": round} {
		for name, text := range programs() {
			want, settings := made(text, m)
			limits := motion.Ordinary
			for line := range strings.Lines(settings) { // what the printer tells of itself
				var l gcode.Line
				if said, ok := strings.CutPrefix(line, "echo:"); ok && l.Parse(gcode.Command([]byte(said))) == nil {
					limits.Set(&l)
				}
			}
			limits.Told = true
			if got := program(text, limits); math.Abs(got/want-1) > 0.02 {
				t.Errorf("%s, %s: %.2f s, the stand-in took %.2f s: %+.1f %%", name, kind, got, want, 100*(got/want-1))
			} else {
				t.Logf("%-10s %-32s %8.2f s %+.2f %%", kind, name, got, 100*(got/want-1))
			}
		}
	}
}
