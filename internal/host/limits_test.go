package host_test

import (
	"strings"
	"testing"
	"testing/synctest"
	"time"

	"diathermon/internal/core/bed"
	"diathermon/internal/core/motion"
	"diathermon/internal/core/run"
	"diathermon/internal/core/trim"
	"diathermon/internal/host"
	"diathermon/internal/host/printing"
	"diathermon/internal/samples"
	"diathermon/internal/simprinter"
)

// What a file sets of the printer's limits ends where the next run begins, and what a person
// has typed stays, also where a run has capped it.
func TestLimitsThatAFileSetsEndWithIt(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		var b strings.Builder
		samples.Coupon(3).Write(&b)
		config := simprinter.Vesper()
		config.Record = true
		told := make(chan motion.Limits, 1)
		r := &rig{t: t, files: shelfOf(t, text("M204 P400 T400\nM203 X80\n"+b.String())), board: newStandIn(config), begun: time.Now(), journals: t.TempDir()}
		r.change = append(r.change, func(c *host.Config) { c.Motion = func(l motion.Limits) { told <- l } })
		r.arrive()
		<-told
		if _, err := r.Run.Start(t.Context(), printing.Order{File: "coupon.gcode"}); err != nil {
			t.Fatal(err)
		}
		again := func(o printing.Order) int {
			r.until(10*time.Hour, func(b host.Bench) bool { return b.Run != nil && b.Run.State == run.Finished })
			if _, err := r.Bed.Say(t.Context(), bed.Clear, "somebody", time.Time{}); err != nil {
				t.Fatal(err)
			}
			from := len(r.board.executed())
			o.File = "coupon.gcode"
			if _, err := r.Run.Start(t.Context(), o); err != nil {
				t.Fatal(err)
			}
			r.until(time.Minute, func(b host.Bench) bool { return b.Run.Taken > 1 })
			return from
		}
		set := func(from int) string {
			var said []string
			for _, e := range r.board.executed()[from:] {
				if strings.HasPrefix(e.Line, "M204") || strings.HasPrefix(e.Line, "M203") {
					said = append(said, e.Line)
				}
			}
			return strings.Join(said, "; ")
		}
		if got := set(again(printing.Order{})); got != "M203 X300.00 Y300.00 Z12.00 E60.00; M204 P1000.00 R1500.00 T1500.00; M204 P400 T400; M203 X80" {
			t.Errorf("before the second run it is %s", got)
		}
		r.until(10*time.Hour, func(b host.Bench) bool { return b.Run.State == run.Finished })
		if _, err := r.Hand.Say(t.Context(), "M204 P800"); err != nil {
			t.Fatal(err)
		}
		from := again(printing.Order{Trim: trim.Trim{Numbers: trim.Numbers{Acceleration: 300}}})
		if got := set(from); got != "M203 X300.00 Y300.00 Z12.00 E60.00; M204 P1000.00 R1500.00 T1500.00; M204 P800; M204 P300 T300; M204 P300 T300; M203 X80" {
			t.Errorf("before the third it is %s", got)
		}
	})
}
