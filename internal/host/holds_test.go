package host_test

import (
	"errors"
	"fmt"
	"io"
	"testing"
	"testing/synctest"
	"time"

	"diathermon/internal/core/heat"
	"diathermon/internal/host"
	"diathermon/internal/host/capacity"
	"diathermon/internal/simprinter"
)

func TestWhatThePrinterHoldsIsMeasuredWhileItReports(t *testing.T) {
	for _, dialect := range []string{"", "asked", "numbered", "quiet", "waiting"} {
		for _, warp := range []time.Duration{1, 8} {
			t.Run(fmt.Sprintf("%s at %d times", dialect, warp), func(t *testing.T) {
				synctest.Test(t, func(t *testing.T) { measures(t, dialect, warp) })
			})
		}
	}
}

func measures(t *testing.T, dialect string, warp time.Duration) {
	printer := simprinter.Vesper()
	var err error
	if printer.Dialect, err = simprinter.ParseDialect(dialect); err != nil {
		t.Fatal(err)
	}
	h, _ := work(t, folder{}, func() (io.ReadWriteCloser, error) {
		c := newCable(printer)
		c.warp = warp
		return c, nil
	})
	until(t, h, 10*time.Second, isLive)
	b := until(t, h, 2*time.Minute, func(b host.Bench) bool { return b.Holds.How == capacity.Measured })
	if b.Holds.Bytes > 127 || b.Holds.Bytes < 110 || b.Holds.Lines > 4 {
		t.Errorf("it holds 127 bytes and 4 lines, and was found to hold %+v", b.Holds)
	}
	for i := range 5 { // and again, whenever somebody wants it, while others talk
		if err := h.Capacity.Measure(t.Context()); err != nil {
			t.Fatal(err)
		}
		time.Sleep(time.Duration(i*400) * time.Millisecond)
		begun := time.Now()
		if _, err := h.Hand.Say(t.Context(), fmt.Sprintf("M117 %d", i)); err != nil || time.Since(begun) > 5*time.Second {
			t.Fatalf("saying a line meanwhile took %s, %v", time.Since(begun), err)
		}
		until(t, h, time.Minute, func(b host.Bench) bool { return b.Holds.How != capacity.Measuring })
	}
	h.Heat.Set(t.Context(), heat.Bed, 60)
	until(t, h, 10*time.Minute, func(b host.Bench) bool { return b.Heat.Heaters[1].Actual > 50 })
	h.Heat.Set(t.Context(), heat.Bed, 0)
	until(t, h, time.Minute, func(b host.Bench) bool { return b.Heat.Heaters[1].Setpoint == 0 })
	if err := h.Capacity.Measure(t.Context()); !errors.Is(err, capacity.ErrMeasure) {
		t.Errorf("with a warm bed: %v", err)
	}
}
