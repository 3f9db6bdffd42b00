package host_test

import (
	"io"
	"slices"
	"strings"
	"testing"
	"time"

	"diathermon/internal/host"
	"diathermon/internal/simprinter"
)

// BenchmarkPortHangs asks for the bench a thousand times while a port hangs in
// being opened, and tells the 99th percentile and the longest; beside it the
// same with a port that is open and a printer that answers.
func BenchmarkPortHangs(b *testing.B) {
	hangs := make(chan struct{})
	hung, _ := work(b, folder{}, func() (io.ReadWriteCloser, error) { <-hangs; return nil, io.ErrUnexpectedEOF })
	until(b, hung, time.Minute, func(b host.Bench) bool { return strings.Contains(b.Link.Reason, "hangs") })
	live, _ := work(b, folder{}, func() (io.ReadWriteCloser, error) { return newCable(simprinter.Vesper()), nil })
	until(b, live, time.Minute, isLive)
	b.Cleanup(func() { close(hangs) })
	for b.Loop() {
		for _, asked := range []struct {
			h    *host.Host
			name string
		}{{hung, "hanging"}, {live, "live"}} {
			took := make([]time.Duration, 1000)
			for i := range took {
				began := time.Now()
				if _, err := asked.h.Bench(b.Context()); err != nil {
					b.Fatal(err)
				}
				took[i] = time.Since(began)
			}
			slices.Sort(took)
			b.ReportMetric(float64(took[len(took)*99/100].Microseconds())/1000, asked.name+"-p99-ms")
			b.ReportMetric(float64(took[len(took)-1].Microseconds())/1000, asked.name+"-longest-ms")
		}
	}
}
