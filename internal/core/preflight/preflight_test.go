package preflight_test

import (
	"strings"
	"testing"

	"diathermon/internal/core/bounds"
	"diathermon/internal/core/heat"
	"diathermon/internal/core/machine"
	"diathermon/internal/core/preflight"
	"diathermon/internal/core/toolpath"
)

// good are facts that nothing is the matter with.
func good() preflight.Facts {
	return preflight.Facts{
		Printer:  machine.Printer{Width: 230, Depth: 230, Height: 240, Tools: 1, Limits: heat.Limits{Nozzle: 285, Bed: 110}},
		LinkLive: true,
		File: toolpath.Summary{
			Version: toolpath.Version, Tools: 1, Setpoints: map[heat.Heater]float64{heat.Nozzle: 215, heat.Bed: 60},
			Extent: toolpath.Box{Min: [3]float64{5, 5, 0.2}, Max: [3]float64{200, 200, 40}},
		},
	}
}

func found(l bounds.Level, line, count int) toolpath.Finding {
	return toolpath.Finding{Finding: bounds.Finding{Level: l, Title: "it is odd", Do: "look at it"}, Line: line, Count: count}
}

func TestEachCheckFindsItsOwn(t *testing.T) {
	if got := preflight.Checks(good()); len(got) != 0 {
		t.Fatalf("found %+v where nothing is the matter", got)
	}
	for name, c := range map[string]struct {
		change func(*preflight.Facts)
		level  preflight.Level
		want   string
	}{
		"unsurveyed":   {func(f *preflight.Facts) { f.File.Version = 0 }, preflight.Block, "has not been worked out"},
		"trouble":      {func(f *preflight.Facts) { f.File.Trouble = "line 7: odd" }, preflight.Block, "line 7: odd"},
		"other nozzle": {func(f *preflight.Facts) { f.Printer.Nozzle, f.File.Hints.Nozzle = 0.4, 0.6 }, preflight.Warn, "nozzle of 0.6 mm"},
		"thick":        {func(f *preflight.Facts) { f.Printer.Filament, f.File.Hints.Filament = 1.75, 2.85 }, preflight.Warn, "filament of 2.85 mm"},
		"travels out": {func(f *preflight.Facts) {
			f.File.Reach.Max, f.File.Reach.MaxLine = [3]float64{244, 0, 0}, [3]int{12, 0, 0}
		}, preflight.Warn, "line 12: it moves to X 244.0"},
		"no printer":    {func(f *preflight.Facts) { f.LinkLive, f.LinkWhy = false, "unplugged" }, preflight.Block, "not answering"},
		"busy":          {func(f *preflight.Facts) { f.Busy = "knob.gcode" }, preflight.Block, "knob.gcode is not done yet"},
		"too hot":       {func(f *preflight.Facts) { f.File.Setpoints[heat.Nozzle] = 290 }, preflight.Block, "limit of 285 °C"},
		"chamber":       {func(f *preflight.Facts) { f.File.Setpoints[heat.Chamber] = 40 }, preflight.Block, "no heated chamber"},
		"second tool":   {func(f *preflight.Facts) { f.File.Tools = 2 }, preflight.Block, "tool 1, which is the second, and this printer has 1 tool"},
		"too wide":      {func(f *preflight.Facts) { f.File.Extent.Max[0] = 231 }, preflight.Block, "X reaches"},
		"off the bed":   {func(f *preflight.Facts) { f.File.Extent.Min[1] = -3 }, preflight.Block, "Y reaches"},
		"too high":      {func(f *preflight.Facts) { f.File.Extent.Max[2] = 260 }, preflight.Block, "Z reaches"},
		"no plastic":    {func(f *preflight.Facts) { f.File.Extent = toolpath.Box{Empty: true} }, preflight.Warn, "no plastic"},
		"extended line": {func(f *preflight.Facts) { f.File.Findings = []toolpath.Finding{found(bounds.Note, 3, 2)} }, preflight.Note, "line 3 and 1 more: it is odd"},
		"unread line":   {func(f *preflight.Facts) { f.File.Findings = []toolpath.Finding{found(bounds.Block, 7, 1)} }, preflight.Block, "line 7: it is odd"},
		"hidden heat":   {func(f *preflight.Facts) { f.File.Hidden, f.File.HiddenLine = 290, 4 }, preflight.Block, "line 4"},
	} {
		f := good()
		c.change(&f)
		got := preflight.Checks(f)
		if len(got) != 1 || got[0].Level != c.level || !strings.Contains(got[0].Title, c.want) || got[0].Do == "" {
			t.Errorf("%s: %+v, want one %s with %q", name, got, c.level, c.want)
		}
	}
	f := good()
	f.File.Findings, f.LinkLive = []toolpath.Finding{found(bounds.Note, 3, 1)}, false
	if got := preflight.Checks(f); len(got) != 2 || got[0].Level != preflight.Block {
		t.Errorf("blocks come first: %+v", got)
	}
}
