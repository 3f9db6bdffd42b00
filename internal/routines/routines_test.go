package routines_test

import (
	"errors"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"diathermon/internal/core/heat"
	"diathermon/internal/core/routine"
	"diathermon/internal/routines"
)

var vesper = routine.Machine{Size: [3]float64{230, 230, 240}, Heaters: []heat.Heater{heat.Nozzle, heat.Bed}, Limits: heat.Limits{Nozzle: 285, Bed: 110}, Outputs: []string{"part fan", "light"}}

func open(t *testing.T, dir string) *routines.Routines {
	t.Helper()
	r, err := routines.Open(dir)
	if err != nil {
		t.Fatal(err)
	}
	return r
}

func TestWhatComesWithTheHostIsSound(t *testing.T) {
	r := open(t, t.TempDir())
	small := routine.Machine{Size: [3]float64{120, 120, 120}, Heaters: []heat.Heater{heat.Nozzle}, Limits: heat.Limits{Nozzle: 240}}
	for _, e := range r.List() {
		read, facts, err := r.Check(e.Text, vesper)
		if err != nil || read.Name != e.Name || read.About == "" || !e.Ready || e.Own {
			t.Errorf("%s: %v", e.Name, err)
			continue
		}
		for h, most := range facts.Heats {
			if most > vesper.Limits.Of(h) {
				t.Errorf("%s heats %s to %g °C", e.Name, h, most)
			}
		}
		if _, _, err := r.Check(e.Text, small); (err != nil) != (e.Name == "Level the bed" || e.Name == "Light") {
			t.Errorf("%s on a small printer without bed heater and light: %v", e.Name, err)
		}
	}
	if n := len(r.List()); n < 12 {
		t.Errorf("%d come with the host", n)
	}
}

func TestWhatIsStoredIsWhatWasUnderstood(t *testing.T) {
	dir := t.TempDir()
	r := open(t, dir)
	mine := "language 1\nroutine \"Light\"\nsafe heaters off\ndo\n> M400\nend\n"
	if e, replaced, err := r.Store("Light", mine, vesper); err != nil || !replaced || !e.Own || !e.Ready {
		t.Fatalf("%+v, %v", e, err)
	}
	for name, text := range map[string]string{"Other": mine, "light": strings.Replace(mine, "Light", "light", 1)} {
		if _, _, err := r.Store(name, text, vesper); !errors.Is(err, routines.ErrName) {
			t.Errorf("%s: %v", name, err)
		}
	}
	if _, _, err := r.Store("Hot", strings.Replace(strings.Replace(mine, "Light", "Hot", 1), "> M400", "heat nozzle0 to 400", 1), vesper); err == nil || !strings.Contains(err.Error(), "line 5") {
		t.Errorf("one that is not sound: %v", err)
	}
	newer := "language 7\nroutine \"Later\"\nmirror everything\n"
	if err := os.WriteFile(filepath.Join(dir, "Later.routine"), []byte(newer), 0o600); err != nil {
		t.Fatal(err)
	}
	r = open(t, dir)
	if e, err := r.Entry("Light"); err != nil || e.Text != mine {
		t.Errorf("after a restart: %+v, %v", e, err)
	}
	if e, err := r.Entry("Later"); err != nil || !errors.Is(e.Err, routine.ErrNewer) || e.Text != newer {
		t.Errorf("a newer host's: %+v, %v", e, err)
	}
	if _, err := r.Routine("Later"); !errors.Is(err, routine.ErrNewer) {
		t.Errorf("a newer host's, performed: %v", err)
	}
	if err := r.Remove("Light"); err != nil {
		t.Fatal(err)
	}
	if e, _ := r.Entry("Light"); e.Own || e.Text == mine {
		t.Errorf("what comes with the host is not there again: %+v", e)
	}
	if err := errors.Join(r.Remove("Light")); !errors.Is(err, routines.ErrReady) {
		t.Errorf("removed twice: %v", err)
	}
	if err := r.Remove("Nothing"); !errors.Is(err, routines.ErrMissing) {
		t.Errorf("nothing removed: %v", err)
	}
}
