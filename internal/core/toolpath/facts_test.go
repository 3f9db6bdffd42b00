package toolpath_test

import (
	"fmt"
	"math"
	"reflect"
	"strings"
	"testing"

	"diathermon/internal/core/heat"
	"diathermon/internal/core/motion"
	"diathermon/internal/core/toolpath"
)

// read is a program's summary.
func read(t *testing.T, program string) toolpath.Summary {
	t.Helper()
	s, err := toolpath.Read(strings.NewReader(program), toolpath.Options{Limits: motion.Ordinary})
	if err != nil {
		t.Fatalf("%v in\n%s", err, program)
	}
	return s
}

// square draws one at a height, M83 in force.
func square(z float64, x int) string {
	return fmt.Sprintf("G1 Z%.2f F600\nG1 X%d Y50 F3000\nG1 X%d E1\nG1 Y70 E1\nG1 X%d E1\nG1 Y50 E1\n", z, x, x+20, x)
}

const begin = "G28\nM109 S210\nM83\n"
const end = "G1 E-1\nG1 Z50\nM104 S0\n"

func TestLayersAreFoundHoweverTheyAreDrawn(t *testing.T) {
	var tower, hops, interleaved, objects, spiral, tilted strings.Builder
	for _, b := range []*strings.Builder{&tower, &hops, &interleaved, &objects, &spiral, &tilted} {
		b.WriteString(begin)
	}
	for i := range 10 {
		z := 0.2 * float64(i+1)
		tower.WriteString(square(z, 50))
		hops.WriteString(square(z, 50) + fmt.Sprintf("G1 Z%.2f\nG0 X90 Y90\nG1 Z%.2f\n", z+0.6, z) + square(z, 90))
		interleaved.WriteString(square(z+0.1, 50) + square(z, 90))
	}
	for object := range 3 {
		for i := range 10 {
			objects.WriteString(square(0.2*float64(i+1), 20+50*object))
		}
	}
	for i := range 4 { // a floor, then walls whose Z rises all along
		spiral.WriteString(square(0.2*float64(i+1), 50))
	}
	for i := range 36 * 20 {
		a := float64(i) * math.Pi / 18
		fmt.Fprintf(&spiral, "G1 X%.3f Y%.3f Z%.4f E.1 F1800\n", 60+9*math.Cos(a), 60+9*math.Sin(a), 0.8+0.2*float64(i)/36)
	}
	for i := range 20 { // each layer's strokes go up and down
		for k := range 8 {
			fmt.Fprintf(&tilted, "G1 X%d Y%d Z%.2f E.3 F1800\n", 40+k%2*30, 40+k*4, 0.2*float64(i+1)+0.1*float64(k%2))
		}
	}
	for name, c := range map[string]struct {
		program     string
		least, most int
	}{
		"one above the other":      {tower.String(), 10, 10},
		"lifted between":           {hops.String(), 10, 10},
		"two heights in turn":      {interleaved.String(), 10, 11},
		"one object after another": {objects.String(), 30, 30},
		"a spiral":                 {spiral.String(), 23, 25},
		"tilted":                   {tilted.String(), 15, 25},
	} {
		s := read(t, c.program+end)
		if s.Layers < c.least || s.Layers > c.most {
			t.Errorf("%s: %d layers, want %d to %d", name, s.Layers, c.least, c.most)
		}
		for i := 1; i < len(s.Marks); i++ {
			if a, b := s.Marks[i-1], s.Marks[i]; b.Command <= a.Command || b.Seconds < a.Seconds || b.Filament < a.Filament-1e-6 {
				t.Errorf("%s: layer %d is %+v behind %+v", name, i+1, b, a)
			}
		}
		if name != "tilted" && name != "two heights in turn" && math.Abs(s.LayerSteps-0.2) > 0.001 {
			t.Errorf("%s: its layers are %g mm apart", name, s.LayerSteps)
		}
	}
}

func TestWhatAFileIs(t *testing.T) {
	s := read(t, begin+"M106 S64\n"+square(0.2, 50)+"M106 S255\nT1\nM104 S230\n"+square(0.4, 50)+"G1 X10 E5 F1200\n"+"G0 X200 Y200\n"+end)
	if len(s.ByTool) != 2 || s.ByTool[0] != 4 || s.ByTool[1] != 4+5-1 || s.Tools != 2 {
		t.Errorf("its tools push %v", s.ByTool)
	}
	if s.Fan != 1 || s.Fastest != 50 || math.Abs(s.Flow-5*20/40.0) > 0.01 {
		t.Errorf("fan %g, %g mm/s, %g mm of filament a second", s.Fan, s.Fastest, s.Flow)
	}
	if len(s.Features) != 2 || s.Features[0].Height != 0.2 || s.Features[0].Speed != 20 || s.Features[0].Length != 40 || s.Features[1].Length != 160 {
		t.Errorf("features %+v", s.Features)
	}
	if spent := s.Spent; len(spent) != 2 || spent[0] <= 2 || spent[1] <= spent[0] || math.Abs(spent[0]+spent[1]-s.Duration.Seconds()) > 0.001 {
		t.Errorf("its tools are in use for %v of %s", spent, s.Duration)
	}
	seconds := s.Travelling.Seconds()
	for _, f := range s.Features {
		seconds += f.Seconds
	}
	if math.Abs(seconds-s.Duration.Seconds()) > 0.001 {
		t.Errorf("its parts take %g s and all of it %s", seconds, s.Duration)
	}
	for _, f := range s.Features {
		if f.Seconds < f.Length/f.Speed || f.Seconds > 2*f.Length/f.Speed {
			t.Errorf("%g mm at %g mm/s take %g s", f.Length, f.Speed, f.Seconds)
		}
	}
	if len(s.Given) != 3 || s.Given[1].Heater != heat.NozzleOf(1) || s.Given[1].Layer != 1 || s.Given[1].Setpoint != 230 || s.Given[2].Setpoint != 0 {
		t.Errorf("setpoints %+v", s.Given)
	}
	if s.Reach.Max[0] != 200 || s.Reach.MaxLine[0] == 0 || s.Part.Min[0] != 10 || s.Part.Max[2] != 0.4 {
		t.Errorf("it reaches %+v, its part %+v", s.Reach, s.Part)
	}
}

func TestCommentsAreHints(t *testing.T) {
	s := read(t, "; filament_type = PETG;PETG\n;Nozzle diameter: 0.6,0.6\n; printer_model = Vesper\n; filament_diameter = 2.85\n; a word: odd\n;=\n;nozzle_diameter = 99\n"+begin+square(0.2, 50)+end)
	if h := s.Hints; !reflect.DeepEqual(h, toolpath.Hints{Material: "PETG", Printer: "Vesper", Nozzle: 0.6, Filament: 2.85, Materials: []string{"PETG", "PETG"}}) {
		t.Errorf("hints %+v", h)
	}
	bare := read(t, begin+square(0.2, 50)+end)
	if s.Duration != bare.Duration || s.Filament != bare.Filament || !reflect.DeepEqual(bare.Hints, toolpath.Hints{}) {
		t.Error("what is computed goes by comments")
	}
}

func TestFindingsSayWhereTheyAre(t *testing.T) {
	for name, c := range map[string]struct {
		program, level, want string
		line                 int
	}{
		"nothing heats":       {"G28\nM83\n" + square(0.2, 50), "warn", "has not heated nozzle0", 5},
		"too cold":            {"G28\nM104 S60\nM83\n" + square(0.2, 50), "block", "60 °C, which is too cold", 6},
		"cooled in between":   {begin + square(0.2, 50) + "M104 S0\n" + square(0.4, 50), "block", "0 °C, which is too cold", 13},
		"not homed":           {"M104 S210\nM83\n" + square(0.2, 50) + end, "warn", "moves Z to a place before it has homed it", 3},
		"left on":             {begin + square(0.2, 50) + "G1 Z50\n", "warn", "leaves nozzle0 at 210 °C", 10},
		"cut at a line's end": {begin + square(0.2, 50), "warn", "ends while it lays plastic and leaves nozzle0", 9},
		"cut inside a line":   {begin + square(0.2, 50) + "G1 X", "block", "ends inside a line and leaves nozzle0 at 210 °C: it was cut short", 10},
		"unknown":             {begin + "M4711 S1\n" + square(0.2, 50) + end, "note", "M4711 is a command that this host does not know", 4},
	} {
		s := read(t, c.program)
		found := false
		for _, f := range s.Findings {
			found = found || string(f.Level) == c.level && strings.Contains(f.Title, c.want) && f.Line == c.line
		}
		if !found {
			t.Errorf("%s: found %+v", name, s.Findings)
		}
	}
	if s := read(t, begin+square(0.2, 50)+end+"; no line end"); len(s.Findings) != 0 {
		t.Errorf("a sound file: %+v", s.Findings)
	}
}

func TestFilesForOtherThingsAreRefused(t *testing.T) {
	tar := make([]byte, 512)
	copy(tar[257:], "ustar")
	for want, body := range map[string]string{
		"mill or a cutter":   "G21\nG90\nG0 Z5\nM3 S12000\nG1 Z-1 F100\nG1 X50 F400\nM5\n",
		"tar archive":        string(tar),
		"bzip2":              "BZh91AY&SY",
		"model (OBJ)":        "v 0 0 0\nv 1 0 0\nf 1 2 3\n",
		"model (STEP)":       "ISO-10303-21;\nHEADER;\n",
		"a program":          "\x7fELF\x02\x01",
		"not G-code":         strings.Repeat("The moon rises over the dome.\n", 30),
		"picture or a sound": "RIFF\x10\x00\x00\x00WEBP",
	} {
		if _, err := toolpath.Read(strings.NewReader(body), toolpath.Options{Limits: motion.Ordinary}); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%q: %v", want, err)
		}
	}
}

func TestAFileThatTakesYearsIsRefused(t *testing.T) {
	body := "G28\n" + strings.Repeat("G1 X90000 F1\nG1 X-90000\n", 2000) // each line as nearly all are written
	if _, err := toolpath.Read(strings.NewReader(body), toolpath.Options{Limits: motion.Ordinary}); err == nil || !strings.Contains(err.Error(), "which no print does") {
		t.Errorf("it says %v", err)
	}
}

func FuzzRead(f *testing.F) {
	for _, s := range []string{"G1 X1e400", "G1 X--5", "G1 X", "G1X10Y5E.2", "g1 x1", "G1\tX1", "G1 X1\r\n", "G20\nG1 X9", "N1 G28*18\n", ";a=b\n", "G2 X1 I1\n", "G10\nG11\n", "M205 J9\nG3 R2 X4\n"} {
		f.Add([]byte(s))
	}
	f.Fuzz(func(t *testing.T, body []byte) {
		n := 0
		s, err := toolpath.Read(strings.NewReader(string(body)), toolpath.Options{Limits: motion.Ordinary, Stroke: func(*toolpath.Stroke) { n++ }})
		if err == nil && (s.Duration < 0 || s.Travelling < 0 || math.IsNaN(s.Filament) || s.Commands == 0) {
			t.Errorf("%q is %+v", body, s)
		}
	})
}

// Objects that a file's lines tell apart are known by where they are, and whether their lines
// can be left out.
func TestObjectsAreToldApart(t *testing.T) {
	s := read(t, begin+"M486 S0\nM486 AKnob\n"+square(0.2, 50)+"M486 S1\n"+square(0.2, 30)+"M486 S-1\n"+square(0.2, 90)+"M486 S0\n"+square(0.4, 60)+"EXCLUDE_OBJECT_START NAME=clip\nG28 X\nEXCLUDE_OBJECT_END\nM486 S7\nG92 X0\nM486 S8\nT1\nM486 S9\nG91\nG90\nM486 S-1\n"+end)
	fixed := map[string]string{"clip": "home", "7": "where the head is", "8": "tool", "9": "relative"}
	if len(s.Objects) != 6 {
		t.Fatalf("%+v", s.Objects)
	}
	for i, o := range s.Objects {
		switch {
		case i == 0 && (o.Key != "0" || o.Name != "Knob" || o.Extent.Empty || o.Extent.Max[2] != 0.4 || o.Filament <= s.Objects[1].Filament || o.Fixed != ""):
			t.Errorf("the first is %+v", o)
		case i == 1 && (o.Key != "1" || o.Name != "" || o.Extent.Max[0]-o.Extent.Min[0] > 30.1 || o.Fixed != ""):
			t.Errorf("the second is %+v", o)
		case i > 1 && (fixed[o.Key] == "" || !strings.Contains(o.Fixed, fixed[o.Key]) || !o.Extent.Empty):
			t.Errorf("%+v", o)
		}
	}
}
