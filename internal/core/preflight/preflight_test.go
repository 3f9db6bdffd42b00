package preflight_test

import (
	"errors"
	"slices"
	"strings"
	"testing"
	"time"

	"diathermon/internal/core/bed"
	"diathermon/internal/core/bounds"
	"diathermon/internal/core/heat"
	"diathermon/internal/core/machine"
	"diathermon/internal/core/preflight"
	"diathermon/internal/core/stock"
	"diathermon/internal/core/toolpath"
)

// good are facts that nothing is the matter with.
func good() preflight.Facts {
	return preflight.Facts{
		Printer:  machine.Printer{Width: 230, Depth: 230, Height: 240, Tools: 1, Limits: heat.Limits{Nozzle: 285, Bed: 110}},
		LinkLive: true, Bed: bed.Bed{State: bed.Clear}, Slots: []stock.Slot{{Loaded: true, Material: "PLA"}}, Around: preflight.Around{Free: -1},
		File: toolpath.Summary{
			Version: toolpath.Version, Tools: 1, ByTool: []float64{812}, Setpoints: map[heat.Heater]float64{heat.Nozzle: 215, heat.Bed: 60},
			Extent: toolpath.Box{Min: [3]float64{5, 5, 0.2}, Max: [3]float64{200, 200, 40}},
		},
	}
}

func found(l bounds.Level, line, count int) toolpath.Finding {
	return toolpath.Finding{Finding: bounds.Finding{Level: l, Title: "it is odd", Do: "look at it"}, Line: line, Count: count}
}

func TestEachCheckFindsItsOwn(t *testing.T) {
	if got := preflight.Look(good()).Checks; len(got) != 0 {
		t.Fatalf("found %+v where nothing is the matter", got)
	}
	for name, c := range map[string]struct {
		change func(*preflight.Facts)
		level  preflight.Level
		want   string
		kind   preflight.Kind
	}{
		"unsurveyed":   {func(f *preflight.Facts) { f.File.Version = 0 }, preflight.Block, "has not been worked out", preflight.Survey},
		"trouble":      {func(f *preflight.Facts) { f.File.Trouble = "line 7: odd" }, preflight.Block, "line 7: odd", preflight.File},
		"other nozzle": {func(f *preflight.Facts) { f.Printer.Nozzle, f.File.Hints.Nozzle = 0.4, 0.6 }, preflight.Warn, "nozzle of 0.6 mm", preflight.Nozzle},
		"thick":        {func(f *preflight.Facts) { f.Printer.Filament, f.File.Hints.Filament = 1.75, 2.85 }, preflight.Warn, "filament of 2.85 mm", preflight.Filament},
		"travels out": {func(f *preflight.Facts) {
			f.File.Reach.Max, f.File.Reach.MaxLine = [3]float64{244, 0, 0}, [3]int{12, 0, 0}
		}, preflight.Block, "line 12: it moves to X 244.0", preflight.Travel},
		"below the bed": {func(f *preflight.Facts) {
			f.File.Reach.Min, f.File.Reach.MinLine = [3]float64{0, 0, -0.3}, [3]int{0, 0, 9}
		}, preflight.Block, "line 9: the nozzle goes to Z -0.30 mm, which is below the bed", preflight.Depth},
		"a frame that was moved": {func(f *preflight.Facts) { f.At.Frame.Least[0], f.At.Frame.Most[0] = -5, 5 }, preflight.Block, "moved the printer's frame", preflight.Frame},
		"not homed, and moved":   {func(f *preflight.Facts) { f.At.Shift[2], f.File.Unhomed[2] = 9, true }, preflight.Block, "does not home Z first, and G92 has moved it by 9.0 mm", preflight.Frame},
		"no hot end melts it":    {func(f *preflight.Facts) { f.Printer.Filament, f.File.Melts = 1.75, 25 }, preflight.Block, "60 mm³ of plastic a second", preflight.Flow},
		"few hot ends melt it":   {func(f *preflight.Facts) { f.Printer.Filament, f.File.Melts = 1.75, 15 }, preflight.Warn, "36 mm³ of plastic a second", preflight.Flow},
		"a pin":                  {func(f *preflight.Facts) { f.File.Pins = []toolpath.Pin{{Number: 4, Line: 3}} }, preflight.Block, "line 3 switches pin 4", preflight.Pin},
		"another tool's heater":  {func(f *preflight.Facts) { f.File.Setpoints[heat.NozzleOf(3)] = 200 }, preflight.Block, "nozzle3 a setpoint, and this printer has 1 tool", preflight.Tool},
		"an odd line": {func(f *preflight.Facts) {
			f.File.Findings = []toolpath.Finding{{Finding: bounds.Finding{Level: bounds.Block, Title: "it is odd", Do: "look", Overrule: true}, Line: 7, Count: 1}}
		}, preflight.Block, "line 7: it is odd", preflight.Odd},
		"no printer":      {func(f *preflight.Facts) { f.LinkLive, f.LinkWhy = false, "unplugged" }, preflight.Block, "not answering", preflight.Link},
		"busy":            {func(f *preflight.Facts) { f.Busy = "knob.gcode" }, preflight.Block, "knob.gcode is not done yet", preflight.Busy},
		"too hot":         {func(f *preflight.Facts) { f.File.Setpoints[heat.Nozzle] = 290 }, preflight.Block, "limit of 285 °C", preflight.Setpoint},
		"chamber":         {func(f *preflight.Facts) { f.File.Setpoints[heat.Chamber] = 40 }, preflight.Block, "no heated chamber", preflight.Setpoint},
		"second tool":     {func(f *preflight.Facts) { f.File.Tools = 2 }, preflight.Block, "tool 1, which is the second, and this printer has 1 tool", preflight.Tool},
		"too wide":        {func(f *preflight.Facts) { f.File.Extent.Max[0] = 231 }, preflight.Block, "X reaches", preflight.Volume},
		"off the bed":     {func(f *preflight.Facts) { f.File.Extent.Min[1] = -3 }, preflight.Block, "Y reaches", preflight.Volume},
		"too high":        {func(f *preflight.Facts) { f.File.Extent.Max[2] = 260 }, preflight.Block, "Z reaches", preflight.Volume},
		"no plastic":      {func(f *preflight.Facts) { f.File.Extent = toolpath.Box{Empty: true} }, preflight.Warn, "no plastic", preflight.Plastic},
		"extended line":   {func(f *preflight.Facts) { f.File.Findings = []toolpath.Finding{found(bounds.Note, 3, 2)} }, preflight.Note, "line 3 and 1 more: it is odd", preflight.Line},
		"unread line":     {func(f *preflight.Facts) { f.File.Findings = []toolpath.Finding{found(bounds.Block, 7, 1)} }, preflight.Block, "line 7: it is odd", preflight.Line},
		"part left":       {func(f *preflight.Facts) { f.Bed = bed.Bed{State: bed.Occupied, Why: "cap.gcode was printed on it"} }, preflight.Block, "occupied: cap.gcode", preflight.Bed},
		"first print":     {func(f *preflight.Facts) { f.Bed = bed.New(time.Time{}) }, preflight.Block, "not known whether the bed is clear", preflight.Bed},
		"empty slot":      {func(f *preflight.Facts) { f.Slots[0] = stock.Slot{} }, preflight.Note, "loaded in the printer", preflight.Slot},
		"other plastic":   {func(f *preflight.Facts) { f.File.Hints.Material, f.Slots[0].Material = "PETG", "ABS" }, preflight.Block, "it is for PETG, and ABS", preflight.Material},
		"too hot for it":  {func(f *preflight.Facts) { f.Slots[0].Coldest, f.Slots[0].Hottest = 190, 210 }, preflight.Block, "sets the nozzle to 215 °C, and the PLA in the printer takes 190 to 210", preflight.Material},
		"too cold for it": {func(f *preflight.Facts) { f.Slots[0].Coldest, f.Slots[0].Hottest = 230, 250 }, preflight.Block, "takes 230 to 250", preflight.Material},
		"thin reel":       {func(f *preflight.Facts) { f.Slots[0].Diameter, f.File.Hints.Filament = 1.75, 2.85 }, preflight.Block, "that in the printer has 1.75 mm", preflight.Filament},
		"no reading":      {func(f *preflight.Facts) { f.Unread = []heat.Heater{heat.Bed, heat.Chamber} }, preflight.Warn, "no temperature of bed", preflight.Sensor},
		"little room":     {func(f *preflight.Facts) { f.Around.Free = 200 << 20 }, preflight.Warn, "200 MB left", preflight.Disk},
		"no room":         {func(f *preflight.Facts) { f.Around.Free = 1 << 20 }, preflight.Block, "only 1 MB left", preflight.Disk},
		"no database":     {func(f *preflight.Facts) { f.Around.Database = "refused" }, preflight.Note, "which wait on disk: refused", preflight.Database},
		"wrong clock":     {func(f *preflight.Facts) { f.Around.Clock = "it is 1970" }, preflight.Warn, "it is 1970", preflight.Clock},
		"no guard":        {func(f *preflight.Facts) { f.Around.Unguarded = true }, preflight.Note, "no guard looks", preflight.Guards},
		"sleepy":          {func(f *preflight.Facts) { f.Sleepy = "no bus" }, preflight.Note, "no bus", preflight.Sleep},
		"hidden heat":     {func(f *preflight.Facts) { f.File.Hidden, f.File.HiddenLine = 290, 4 }, preflight.Block, "line 4", preflight.Named},
	} {
		f := good()
		c.change(&f)
		got := preflight.Look(f).Checks
		if len(got) != 1 || got[0].Level != c.level || got[0].Kind != c.kind || !strings.Contains(got[0].Title, c.want) || got[0].Do == "" {
			t.Errorf("%s: %+v, want one %s of %s with %q", name, got, c.level, c.kind, c.want)
		}
	}
	f := good()
	f.File.Findings, f.LinkLive = []toolpath.Finding{found(bounds.Note, 3, 1)}, false
	if got := preflight.Look(f).Checks; len(got) != 2 || got[0].Level != preflight.Block {
		t.Errorf("blocks come first: %+v", got)
	}
}

func TestWhatIsAsExpectedIsSaid(t *testing.T) {
	var fine []preflight.Kind
	for _, f := range preflight.Look(good()).Fine {
		fine = append(fine, f.Kind)
	}
	want := []preflight.Kind{preflight.Link, preflight.Bed, preflight.Setpoint, preflight.Volume, preflight.Material, preflight.Line, preflight.Guards}
	if !slices.Equal(fine, want) {
		t.Errorf("fine are %v, want %v", fine, want)
	}
}

func TestOnlyWhatIsNotDangerousIsOverruled(t *testing.T) {
	f := good()
	f.File.Hints.Material, f.Slots[0].Material, f.Bed.State = "PETG", "ABS", bed.Occupied
	r := preflight.Look(f)
	if blocks, passing := r.Blocks(); len(blocks) != 2 || !passing {
		t.Fatalf("blocks are %+v", blocks)
	}
	left, kept, err := r.Overrule(map[preflight.Kind]string{preflight.Material: " it sticks all the same ", preflight.Volume: "nothing"}, "Ilse")
	if blocks, _ := left.Blocks(); err != nil || len(blocks) != 1 || blocks[0].Kind != preflight.Bed || len(kept) != 1 || kept[0].Why != "it sticks all the same" || kept[0].By != "Ilse" || !strings.Contains(kept[0].Title, "PETG") {
		t.Errorf("left %+v, kept %+v, %v", left.Checks, kept, err)
	}
	if _, _, err := r.Overrule(map[preflight.Kind]string{preflight.Bed: "I know"}, "Ilse"); !errors.Is(err, preflight.ErrDanger) {
		t.Errorf("an occupied bed is overruled: %v", err)
	}
	if _, _, err := r.Overrule(map[preflight.Kind]string{preflight.Material: " "}, "Ilse"); !errors.Is(err, preflight.ErrWhy) {
		t.Errorf("without a word why: %v", err)
	}
	if r.Unseen([]preflight.Kind{preflight.Material, preflight.Bed}) || !r.Unseen([]preflight.Kind{preflight.Material}) {
		t.Error("what was seen is not told from what was not")
	}
	f.File.Extent.Max[0] = 300
	if _, passing := preflight.Look(f).Blocks(); passing {
		t.Error("a part that does not fit passes by waiting")
	}
}
