package host_test

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"slices"
	"strings"
	"testing"
	"testing/synctest"
	"time"

	"diathermon/internal/core/bed"
	"diathermon/internal/core/preflight"
	"diathermon/internal/core/run"
	"diathermon/internal/core/stock"
	"diathermon/internal/host"
	"diathermon/internal/host/printing"
	"diathermon/internal/samples"
)

// toolsOf are the lines of a printer's that choose a tool, with one line of the file's that
// follows each.
func toolsOf(r *rig) (out []string) {
	for _, e := range r.board.executed() {
		switch {
		case strings.HasPrefix(e.Line, "T"):
			out = append(out, e.Line)
		case len(out) > 0 && !strings.Contains(out[len(out)-1], " then ") && !ofTheHost.MatchString(e.Line):
			out[len(out)-1] += " then " + e.Line
		}
	}
	return out
}

// changed is a part whose lines are changed.
type changed struct {
	written
	change func(string) string
}

func (c changed) Write(w io.Writer) error {
	var body bytes.Buffer
	if err := c.written.Write(&body); err != nil {
		return err
	}
	_, err := io.WriteString(w, c.change(body.String()))
	return err
}

func fourSlots(c *host.Config) {
	c.Printer.Slots = 4
	c.Slots = func() []stock.Slot {
		return []stock.Slot{{Number: 0, Loaded: true, Material: "PETG"}, {Number: 1}, {Number: 2, Loaded: true, Material: "PLA"}, {Number: 3, Loaded: true, Material: "PLA"}}
	}
}

// A file's tools are printed from the slots that were said, also where it never names its
// first, and behind a hold, a pulled cable and a pick-up.
func TestToolsArePrintedFromTheirSlots(t *testing.T) {
	coupon := samples.Coupon(6)
	for name, c := range map[string]struct {
		part  written
		slots stock.Mapping
		want  []string
	}{
		"it never names a tool":  {coupon, stock.Mapping{2}, []string{"T2 then M140 S60"}},
		"it names one, late":     {changed{coupon, func(s string) string { return strings.Replace(s, "G28", "G28\nT0", 1) }}, stock.Mapping{3}, []string{"T3 then M140 S60", "T3 then "}},
		"it names one, at once":  {changed{coupon, func(s string) string { return "T0\n" + s }}, stock.Mapping{3}, []string{"T3 then M140 S60"}},
		"it changes between two": {changed{coupon, func(s string) string { return "T1\n" + strings.Replace(s, "G28", "G28\nT0", 1) }}, stock.Mapping{3, 2}, []string{"T2 then M140 S60", "T3 then "}},
		"nothing is mapped":      {changed{coupon, func(s string) string { return "T1\n" + s }}, nil, []string{"T1 then M140 S60"}},
	} {
		t.Run(name, func(t *testing.T) {
			synctest.Test(t, func(t *testing.T) {
				r := ordered(t, c.part, printing.Order{Slots: c.slots}, fourSlots)
				r.until(time.Hour, drawing)
				r.another() // and another host goes on in the middle
				r.untilState(2*time.Hour, run.Finished)
				got := toolsOf(r)
				same := len(got) == len(c.want)
				for i := range got {
					same = same && strings.HasPrefix(got[i], c.want[i])
				}
				if !same {
					t.Errorf("tools are chosen %q, want %q", got, c.want)
				}
			})
		})
	}
}

func TestAPickUpChoosesTheSlot(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		r := ordered(t, samples.Coupon(12), printing.Order{Slots: stock.Mapping{2}}, fourSlots)
		laying := r.until(time.Hour, drawing)
		r.board.reset()
		r.until(time.Minute, func(b host.Bench) bool { return b.Run.State == run.Interrupted && b.Run.Forgotten && isLive(b) })
		plan, err := r.Run.Plan(t.Context(), laying.Run.ID, printing.Choice{Height: 5})
		if err != nil {
			t.Fatal(err)
		}
		if !strings.Contains(fmt.Sprint(plan.Steps), "T2") {
			t.Errorf("the plan is %+v", plan.Steps)
		}
		if _, err := r.Run.PickUp(t.Context(), laying.Run.ID, printing.Choice{Height: 5}); err != nil {
			t.Fatal(err)
		}
		r.untilState(2*time.Hour, run.Finished)
		var said []string
		for _, e := range r.board.executed() {
			if !ofTheHost.MatchString(e.Line) {
				said = append(said, e.Line)
			}
		}
		lines := r.files.commands(t)
		before, rest := lines[plan.Command-1], lines[plan.Command:]
		if at := len(said) - len(rest); at < 1 || !slices.Equal(said[at:], rest) || said[at-1] == before {
			t.Errorf("the last %d lines are not the file's from command %d on, each once", len(rest), plan.Command)
		}
		if got := toolsOf(r); len(got) == 0 || !strings.HasPrefix(got[0], "T2 then ") {
			t.Errorf("tools are chosen %q", got)
		}
	})
}

// What is in the slot that a tool is printed from is what its file is held against, and a
// slot that is not there is refused.
func TestAFileIsHeldAgainstTheSlotsThatItIsPrintedFrom(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		part := changed{samples.Coupon(3), func(s string) string { return "; filament_type = PLA\n" + s }}
		r := ordered(t, part, printing.Order{Slots: stock.Mapping{2}}, fourSlots)
		r.untilState(2*time.Hour, run.Finished)
		r.Bed.Say(t.Context(), bed.Clear, "Ada", time.Time{})
		materials := func(slots stock.Mapping) (out string) {
			report, err := r.Run.Preflight(t.Context(), r.files.file, slots)
			if err != nil {
				t.Fatal(err)
			}
			for _, c := range report.Checks {
				if c.Kind == preflight.Material || c.Kind == preflight.Slot {
					out += string(c.Level) + ": " + c.Title
				}
			}
			return out
		}
		for want, slots := range map[string]stock.Mapping{"block: its comments say that it is for PLA, and PETG is in slot 0": nil, "": {2}, "note: nobody has said what is loaded in slot 1": {1}} {
			if got := materials(slots); got != want {
				t.Errorf("from %v: %q, want %q", slots, got, want)
			}
		}
		for _, slots := range []stock.Mapping{{4}, {0, 1}, {-1}} {
			if _, err := r.Run.Start(t.Context(), printing.Order{File: "coupon.gcode", Slots: slots}); !errors.Is(err, stock.ErrMapping) {
				t.Errorf("%v: %v", slots, err)
			}
		}
	})
}
