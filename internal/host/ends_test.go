package host_test

import (
	"fmt"
	"os"
	"slices"
	"strings"
	"testing"
	"testing/synctest"
	"time"

	"diathermon/internal/core/gcode"
	"diathermon/internal/core/heat"
	"diathermon/internal/core/run"
	"diathermon/internal/host"
	"diathermon/internal/host/printing"
	"diathermon/internal/samples"
)

// stage leads a run to where it is to be ended.
type stage struct {
	name  string
	order printing.Order
	there func(*rig)
}

var runStages = []stage{
	{"preparing", printing.Order{Before: named("Long")}, func(r *rig) {
		r.until(time.Minute, func(b host.Bench) bool { return b.Routine.Routine == "Long" && !b.Routine.State.Over() })
	}},
	{"soaking", printing.Order{Soak: &heat.Soak{For: 20 * time.Minute}}, func(r *rig) {
		r.until(20*time.Minute, func(b host.Bench) bool { return b.Heat.WarmUp != nil && b.Heat.WarmUp.Soaking })
	}},
	{"warming", printing.Order{}, func(r *rig) {
		r.until(time.Hour, func(b host.Bench) bool { return b.Run.State == run.Warming && b.Heat.Heaters[1].Actual > 45 })
	}},
	{"drawing", printing.Order{}, func(r *rig) { r.until(time.Hour, drawing) }},
	{"held", printing.Order{}, func(r *rig) {
		r.until(time.Hour, drawing)
		r.Run.Hold(r.t.Context(), "")
		r.until(time.Minute, func(b host.Bench) bool { return slices.Contains(b.Run.May, run.MayResume) && parkedUp(b) })
	}},
	{"ending", printing.Order{}, func(r *rig) { r.untilState(2*time.Hour, run.Ending) }},
	{"stopping", printing.Order{}, func(r *rig) {
		r.until(time.Hour, drawing)
		r.Run.Stop(r.t.Context(), "")
		r.untilState(time.Minute, run.Ending)
	}},
	{"tidying", printing.Order{After: named("Long")}, func(r *rig) {
		r.until(2*time.Hour, func(b host.Bench) bool { return b.Routine.Routine == "Long" && !b.Routine.State.Over() })
	}},
}

func parkedUp(b host.Bench) bool { return b.Position.Known && b.Position.Where[gcode.Z] > 5 }

var ends = []struct {
	name string
	do   func(*rig)
}{
	{"killed", func(r *rig) { r.killed(false) }},
	{"power cut", func(r *rig) { r.killed(true) }},
	{"shut down", func(r *rig) { r.leave(); r.arrive() }},
	{"pulled", func(r *rig) { r.pull(); time.Sleep(10 * time.Second); r.plugIn() }},
	{"reset", func(r *rig) { r.board.reset() }},
}

// killed ends the host as SIGKILL does: what is on its disk in that moment is what another
// one knows; how many lines were said since it was written is not, as after a power cut of
// the computer alone. With the power of everything it is the printer's end, too.
func (r *rig) killed(power bool) {
	r.t.Helper()
	disk := r.t.TempDir()
	if err := os.CopyFS(disk, os.DirFS(r.journals)); err != nil {
		r.t.Fatal(err)
	}
	r.cable.Load().deafen(true) // not a word more
	r.pull()
	r.leave()
	if power {
		r.board.reset()
	}
	r.journals = disk
	r.arrive()
}

// whatFollows is where a run stands ten minutes after its host, its cable or its printer has
// ended in each of its stages: its state, "+" where it laid more of its part by itself, and
// the setpoint of the bed.
const whatFollows = `
           killed               power cut            shut down            pulled               reset
preparing  broken 0             broken 0             none 0               broken 0             broken 0
soaking    warming 60           interrupted 60       none 0               warming 60           interrupted 60
warming    finished + 0         interrupted 60       none 0               finished + 0         interrupted 60
drawing    finished + 0         interrupted 60       none 0               finished + 0         interrupted 60
held       held 60              interrupted 60       none 0               held 60              interrupted 60
ending     finished 0           interrupted 0        none 0               finished 0           finished 0
stopping   stopped 0            stopped 0            none 0               stopped 0            stopped 0
tidying    none 0               none 0               none 0               finished 0           finished 0
`

func TestEveryEndIsSurvived(t *testing.T) {
	var got []string
	header := fmt.Sprintf("%-10s", "")
	for _, e := range ends {
		header += fmt.Sprintf(" %-20s", e.name)
	}
	got = append(got, strings.TrimRight(header, " "))
	for _, s := range runStages {
		row := fmt.Sprintf("%-10s", s.name)
		for _, e := range ends {
			cell := ""
			t.Run(s.name+", "+e.name, func(t *testing.T) {
				synctest.Test(t, func(t *testing.T) {
					r := ordered(t, samples.Coupon(6), s.order)
					s.there(r)
					e.do(r)
					time.Sleep(4 * time.Second) // what the planner holds is made
					before := r.board.segments()
					time.Sleep(10 * time.Minute)
					b, err := r.Bench(t.Context())
					if err != nil {
						t.Fatal(err)
					}
					cell = "none"
					r.kept.mu.Lock()
					if b.Run != nil {
						cell = string(b.Run.State)
					} else if runs := r.kept.runs; len(runs) > 0 && runs[len(runs)-1].State == run.Broken {
						cell = "broken"
					}
					r.kept.mu.Unlock()
					if r.board.segments() > before {
						cell += " +"
					}
					setpoint := 0.0
					for _, h := range b.Heat.Heaters {
						if h.Heater == heat.Bed {
							setpoint = h.Setpoint
						}
					}
					cell += fmt.Sprintf(" %g", setpoint)
					r.nothingTwice()
				})
			})
			row += fmt.Sprintf(" %-20s", cell)
		}
		got = append(got, strings.TrimRight(row, " "))
	}
	if all := strings.Join(got, "\n"); all != strings.Trim(whatFollows, "\n") {
		t.Errorf("what follows is\n%s", all)
	}
}

// nothingTwice fails unless the printer was told the file's commands in order, each once.
func (r *rig) nothingTwice() {
	r.t.Helper()
	want := r.files.commands(r.t)
	n := 0
	for _, e := range r.board.executed() {
		if n < len(want) && e.Line == want[n] {
			n++
		} else if strings.HasPrefix(e.Line, "G1 ") && strings.Contains(e.Line, "E") && slices.Contains(want, e.Line) {
			r.t.Errorf("%d commands of %d, and then %q", n, len(want), e.Line)
			return
		}
	}
}

func TestTheEndWaitsForAPrinterThatIsBusy(t *testing.T) {
	for what, c := range map[string]struct {
		line string
		off  bool
		most time.Duration
	}{
		"for half a minute": {"G4 S30", true, 35 * time.Second},
		"for an hour":       {"G4 S3600", false, 65 * time.Second},
	} {
		t.Run(what, func(t *testing.T) {
			synctest.Test(t, func(t *testing.T) {
				r := ordered(t, text("G28\nM104 S200\n"+c.line+"\nM109 S200\nM83\nG1 X20 Y20 Z.3 F3000\nG1 X40 E1\nM104 S0\n"), printing.Order{})
				r.until(time.Minute, func(host.Bench) bool { return r.setpoint() == 200 })
				time.Sleep(2 * time.Second)
				begun := time.Now()
				r.leave()
				if took, off := time.Since(begun), r.setpoint() == 0; off != c.off || took > c.most {
					t.Errorf("the host ended after %s, with heaters off: %t", took, off)
				}
			})
		})
	}
}
