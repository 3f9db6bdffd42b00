package e2e

import (
	"bytes"
	"slices"
	"strings"
	"testing"

	"github.com/chromedp/chromedp"

	"diathermon/internal/api"
	"diathermon/internal/api/ops"
	"diathermon/internal/client"
	"diathermon/internal/simprinter"
)

// What goes around a run, and the slots that it is printed from, in the terminal and on a
// phone: asked beforehand, checked, kept with the run and done.
func TestARunIsPreparedAndMapped(t *testing.T) {
	t.Parallel()
	config := quick()
	config.Record = true
	b := start(t, config)
	b.service.Close()
	b.config.Printer.Slots = 2
	b.up()
	b.live()
	p := b.keeper()
	body := append([]byte("; filament_type = PETG\n"), coupon(t, 2)...)
	if _, err := b.Send(t.Context(), client.Sending{Name: "cap.gcode", Body: bytes.NewReader(body)}); err != nil {
		t.Fatal(err)
	}

	p.ok("Before every run: nothing", "routines", "around")
	p.fails(6, `there is no such routine: "Purge"`, "routines", "around", "--before", "Purge")
	p.fails(2, "name a routine first", "routines", "around", "--before", "level=50")
	p.ok("Before every run: Light (level=40)\nAfter one that is finished: Park and cool (heated_bed=as it is)", "routines", "around", "--before", "Light, level=40", "--after", "Park and cool, heated_bed=as it is")

	p.ok("In slot 0: PLA", "slots", "load", "0", "PLA", "--from", "190", "--to", "230")
	p.ok("In slot 1: PETG", "slots", "load", "1", "PETG", "--from", "200", "--to", "260")
	p.fails(6, "PLA is in slot 0", "print", "cap.gcode")
	p.fails(6, "this printer has 2", "print", "cap.gcode", "--slots", "2")
	p.fails(2, "numbers from 0", "print", "cap.gcode", "--slots", "one")
	p.ok("Started: cap.gcode", "print", "cap.gcode", "--slots", "best")
	first := b.untilRun("finished")
	if !slices.Equal(first.Slots, []int{1}) {
		t.Errorf("it was printed from %v", first.Slots)
	}
	b.until("what comes after it", func(now api.Bench) bool { return now.Routine.Routine == "Park and cool" && now.Routine.Ended != nil })
	var said []string
	b.device.Do(func(board *simprinter.Board) {
		for _, e := range board.Executed() {
			if strings.HasPrefix(e.Line, "M355") || strings.HasPrefix(e.Line, "T") || e.Line == "M140 S60" || e.Line == "M104 T0 S0" {
				said = append(said, e.Line)
			}
		}
	})
	if all := strings.Join(said, ", "); !strings.Contains(all, "T1, M140 S60") || !strings.HasPrefix(all, "M355") {
		t.Errorf("it was said: %s", all)
	}

	// An entry of the queue has its own.
	p.ok("Waits in turn", "queue", "add", "cap.gcode", "--slots", "1", "--before", "none")
	p.ok("then Park and cool (heated_bed=as it is), from slots [1]", "queue")
	p.ok("begins", "queue", "change", "1", "--after", "none")
	p.ok("Started: cap.gcode", "queue", "next", "--clear")
	second := b.until("the entry's run", func(now api.Bench) bool {
		return now.Run.ID != first.ID && now.Run.State == "finished" && slices.Equal(now.Run.Slots, []int{1})
	})
	if second.Routine.Routine != "Park and cool" {
		t.Errorf("behind it %s was performed", second.Routine.Routine)
	}

	// On a phone: what every run has is shown, and this one has something else.
	b.clear()
	page := b.browser(390, 844, false)
	b.visit(page, b.service.URL+"/shelf")
	b.click(page, `[aria-label="Start cap.gcode"]`)
	b.shown(page, `[data-check="material"]`)
	b.click(page, `[data-take]`)
	b.until("the proposal is taken, and nothing is in the way", func(api.Bench) bool {
		return ask(b, page, chromedp.Evaluate[bool](`!document.querySelector('[data-check="material"]') && !document.querySelector('[data-go]').disabled`))
	})
	b.click(page, `[data-start] [data-before] .v-chip__close`)
	b.click(page, `[data-start] [data-go]`)
	b.until("the second run", func(now api.Bench) bool {
		return now.Run.ID != first.ID && now.Run.ID != second.Run.ID && now.Run.State == "finished" && now.Run.Started != nil && now.Routine.ID != second.Routine.ID && now.Routine.Ended != nil
	})
	past, err := client.Call(t.Context(), b.Client, ops.ListPerformances, ops.Past{Limit: 10})
	if err != nil {
		t.Fatal(err)
	}
	var performed []string
	for _, one := range past.Performances {
		performed = append(performed, one.Routine+" by "+one.By)
	}
	slices.Reverse(performed)
	if want := []string{"Light by the run of cap.gcode", "Park and cool by the run of cap.gcode", "Park and cool by the run of cap.gcode"}; !slices.Equal(performed, want) {
		t.Errorf("performed were %q, want %q", performed, want)
	}
}
