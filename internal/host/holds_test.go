package host_test

import (
	"errors"
	"fmt"
	"io"
	"strings"
	"testing"
	"testing/synctest"
	"time"

	"diathermon/internal/core/heat"
	"diathermon/internal/core/run"
	"diathermon/internal/host"
	"diathermon/internal/host/capacity"
	"diathermon/internal/host/printing"
	"diathermon/internal/samples"
	"diathermon/internal/simprinter"
)

func TestWhatThePrinterHoldsIsMeasuredWhileItReports(t *testing.T) {
	for _, dialect := range []string{"", "asked", "naming=full,plainly=temperatures", "working=nothing", "idling=wait"} {
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

// A run that is held just as it comes to where it is to end waits for the person, and ends
// there once it is resumed.
func TestARunThatIsHeldWhereItIsToEndWaits(t *testing.T) {
	files := shelfOf(t, samples.Coupon(20))
	synctest.Test(t, func(t *testing.T) {
		printer := simprinter.Vesper()
		printer.Record = true
		board := newStandIn(printer)
		h, _ := work(t, files, func() (io.ReadWriteCloser, error) { return &cable{standIn: board, begun: time.Now()}, nil })
		until(t, h, time.Minute, isLive)
		if _, err := h.Run.Start(t.Context(), printing.Order{File: "coupon.gcode"}); err != nil {
			t.Fatal(err)
		}
		if _, err := h.Run.Until(t.Context(), "", printing.Place{Layer: 5, End: true}, "Ilse"); err != nil {
			t.Fatal(err)
		}
		b := until(t, h, time.Hour, func(b host.Bench) bool { return b.Run.Taken > files.file.Marks[2].Command })
		if all, want := files.file.At(b.Run.Taken).Left, files.file.At(b.Run.Taken).Left-files.file.At(files.file.Marks[5].Command).Left; b.Run.Left < want || b.Run.Left > want+15*time.Second || b.Run.Left > all/2 {
			t.Errorf("to where it is to end %s are left, want a little more than %s; to the file's end %s", b.Run.Left, want, all)
		}
		until(t, h, time.Hour, func(b host.Bench) bool { return b.Run.Taken == files.file.Marks[5].Command })
		if _, err := h.Run.Hold(t.Context(), ""); err != nil {
			t.Fatal(err)
		}
		if _, err := h.Hand.Say(t.Context(), "G1 X1"); err == nil || !strings.Contains(err.Error(), "on its way off the part; try again in a moment") {
			t.Errorf("in the first moment of a hold a person's move is answered with %v", err)
		}
		until(t, h, time.Minute, func(b host.Bench) bool { return b.Run.State == run.Held })
		time.Sleep(time.Minute)
		waits := 0
		for _, e := range board.executed() {
			if e.Line == "M400" {
				waits++
			}
		}
		if b := until(t, h, time.Second, isLive); b.Run.State != run.Held || waits > 3 {
			t.Errorf("it is %s, and M400 was said %d times", b.Run.State, waits)
		}
		if _, err := h.Run.Resume(t.Context(), ""); err != nil {
			t.Fatal(err)
		}
		b = until(t, h, 5*time.Minute, func(b host.Bench) bool { return b.Run.State.Final() })
		if b.Run.State != run.Stopped || b.Run.Reason != "ended after layer 5, as Ilse wanted" {
			t.Errorf("it is %s because %q", b.Run.State, b.Run.Reason)
		}
	})
}
