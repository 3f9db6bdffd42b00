package toolpath_test

import (
	"bytes"
	"io"
	"math"
	"strings"
	"testing"
	"time"

	"diathermon/internal/core/gcode"
	"diathermon/internal/core/motion"
	"diathermon/internal/core/run"
	"diathermon/internal/core/toolpath"
	"diathermon/internal/samples"
)

// bare passes over a file's lines with numbers read by hand, as the least that any
// reader of G-code does: letters and their values, nothing made of them.
func bare(b []byte) (sum float64) {
	for len(b) > 0 {
		end := bytes.IndexByte(b, '\n')
		line := b
		if end >= 0 {
			line, b = b[:end], b[end+1:]
		} else {
			b = nil
		}
		if i := bytes.IndexByte(line, ';'); i >= 0 {
			line = line[:i]
		}
		for i := 0; i < len(line); {
			c := line[i]
			i++
			if c < 'A' || c > 'Z' {
				continue
			}
			negative := false
			if i < len(line) && line[i] == '-' {
				negative = true
				i++
			}
			v, scale := 0.0, 1.0
			for ; i < len(line) && line[i] >= '0' && line[i] <= '9'; i++ {
				v = v*10 + float64(line[i]-'0')
			}
			if i < len(line) && line[i] == '.' {
				for i++; i < len(line) && line[i] >= '0' && line[i] <= '9'; i++ {
					v = v*10 + float64(line[i]-'0')
					scale *= 10
				}
			}
			if v /= scale; negative {
				v = -v
			}
			sum += v
		}
	}
	return sum
}

// long is a file of about that many bytes.
func long(tb testing.TB, size int) []byte {
	var part bytes.Buffer
	if err := samples.Parts()[1].Write(&part); err != nil {
		tb.Fatal(err)
	}
	out := make([]byte, 0, size+part.Len())
	for len(out) < size {
		out = append(out, part.Bytes()...)
	}
	return out
}

// BenchmarkSurvey compares a whole analysis with a bare pass over the same bytes, in
// turns, each at its fastest.
func BenchmarkSurvey(b *testing.B) {
	body := long(b, 100<<20)
	b.SetBytes(int64(len(body)))
	took, twice, least, sum := math.Inf(1), math.Inf(1), math.Inf(1), 0.0
	scan := func(r io.Reader) float64 {
		begun := time.Now()
		if _, err := toolpath.Scan(r, toolpath.Options{Limits: motion.Ordinary}); err != nil {
			b.Fatal(err)
		}
		return time.Since(begun).Seconds()
	}
	for b.Loop() {
		took = min(took, scan(bytes.NewReader(body)))
		twice = min(twice, scan(io.MultiReader(strings.NewReader("M204 P900 T900\n"), bytes.NewReader(body))))
		begun := time.Now()
		sum += bare(body)
		least = min(least, time.Since(begun).Seconds())
	}
	if sum == 0 {
		b.Fatal("the bare pass has read nothing")
	}
	b.ReportMetric(took/least, "bare-passes")
	b.ReportMetric(twice/took, "with-limits-set") // each move is timed by them and by the printer's own
	b.ReportMetric(took*1e9/float64(bytes.Count(body, []byte("\n"))), "ns/line")
}

// BenchmarkLeast is what no planner of moves can do without: for each, its length and way,
// what its axes can do, how fast it may enter its corner, and from the speeds at its ends its
// time. Without any look-ahead, and without all that an analysis finds besides, in passes of
// bare over the lines of the same moves.
func BenchmarkLeast(b *testing.B) {
	body := long(b, 20<<20)
	var moves [][5]float64 // mm and mm/s
	at, lines := [5]float64{}, 0
	next := run.Commands(bytes.NewReader(body))
	var l gcode.Line
	for command, ok := next(); ok; command, ok = next() {
		if lines++; l.Parse([]byte(command)) != nil || l.Letter != 'G' || l.Number > 1 {
			continue
		}
		for i, letter := range []byte("XYZEF") {
			if v, ok := l.Value(letter); ok {
				at[i] = v
			}
		}
		moves = append(moves, at)
	}
	took, least, sum := math.Inf(1), math.Inf(1), 0.0
	for b.Loop() {
		begun := time.Now()
		sum += planned(moves)
		took = min(took, time.Since(begun).Seconds())
		begun = time.Now()
		sum += bare(body)
		least = min(least, time.Since(begun).Seconds())
	}
	if math.IsNaN(sum) || sum <= 0 {
		b.Fatalf("the moves take %g s", sum)
	}
	b.ReportMetric(took/least, "bare-passes")
}

func planned(moves [][5]float64) (sum float64) {
	from, before := moves[0], [4]float64{}
	entry, enters, was := 0.0, 0.0, 0.0
	for i := 1; i < len(moves); i++ {
		to := &moves[i]
		dx, dy, dz, de := to[0]-from[0], to[1]-from[1], to[2]-from[2], to[3]-from[3]
		length := math.Sqrt(dx*dx + dy*dy + dz*dz)
		if from = *to; length == 0 {
			continue
		}
		per := 1 / length
		way := [4]float64{dx * per, dy * per, dz * per, de * per}
		speed, acceleration := to[4]/60, motion.Ordinary.Print
		for axis, u := range &way {
			if u = math.Abs(u); u*speed > motion.Ordinary.Feed[axis] {
				speed = motion.Ordinary.Feed[axis] / u
			}
			if u*acceleration > motion.Ordinary.Acceleration[axis] {
				acceleration = motion.Ordinary.Acceleration[axis] / u
			}
		}
		cosine := -way[0]*before[0] - way[1]*before[1] - way[2]*before[2]
		half := math.Sqrt(max((1-cosine)/2, 0))
		corner := acceleration * motion.Ordinary.Deviation * half / max(1-half, 1e-6)
		exit := min(entry+2*acceleration*length, corner, speed*speed, was*was)
		exits := math.Sqrt(exit)
		if peak := acceleration*length + (entry+exit)/2; peak < speed*speed {
			sum += (2*math.Sqrt(peak) - enters - exits) / acceleration
		} else {
			sum += ((2*speed - enters - exits) + (length*acceleration-speed*speed+(entry+exit)/2)/speed) / acceleration
		}
		entry, enters, was, before = exit, exits, speed, way
	}
	return sum
}
