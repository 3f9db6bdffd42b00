package toolpath_test

import (
	"math"
	"math/rand/v2"
	"regexp"
	"slices"
	"strings"
	"testing"
	"time"

	"diathermon/internal/core/gcode"
	"diathermon/internal/core/motion"
	"diathermon/internal/core/run"
	"diathermon/internal/core/toolpath"
	"diathermon/internal/samples"
)

// limiting is a part whose file sets limits, and the same with lines in their place that say
// nothing.
func limiting(t *testing.T, random *rand.Rand) (sets, passes string) {
	t.Helper()
	part := samples.Parts()[random.IntN(len(samples.Parts()))]
	part.Layers = part.Layers/16 + random.IntN(part.Layers/16)
	part.Speed = float64(40 + 10*random.IntN(9))
	var text strings.Builder
	if err := (samples.Limiting{Part: part}).Write(&text); err != nil {
		t.Fatal(err)
	}
	return text.String(), setsLimits.ReplaceAllString(text.String(), "M117 -")
}

var setsLimits = regexp.MustCompile(`(?m)^M20[145] .*$`)

// drawnLimits are some machine's.
func drawnLimits(random *rand.Rand) motion.Limits {
	l := motion.Ordinary
	a, j := 400*math.Exp(2.5*random.Float64()), 4+12*random.Float64()
	l.Acceleration[gcode.X], l.Acceleration[gcode.Y] = 2*a, 2*a
	l.Print, l.Travel, l.Retract = a, a*(1+random.Float64()), a
	if l.Deviation, l.Jerk = 0.008*math.Exp(2*random.Float64()), (gcode.Position{j, j, 0.4, 5}); random.IntN(2) == 0 {
		l.Deviation = 0
	}
	l.Told = true
	return l
}

func scanned(t *testing.T, text string, l motion.Limits) run.Course {
	t.Helper()
	s, err := toolpath.Scan(strings.NewReader(text), toolpath.Options{Limits: l, Of: toolpath.PrintersLimits})
	if err != nil {
		t.Fatal(err)
	}
	return s.Course
}

// What two files have shown of a printer tells how long a third one takes, whether the
// printer has told its limits or not, and whether it sets them as files say or passes that
// over: against what a planner makes of the file without the lines that set them.
func TestAPrinterThatPassesLimitsOverIsFoundOut(t *testing.T) {
	for name, c := range map[string]struct {
		told, passes bool
		half, worst  float64 // %
	}{
		"told, does as it is told":     {true, false, 0.01, 0.1},
		"told, passes it over":         {true, true, 0.1, 8},
		"not told, does as it is told": {false, false, 1.5, 5},
		"not told, passes it over":     {false, true, 2.5, 10},
	} {
		var off []float64
		for seed := range uint64(8) {
			random := rand.New(rand.NewPCG(seed, 9))
			its := drawnLimits(random)
			assumed := its
			if !c.told {
				assumed = motion.Ordinary
			}
			var shown run.Shown
			for range 2 {
				computed, really := both(t, random, assumed, its, c.passes)
				before, took := time.Duration(0), float32(0)
				for i, s := range computed.Seconds {
					at := inSeconds(s)
					set, own := computed.Between(computed, before, at)
					shown.Note(run.Shown{}, inSeconds(really.Seconds[i]-took), set, own)
					before, took = at, really.Seconds[i]
				}
			}
			computed, really := both(t, random, assumed, its, c.passes)
			_, says := computed.As(shown.Making(), 0)
			off = append(off, 100*math.Abs(says.Seconds()/float64(really.All)-1))
		}
		slices.Sort(off)
		half, worst := off[len(off)/2], off[len(off)-1]
		t.Logf("%s: half of them within %.2f %%, all within %.2f %%", name, half, worst)
		if half > c.half || worst > c.worst {
			t.Errorf("%s: want half of them within %g %%, all within %g %%", name, c.half, c.worst)
		}
	}
}

// both are a file's course as it is computed and as the printer really makes it.
func both(t *testing.T, random *rand.Rand, assumed, its motion.Limits, passes bool) (computed, really run.Course) {
	t.Helper()
	file, other := limiting(t, random)
	if computed = scanned(t, file, assumed); passes {
		file = other
	}
	return computed, scanned(t, file, its)
}

func inSeconds(s float32) time.Duration { return time.Duration(float64(s) * float64(time.Second)) }
