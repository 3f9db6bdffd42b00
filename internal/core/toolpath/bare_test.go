package toolpath_test

import (
	"bytes"
	"math"
	"testing"
	"time"

	"diathermon/internal/core/motion"
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
	took, least, sum := math.Inf(1), math.Inf(1), 0.0
	for b.Loop() {
		begun := time.Now()
		if _, err := toolpath.Scan(bytes.NewReader(body), toolpath.Options{Limits: motion.Ordinary}); err != nil {
			b.Fatal(err)
		}
		took = min(took, time.Since(begun).Seconds())
		begun = time.Now()
		sum += bare(body)
		least = min(least, time.Since(begun).Seconds())
	}
	if sum == 0 {
		b.Fatal("the bare pass has read nothing")
	}
	b.ReportMetric(took/least, "bare-passes")
	b.ReportMetric(took*1e9/float64(bytes.Count(body, []byte("\n"))), "ns/line")
}
