package heat

import (
	"math"
	"time"
)

// A Span sums up the readings of a stretch of time: its extremes stay, however
// often spans are summed up in turn.
type Span struct {
	Begins         time.Time // of its first reading
	Count          int       // readings
	Low, High      float64   // °C
	Mean           float64   // °C
	Setpoint, Duty float64   // the last setpoint, °C; the mean duty, 0 to 1; NaN where none was reported
}

// span is one reading as a Span.
func (s Sample) span() Span {
	out := Span{Begins: s.At, Count: 1, Low: s.Actual, High: s.Actual, Mean: s.Actual, Setpoint: math.NaN(), Duty: math.NaN()}
	if s.HasSetpoint {
		out.Setpoint = s.Setpoint
	}
	if s.HasDuty {
		out.Duty = s.Duty
	}
	return out
}

// add takes a later span into s.
func (s *Span) add(o Span) {
	if s.Count == 0 {
		*s = o
		return
	}
	a, b := float64(s.Count), float64(o.Count)
	s.Count += o.Count
	s.Low, s.High = min(s.Low, o.Low), max(s.High, o.High)
	s.Mean = (s.Mean*a + o.Mean*b) / (a + b)
	switch {
	case math.IsNaN(s.Duty):
		s.Duty = o.Duty
	case !math.IsNaN(o.Duty):
		s.Duty = (s.Duty*a + o.Duty*b) / (a + b)
	}
	if !math.IsNaN(o.Setpoint) {
		s.Setpoint = o.Setpoint
	}
}

// SpansOf returns readings, the oldest first, as spans of one reading each.
func SpansOf(samples []Sample) []Span {
	out := make([]Span, len(samples))
	for i, s := range samples {
		out[i] = s.span()
	}
	return out
}

// Sum returns what spans, the oldest first, sum up to.
func Sum(spans []Span) Span {
	var sum Span
	for _, s := range spans {
		sum.add(s)
	}
	return sum
}

// A Roller sums readings or spans up, the oldest first, into one Span for each
// Step of the clock in which there is any.
type Roller struct {
	Step  time.Duration // whole milliseconds
	Spans []Span
	slot  int64
}

// Add takes a span.
func (r *Roller) Add(s Span) {
	if at := s.Begins.UnixMilli() / max(r.Step.Milliseconds(), 1); at != r.slot || len(r.Spans) == 0 {
		r.Spans, r.slot = append(r.Spans, s), at
	} else {
		r.Spans[len(r.Spans)-1].add(s)
	}
}

// Note takes a reading.
func (r *Roller) Note(s Sample) { r.Add(s.span()) }

// Rollup sums spans, the oldest first, up into one for each step of the clock in
// which there is any.
func Rollup(spans []Span, step time.Duration) []Span {
	r := Roller{Step: step}
	for _, s := range spans {
		r.Add(s)
	}
	return r.Spans
}

// Gap is the longest time between two readings in which nothing is missing. At
// longer ones a chart is broken off.
const Gap = 15 * time.Second

// Chart sums up the spans of a window, each of which stands for the readings of
// step, so that at most points are left. A window in which there are no more is
// returned as it is. Where readings are missing for longer than Gap, and for
// longer than a point is wide, a Span with Count 0 stands in the result.
func Chart(spans []Span, from, to time.Time, step time.Duration, points int) []Span {
	width := to.Sub(from) / time.Duration(max(points, 1))
	if len(spans) > points {
		spans = Rollup(spans, max(width, time.Millisecond))
	}
	out := make([]Span, 0, len(spans))
	longest := max(Gap, 2*step, 2*width)
	for i, s := range spans {
		if i > 0 && s.Begins.Sub(spans[i-1].Begins) > longest {
			out = append(out, Span{Begins: spans[i-1].Begins.Add(max(step, width))})
		}
		out = append(out, s)
	}
	return out
}
