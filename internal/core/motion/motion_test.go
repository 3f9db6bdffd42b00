package motion_test

import (
	"math"
	"testing"

	"diathermon/internal/core/gcode"
	"diathermon/internal/core/motion"
)

// plain limits make the arithmetic easy: 100 mm/s² everywhere.
var plain = motion.Limits{
	Feed: gcode.Position{200, 200, 10, 50}, Acceleration: gcode.Position{1000, 1000, 100, 1000},
	Print: 100, Travel: 100, Retract: 100, Deviation: 0.02, Ring: 32,
}

// timed returns the time of each move between the points and of all.
func timed(limits motion.Limits, feed float64, points ...gcode.Position) (each []float64, all float64) {
	p := motion.Planner{Limits: limits, Done: func(_ int, t motion.Time) {
		each = append(each, t.All)
		all += t.All
	}}
	for i := 1; i < len(points); i++ {
		p.Add(&gcode.Move{From: points[i-1], To: points[i], Feed: feed}, i)
	}
	p.Flush()
	return each, all
}

func near(a, b float64) bool { return math.Abs(a-b) < 1e-6*max(1, math.Abs(b)) }

func TestOneMoveIsATrapezoid(t *testing.T) {
	for name, c := range map[string]struct {
		length, feed, want float64
	}{
		"long":       {100, 50, 100.0/50 + 50.0/100},     // length/speed + speed/acceleration
		"too short":  {10, 100, 2 * math.Sqrt(10.0/100)}, // a triangle
		"over limit": {1000, 900, 1000.0/200 + 200.0/100},
	} {
		if _, got := timed(plain, c.feed, gcode.Position{}, gcode.Position{c.length}); !near(got, c.want) {
			t.Errorf("%s: %v s, want %v", name, got, c.want)
		}
	}
	if _, got := timed(plain, 100, gcode.Position{}, gcode.Position{0, 0, 20}); !near(got, 20.0/10+10.0/100) {
		t.Errorf("Z has its own limit: %v s", got)
	}
}

func TestAStraightLineTakesTheSameInOneMoveOrMany(t *testing.T) {
	points := []gcode.Position{{}}
	for i := 1; i <= 200; i++ {
		points = append(points, gcode.Position{float64(i)})
	}
	each, got := timed(plain, 50, points...)
	if _, want := timed(plain, 50, gcode.Position{}, gcode.Position{200}); math.Abs(got-want) > 0.01*want {
		t.Errorf("%v s in 200 moves, %v in one", got, want)
	}
	if len(each) != 200 {
		t.Errorf("%d moves were accounted for", len(each))
	}
}

func TestCornersCostTime(t *testing.T) {
	_, straight := timed(plain, 100, gcode.Position{}, gcode.Position{50}, gcode.Position{100})
	_, right := timed(plain, 100, gcode.Position{}, gcode.Position{50}, gcode.Position{50, 50})
	_, back := timed(plain, 100, gcode.Position{}, gcode.Position{50}, gcode.Position{0})
	if !(straight < right && right < back) {
		t.Errorf("straight on %v s, right angle %v s, back %v s", straight, right, back)
	}
	if _, alone := timed(plain, 100, gcode.Position{}, gcode.Position{50}); !near(back, 2*alone) {
		t.Errorf("turning back is two moves from rest to rest: %v s, want %v", back, 2*alone)
	}
}

func TestEachKindOfMoveHasItsAcceleration(t *testing.T) {
	limits := plain
	limits.Print, limits.Travel, limits.Retract = 100, 200, 400
	for name, c := range map[string]struct {
		to   gcode.Position
		want float64
	}{
		"draws":             {gcode.Position{10, 0, 0, 1}, 2 * math.Sqrt(10.0/100)},
		"travels":           {gcode.Position{10}, 2 * math.Sqrt(10.0/200)},
		"draws back on way": {gcode.Position{10, 0, 0, -1}, 2 * math.Sqrt(10.0/100)},
		"extruder alone":    {gcode.Position{0, 0, 0, -3}, 2 * math.Sqrt(3.0/400)},
	} {
		if _, got := timed(limits, 100, gcode.Position{}, c.to); !near(got, c.want) {
			t.Errorf("%s: %v s, want %v", name, got, c.want)
		}
	}
}

func TestLimitsOfOtherFirmwares(t *testing.T) {
	say := func(l *motion.Limits, line string) bool {
		var parsed gcode.Line
		if parsed.Parse(gcode.Command([]byte(line))) != nil {
			return l.SetNamed(line)
		}
		return l.Set(&parsed)
	}
	l := motion.Ordinary
	for _, line := range []string{"M203 X18000 Y12000 E3000", "M566 X600 Y300"} {
		if !say(&l, line) {
			t.Errorf("%s sets nothing", line)
		}
	}
	if l.Feed != (gcode.Position{300, 200, motion.Ordinary.Feed[gcode.Z], 50}) || l.Jerk[gcode.X] != 10 || l.Jerk[gcode.Y] != 5 || l.Deviation != 0 {
		t.Errorf("in mm/min they are %+v", l)
	}
	l = motion.Ordinary
	if say(&l, "M203 X250 Y200"); l.Feed[gcode.X] != 250 || l.Feed[gcode.Y] != 200 {
		t.Errorf("in mm/s they are %+v", l)
	}
	if !say(&l, "SET_VELOCITY_LIMIT VELOCITY=180 accel=4000 SQUARE_CORNER_VELOCITY=8 NOISE=x") {
		t.Error("a named command sets nothing")
	}
	if l.Feed[gcode.X] != 180 || l.Print != 4000 || l.Travel != 4000 {
		t.Errorf("named they are %+v", l)
	}
	// A right angle is taken at that speed, whatever the way to say it.
	corner := math.Sqrt(l.Print * l.Deviation * math.Sqrt(0.5) / (1 - math.Sqrt(0.5)))
	if math.Abs(corner-8) > 1e-9 {
		t.Errorf("a corner is taken at %g mm/s", corner)
	}
	before := l
	if say(&l, "SET_VELOCITY_LIMIT ACCEL=-5 VELOCITY=1e400 SQUARE_CORNER_VELOCITY=NaN"); math.Abs(l.Deviation-before.Deviation) > 1e-12 || l.Print != 4000 || l.Feed != before.Feed {
		t.Errorf("numbers that cannot be: %+v", l)
	}
	if say(&l, "SET_PIN PIN=beeper VALUE=1") || say(&l, "SET_VELOCITY") {
		t.Error("another command sets limits")
	}
}
