package trim_test

import (
	"fmt"
	"math"
	"math/rand/v2"
	"strconv"
	"strings"
	"testing"

	"diathermon/internal/core/gcode"
	"diathermon/internal/core/heat"
	"diathermon/internal/core/trim"
)

// plate is a file of several objects, layer by layer or one after another, as slicers write
// it: each behind its marker, with what is drawn back before or behind that, hops, coordinates
// that are left out, and the extruder absolute or relative. Of says whose each line is.
func plate(random *rand.Rand) (lines []string, of []string, objects []trim.Object) {
	relativeE, named, hops, inside := random.IntN(2) == 0, random.IntN(2) == 0, random.IntN(2) == 0, random.IntN(2) == 0
	e, whose := 0.0, ""
	say := func(format string, args ...any) {
		lines, of = append(lines, fmt.Sprintf(format, args...)), append(of, whose)
	}
	push := func(mm float64) string {
		if e += mm; relativeE {
			return fmt.Sprintf(" E%.5f", mm)
		}
		return fmt.Sprintf(" E%.5f", e)
	}
	count := 2 + random.IntN(3)
	for i := range count {
		key := strconv.Itoa(i)
		if named {
			key = "part_" + key
		}
		objects = append(objects, trim.Object{Key: key})
	}
	mark := func(i int) {
		switch {
		case named && i < 0:
			say("EXCLUDE_OBJECT_END")
		case named:
			say("EXCLUDE_OBJECT_START NAME=%s", objects[i].Key)
		default:
			say("M486 S%d", i)
		}
		if whose = ""; i >= 0 {
			whose = objects[i].Key
		}
	}
	say("G28")
	if relativeE {
		say("M83")
	} else {
		say("M82")
	}
	say("G92 E0")
	one := func(i int, z float64) {
		retract := func() { say("G1%s F1800", push(-0.8)) }
		if !inside {
			retract()
		}
		mark(i)
		if inside {
			retract()
		}
		if hops {
			say("G1 Z%.2f F600", z+0.4)
		}
		x, y := float64(40*i)+random.Float64()*20, 50+random.Float64()*20
		say("G0 X%.2f Y%.2f F9000", x, y)
		if hops || random.IntN(2) == 0 {
			say("G1 Z%.2f F600", z)
		}
		say("G1%s F1800", push(0.8))
		for range 2 + random.IntN(5) {
			switch random.IntN(6) {
			case 0:
				x = float64(40*i) + random.Float64()*20
				say("G1 X%.2f%s", x, push(0.5))
			case 1:
				say("M106 S%d", random.IntN(255))
			case 2:
				if !relativeE {
					say("G92 E0")
					e = 0
				}
			default:
				x, y = float64(40*i)+random.Float64()*20, 50+random.Float64()*20
				say("G1 X%.2f Y%.2f%s F%d", x, y, push(0.5+random.Float64()), 1200+random.IntN(3)*600)
			}
		}
	}
	layers := 2 + random.IntN(4)
	if random.IntN(3) == 0 { // one after another
		for i := range count {
			for layer := range layers {
				say("G1 Z%.2f F600", float64(layer+1)*0.2)
				one(i, float64(layer+1)*0.2)
			}
			if random.IntN(2) == 0 {
				mark(-1)
			}
			say("G1 Z%.2f F600", float64(layers)*0.2+5)
		}
	} else {
		for layer := range layers {
			say("G1 Z%.2f F600", float64(layer+1)*0.2)
			for i := range count {
				one(i, float64(layer+1)*0.2)
			}
			mark(-1)
		}
	}
	mark(-1)
	say("G1%s F1800", push(-2))
	say("G1 Z50 F600")
	say("G0 X0 Y200 F9000")
	say("M104 S0")
	return lines, of, objects
}

// What is skipped is not laid, and everything else is laid where, and with as much filament,
// as the file has it; the head never crosses what was laid, but as the file does.
func TestAnObjectOfSeveralIsSkipped(t *testing.T) {
	skippedSome := 0
	for seed := range uint64(1000) {
		random := rand.New(rand.NewPCG(seed, 486))
		lines, of, objects := plate(random)
		from := random.IntN(len(lines))
		if random.IntN(3) == 0 {
			from = 0
		}
		skip := []string{objects[random.IntN(len(objects))].Key}
		until := len(lines)
		if random.IntN(4) == 0 { // and printed again
			until = from + random.IntN(len(lines)-from)
		}
		file := trim.File{Objects: objects, Room: 240}
		r := trim.New(file, nil)
		is, was := &reader{set: map[string]float64{}}, &reader{set: map[string]float64{}}
		var setpoints map[heat.Heater]float64
		var schedule trim.Schedule
		var became []string
		top, drawnIs, drawnWas := 0.0, 0.0, 0.0
		fail := func(n int, format string, args ...any) {
			t.Fatalf("seed %d, skipping %v from %d to %d, command %d, %q: %s\n%s\nbecame\n%s", seed, skip, from, until, n, lines[n], fmt.Sprintf(format, args...), strings.Join(lines[:n+1], "|"), strings.Join(became, "|"))
		}
		note := func(drawn *float64, e float64) { *drawn = max(*drawn-e, 0) }
		for n, line := range lines {
			if n == from {
				c := r.Next(trim.Trim{Skip: skip}, gcode.State{})
				r.Take(c, setpoints)
				schedule = append(schedule, c)
			}
			if n == until {
				c := r.Next(trim.Trim{}, gcode.State{})
				r.Take(c, setpoints)
				schedule = append(schedule, c)
			}
			left := n >= from && n < until && of[n] == skip[0]
			for _, besides := range r.Besides(line) {
				became = append(became, besides)
				before := len(is.strokes)
				at := is.physical
				is.read(n, besides)
				for _, s := range is.strokes[before:] {
					note(&drawnIs, s.e)
					if s.e > 0 && (s.from[0] != s.to[0] || s.from[1] != s.to[1]) {
						fail(n, "%q lays plastic", besides)
					}
					if (s.from[0] != s.to[0] || s.from[1] != s.to[1]) && s.from[2] < top+1.9 {
						fail(n, "%q crosses at %g, and plastic is up to %g", besides, at[2], top)
					}
				}
			}
			out := r.Line(line)
			became = append(became, out)
			wasBefore, isBefore := len(was.strokes), len(is.strokes)
			was.read(n, line)
			is.read(n, out)
			for _, s := range was.strokes[wasBefore:] {
				note(&drawnWas, s.e)
			}
			for _, s := range is.strokes[isBefore:] {
				note(&drawnIs, s.e)
			}
			moved := strings.HasPrefix(line, "G0 ") || strings.HasPrefix(line, "G1")
			switch {
			case !moved:
				if out != line {
					fail(n, "became %q", out)
				}
			case left:
				skippedSome++
				if len(is.strokes) != isBefore {
					fail(n, "it was said: %q", out)
				}
			default:
				a, b := was.strokes[len(was.strokes)-1], is.strokes[len(is.strokes)-1]
				for axis := range 3 {
					if math.Abs(a.from[axis]-b.from[axis]) > 2e-4 || math.Abs(a.to[axis]-b.to[axis]) > 2e-4 {
						fail(n, "from %v to %v, want from %v to %v", b.from, b.to, a.from, a.to)
					}
				}
				if math.Abs(a.e-b.e) > 3e-5 || a.feed != b.feed && a.feed != 0 {
					fail(n, "%g mm of filament at %g, want %g at %g", b.e, b.feed, a.e, a.feed)
				}
				if math.Abs(drawnIs-drawnWas) > 1e-3 {
					fail(n, "%g mm are drawn back, want %g", drawnIs, drawnWas)
				}
				if a.e > 0 && (a.from[0] != a.to[0] || a.from[1] != a.to[1]) {
					top = max(top, b.to[2])
				}
			}
		}
		again := trim.New(file, schedule)
		is, was = &reader{set: map[string]float64{}}, &reader{set: map[string]float64{}}
		for n, line := range lines { // what a journal tells of it: a pick-up goes by where these lines lead
			was.read(n, line)
			if left := n >= from && n < until && of[n] == skip[0]; !left && strings.HasPrefix(line, "G") && len(was.strokes) > 0 && was.strokes[len(was.strokes)-1].command == n {
				copied := *again
				is.read(n, copied.Line(line))
				for axis := range 3 {
					if got, want := is.physical[axis], was.physical[axis]; math.Abs(got-want) > 2e-4 {
						t.Fatalf("seed %d, command %d: read again it leads to %v, want %v", seed, n, is.physical, was.physical)
					}
				}
			} else if !left {
				is.read(n, line)
			}
			if got, left := again.Line(line), n >= from && n < until && of[n] == skip[0]; left && strings.HasPrefix(line, "G1") && got != "G4 P0" {
				t.Fatalf("seed %d, read again: %q becomes %q", seed, line, got)
			}
		}
		same := trim.New(file, nil)
		for _, line := range lines {
			if got := same.Line(line); got != line || len(same.Besides(line)) > 0 {
				t.Fatalf("seed %d: with nothing skipped %q becomes %q", seed, line, got)
			}
		}
	}
	if skippedSome < 5_000 {
		t.Errorf("only %d moves were left out", skippedSome)
	}
}

func TestWhatCannotBeSkipped(t *testing.T) {
	f := trim.File{Objects: []trim.Object{{Key: "0", Name: "Knob"}, {Key: "1"}, {Key: "2", Fixed: "its lines home the axes"}}}
	for want, skip := range map[string][]string{"no object \"7\"": {"7"}, "its lines home": {"2"}, "Knob is skipped twice": {"0", "0"}} {
		if err := (trim.Trim{Skip: skip}).Check(f, heat.Limits{}); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%v: %v, want %q", skip, err, want)
		}
	}
	f.Objects = f.Objects[:2]
	if err := (trim.Trim{Skip: []string{"0", "1"}}).Check(f, heat.Limits{}); err == nil || !strings.Contains(err.Error(), "nothing would be left") {
		t.Error(err)
	}
	if err := (trim.Trim{Skip: []string{"1"}}).Check(f, heat.Limits{}); err != nil {
		t.Error(err)
	}
	if said := (trim.Trim{Skip: []string{"1"}}).Against(trim.Trim{Skip: []string{"0"}}, trim.File{Objects: []trim.Object{{Key: "1", Name: "clip"}}}); said != "skips clip, prints 0 again" {
		t.Error(said)
	}
}
