package heat_test

import (
	"diathermon/internal/core/heat"
	"diathermon/internal/simprinter"
	"testing"
	"time"
)

func BenchmarkGuardNote(b *testing.B) {
	w := newRig(simprinter.Rough(3))
	var rs []heat.Sample
	w.each = func(at time.Duration, r heat.Reading) { rs = append(rs, heat.Sample{At: midnight.Add(at), Reading: r}) }
	w.Set(210, 60)
	w.pass(30 * time.Minute)
	b.ResetTimer()
	for b.Loop() {
		t := heat.NewTrial(heat.Limits{Nozzle: 285, Bed: 110})
		for _, s := range rs {
			t.Note(s)
		}
	}
	b.ReportMetric(float64(b.Elapsed().Nanoseconds())/float64(b.N*len(rs)), "ns/reading")
}
