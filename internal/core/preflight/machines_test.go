package preflight_test

import (
	"fmt"
	"slices"
	"strings"
	"testing"

	"diathermon/internal/core/bounds"
	"diathermon/internal/core/preflight"
	"diathermon/internal/core/toolpath"
)

// layer is a square of plastic, in relative filament.
func layer(z, side float64) string {
	return fmt.Sprintf("G1 Z%g F600\nG1 X60 Y60 F6000\nG1 X%g E1 F1800\nG1 Y%g E1\nG1 X60 E1\nG1 Y60 E1\n", z, 60+side, 60+side)
}

const (
	warm   = "M140 S60\nM104 S215\nM190 S60\nM109 S215\nG28\n"
	before = warm + "G90\nM83\n"
	after  = "M104 S0\nM140 S0\n"
)

// many is a file's laying of so many moves, each pushing what e says.
func many(n int, e func(i int) float64) string {
	var b strings.Builder
	b.WriteString("G1 Z0.2 F600\nG1 X20 Y20 F6000\n")
	for i := range n {
		fmt.Fprintf(&b, "G1 X%d Y%d E%.4f F1800\n", 20+100*(i%2), 20+i, e(i))
	}
	return b.String()
}

// What would ruin a machine or a print is seen before it begins, in the machine's own frame,
// whichever way it is written.
func TestWhatWouldRuinAMachineIsSeenBefore(t *testing.T) {
	sum := func(i int) float64 { return 3.6 * float64(i+1) }
	step := func(i int) float64 { return 3.6 + 0.2*float64(i*7%5) }
	for name, c := range map[string]struct {
		file string
		kind preflight.Kind
		want string
	}{
		"G92 Z, then down":               {before + "G1 Z1\nG92 Z10\n" + layer(0.2, 30) + after, preflight.Depth, "Z -8.80"},
		"G92 Z, then down, twice":        {before + "G1 Z1\nG92 Z6\nG1 Z5\nG92 Z9\n" + layer(0.2, 30) + after, preflight.Depth, "Z -8.80"},
		"G92 X Y, then far":              {before + "G1 X180 Y180\nG92 X0 Y0\n" + layer(0.2, 40) + after, preflight.Volume, "X reaches"},
		"G0 below the bed":               {before + "G0 Z-2\n" + layer(0.2, 30) + after, preflight.Depth, "Z -2.00"},
		"below, unhomed":                 {"M109 S215\nG90\nM83\nG0 Z-2\n" + layer(0.2, 30) + after, preflight.Depth, "Z -2.00"},
		"below, relative":                {before + "G1 Z0.2\nG91\nG1 Z-1\nG90\nM83\n" + layer(0.4, 30) + after, preflight.Depth, "Z -0.80"},
		"far, in inches":                 {before + "G20\nG0 X12\nG21\n" + layer(0.2, 30) + after, preflight.Travel, "X 304.8"},
		"far, relative":                  {before + layer(0.2, 30) + "G91\nG0 Y200\nG90\n" + after, preflight.Travel, "Y 260.0"},
		"an arc that bulges out":         {before + "G1 X225 Y60 Z2 F6000\nG3 X225 Y100 I0 J20\n" + layer(0.2, 30) + after, preflight.Travel, "X 245.0"},
		"G10 L2":                         {before + "G10 L2 P1 X150\nG54\n" + layer(0.2, 30) + after, preflight.Volume, "X reaches"},
		"G10 L20":                        {before + "G1 X200\nG10 L20 P2 X0\nG55\n" + layer(0.2, 30) + after, preflight.Volume, "X reaches"},
		"G10 P, a tool's offset":         {before + "G10 P0 Y-100\n" + layer(0.2, 30) + after, preflight.Volume, "Y reaches"},
		"a frame that nobody knows":      {before + "G55\n" + layer(0.2, 30) + after, preflight.Line, "G55 chooses a frame of which only the printer knows"},
		"M206":                           {before + "M206 Z-5\nG28\n" + layer(0.2, 30) + after, preflight.Depth, "below the bed"},
		"M218":                           {before + "M218 T0 X-90\n" + layer(0.2, 30) + after, preflight.Volume, "X reaches"},
		"M428":                           {before + "M428\n" + layer(0.2, 30) + after, preflight.Line, "only the printer knows"},
		"M290":                           {before + "M290 Z-0.9\n" + layer(0.2, 30) + after, preflight.Depth, "below the bed"},
		"G53 behind G92":                 {before + "G1 X100 Y100 Z5\nG92 X0 Y0\nG53\nG0 X-50\n" + layer(0.2, 30) + after, preflight.Travel, "X -50"},
		"G92.1":                          {before + "G1 Z1\nG92 Z9\nG92.1\n" + layer(0.2, 30) + after, preflight.Depth, "below the bed"},
		"flow of a thousand":             {before + "M221 S99999\n" + layer(0.2, 30) + after, preflight.Line, "S99999 of M221"},
		"speed of a thousand":            {before + "M220 S99999\n" + layer(0.2, 30) + after, preflight.Line, "S99999 of M220"},
		"advance":                        {before + "M900 K1000\n" + layer(0.2, 30) + after, preflight.Line, "K1000 of M900"},
		"a thread's diameter":            {before + "M200 D0.1\n" + layer(0.2, 30) + after, preflight.Line, "D0.1 of M200"},
		"retraction of a metre":          {before + "M207 S1000\n" + layer(0.2, 30) + after, preflight.Line, "S1000 of M207"},
		"M203 of nothing":                {before + "M203 X0 Y0\n" + layer(0.2, 30) + after, preflight.Line, "X0 of M203"},
		"M203 of 30,000":                 {before + "M203 X30000 Y30000\n" + layer(0.2, 30) + after, preflight.Line, "30000 mm/s"},
		"M204 of nothing":                {before + "M204 P0\n" + layer(0.2, 30) + after, preflight.Line, "P0 of M204"},
		"not waited for":                 {"M104 S215\nG28\nG90\nM83\n" + layer(0.2, 30) + after, preflight.Odd, "without waiting"},
		"absolute as relative":           {before + many(60, sum) + after, preflight.Odd, "far more filament"},
		"relative as absolute":           {warm + "G90\nM82\n" + many(60, step) + after, preflight.Odd, "E goes up and down"},
		"modes mixed after G91":          {before + layer(0.2, 30) + "G91\nG1 Z0.2\nG90\n" + many(60, step) + after, preflight.Odd, "which firmwares do differently"},
		"flow that nothing melts":        {before + "G1 Z0.2 F600\nG1 X20 Y20 F6000\nG1 X120 E25 F6000\n" + layer(0.4, 30) + after, preflight.Flow, "60 mm³"},
		"a pin":                          {before + "M42 P10 S255\n" + layer(0.2, 30) + after, preflight.Pin, "pin 10"},
		"a pin, protected or not":        {before + "M42 P10 S255 I\n" + layer(0.2, 30) + after, preflight.Line, "even where the firmware protects"},
		"an arc that cannot be":          {before + "G1 X20 Y20 Z2 F6000\nG2 X120 Y20 R20 E2\n" + layer(2, 30) + after, preflight.Line, "radius is too small"},
		"an arc that misses its end":     {before + "G1 X20 Y20 Z2 F6000\nG2 X120 Y20 I10 J0 E2\n" + layer(2, 30) + after, preflight.Line, "does not end on the circle"},
		"a setpoint for a tool not here": {before + "M104 T3 S200\n" + layer(0.2, 30) + after, preflight.Tool, "nozzle3"},
	} {
		f := good()
		var err error
		if f.File, err = toolpath.Read(strings.NewReader(c.file), toolpath.Options{}); err != nil {
			t.Errorf("%s: %v", name, err)
			continue
		}
		checks := preflight.Look(f).Checks
		if !slices.ContainsFunc(checks, func(x preflight.Check) bool {
			return x.Kind == c.kind && x.Level != bounds.Note && strings.Contains(x.Title, c.want)
		}) {
			t.Errorf("%s: %+v, want %s with %q", name, checks, c.kind, c.want)
		}
		for _, x := range checks {
			if (x.Kind == preflight.Depth || x.Kind == preflight.Volume) && x.Overrule {
				t.Errorf("%s: %q can be overruled", name, x.Title)
			}
		}
	}
}

// Sound files start, however they begin and end.
func TestSoundFilesAreNotRefused(t *testing.T) {
	step := func(i int) float64 { return 3.6 + 0.2*float64(i%5) }
	total := 0.0
	sum := func(i int) float64 { total += step(i); return total }
	for name, file := range map[string]string{
		"relative":               before + layer(0.2, 100) + layer(0.4, 100) + after,
		"absolute":               warm + "G90\nM82\nG92 E0\n" + many(80, sum) + "G92 E0\nG91\nG1 E-2 F2700\nG1 E-2 Z0.2 F2400\nG1 X5 Y5 F3000\nG1 Z10\nG90\nG1 X0 Y220\nM84\n" + after,
		"a byte-order mark":      "\xef\xbb\xbf" + before + layer(0.2, 100) + after,
		"a mark before a remark": "\xef\xbb\xbf; made by hand\n" + before + layer(0.2, 100) + after,
		"lifted before homing":   warm[:len(warm)-len("G28\n")] + "G91\nG1 Z5 F600\nG90\nG28\nM83\n" + layer(0.2, 100) + after,
		"a priming line":         before + "G1 X2 Y20 Z0.3 F5000\nG1 Y200 E15 F1500\nG1 X2.4\nG1 Y20 E15\nG92 E0\n" + layer(0.2, 100) + after,
		"by M116":                "M104 S215\nM140 S60\nM116\nG28\nG90\nM83\n" + layer(0.2, 100) + after,
		"with usual factors":     before + "M220 S100\nM221 S95\nM900 K0.05\nM201 X3000 Y3000 Z100 E5000\nM203 X300 Y300 Z12 E60\nM204 P1500 R3000 T2000\nM205 X8 Y8 Z0.4 E5\nM205 J0.02\nM572 D0 S0.04\n" + layer(0.2, 100) + after,
		"arcs":                   before + "G1 X20 Y20 Z0.2 F6000\nG2 X40 Y40 R20 E2 F1800\nG3 X60 Y20 I0 J-20 E3\n" + layer(0.2, 100) + after,
		"firmware retraction":    before + layer(0.2, 60) + "G10\nG0 X20 Y20\nG11\nG10 S1\nG11\n" + layer(0.4, 60) + after,
		"wiped":                  before + many(40, step) + "G1 X22 Y22 E-0.3\nG1 X23 E-0.3\nG1 E-1\n" + after,
		"a tool's setpoint":      before + "G10 P0 S215 R180\n" + layer(0.2, 60) + after,
	} {
		f := good()
		var err error
		if f.File, err = toolpath.Read(strings.NewReader(file), toolpath.Options{}); err != nil {
			t.Errorf("%s: %v", name, err)
			continue
		}
		if blocks, _ := preflight.Look(f).Blocks(); len(blocks) > 0 {
			t.Errorf("%s: %+v", name, blocks)
		}
	}
}
