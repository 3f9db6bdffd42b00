package rehearsal_test

import (
	"bytes"
	"context"
	"strings"
	"testing"
	"time"

	"diathermon/internal/core/heat"
	"diathermon/internal/core/machine"
	"diathermon/internal/core/motion"
	"diathermon/internal/core/toolpath"
	"diathermon/internal/rehearsal"
	"diathermon/internal/samples"
)

var began = time.Date(2026, 3, 1, 20, 0, 0, 0, time.UTC)

// vesper is the observatory's printer, of which nothing has been learned.
func vesper() rehearsal.Printer {
	return rehearsal.Printer{
		Machine: machine.Printer{Name: "Vesper", Width: 230, Depth: 230, Height: 240, Tools: 1, Limits: heat.Limits{Nozzle: 285, Bed: 110}, Nozzle: 0.4, Filament: 1.75, Density: 1.24},
		Motion:  motion.Ordinary, Baud: 115200,
	}
}

// play rehearses a text.
func play(t *testing.T, p rehearsal.Printer, text string) rehearsal.Report {
	t.Helper()
	facts, err := toolpath.Scan(strings.NewReader(text), toolpath.Options{Limits: p.Motion})
	if err != nil {
		t.Fatal(err)
	}
	begun := time.Now()
	r, err := rehearsal.Play(context.Background(), strings.NewReader(text), toolpath.File{Size: int64(len(text)), Summary: facts}, p, began, func(rehearsal.Progress) {})
	if err != nil {
		t.Fatal(err)
	}
	t.Logf("%d commands, %s of the printer's in %s", r.Commands, r.Took, time.Since(begun))
	return r
}

func TestTheSamples(t *testing.T) {
	for _, part := range samples.Parts() {
		var b bytes.Buffer
		part.Write(&b)
		facts, _ := toolpath.Scan(bytes.NewReader(b.Bytes()), toolpath.Options{Limits: motion.Ordinary})
		r := play(t, vesper(), b.String())
		t.Logf("%s: moves %s; took %s, laying %s, %+v, homing %s, dwelling %s, starved %s, %d spans", part.Name, facts.Duration, r.Took, r.Laying, r.States, r.Homing, r.Dwelling, r.Starved, len(r.Heat[heat.Bed]))
		for _, f := range r.Problems {
			t.Log(f)
		}
		for _, a := range r.Alarms {
			t.Log(a)
		}
	}
}
