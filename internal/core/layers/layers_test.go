package layers_test

import (
	"bytes"
	"errors"
	"fmt"
	"math"
	"strings"
	"testing"

	"diathermon/internal/core/layers"
	"diathermon/internal/core/motion"
	"diathermon/internal/core/toolpath"
	"diathermon/internal/samples"
)

// written is a program's file of layers, what toolpath has told, and all strokes as they
// were told.
func written(t testing.TB, program string) ([]byte, toolpath.Summary, []toolpath.Stroke) {
	t.Helper()
	var file bytes.Buffer
	var told []toolpath.Stroke
	w := layers.NewWriter(&file)
	s, err := toolpath.Scan(strings.NewReader(program), toolpath.Options{Limits: motion.Ordinary, Stroke: func(k *toolpath.Stroke) {
		told = append(told, *k)
		w.Stroke(k)
	}})
	if err != nil {
		t.Fatal(err)
	}
	if err := w.Close(s.Marks); err != nil {
		t.Fatal(err)
	}
	return file.Bytes(), s, told
}

// read reads all of a file of layers.
func read(t testing.TB, file []byte) (layers.Index, []toolpath.Stroke) {
	t.Helper()
	r := bytes.NewReader(file)
	x, err := layers.ReadIndex(r, int64(len(file)))
	if err != nil {
		t.Fatal(err)
	}
	var out []toolpath.Stroke
	for i, l := range x.Layers {
		before := len(out)
		if err := layers.Each(r, l, i, func(k *toolpath.Stroke) { out = append(out, *k) }); err != nil {
			t.Fatal(err)
		}
		if len(out)-before != l.Strokes {
			t.Errorf("layer %d has %d strokes, its index says %d", i, len(out)-before, l.Strokes)
		}
	}
	return x, out
}

func TestEveryStrokeComesBack(t *testing.T) {
	var part bytes.Buffer
	samples.Coupon(12).Write(&part)
	mixed := "M104 S210\nG28\nG1 Z.2 F600\nG1 X10 Y10 E1 F3000\nM106 S128\nT1\nG2 X20 Y20 I5 J5 E2\nG92 X0 E0\nG1 X-3.337 E.5 F1234\nG1 E-1\nG1 Z.8\nG0 X50 Y50\nG1 Z.4 E.5\nG1 X60 E1\nG91\nG1 X-1 Y2 E.1\nG28 X\n" +
		strings.Repeat("M117 between\n", 70) + "G90\nG1 X5 Y5 E9\n"
	for name, program := range map[string]string{"a part": part.String(), "mixed": mixed} {
		file, s, told := written(t, program)
		x, got := read(t, file)
		if len(got) != len(told) || x.Strokes != len(told) || len(x.Layers) != s.Layers {
			t.Fatalf("%s: %d strokes in %d layers came back, %d in %d were told", name, len(got), len(x.Layers), len(told), s.Layers)
		}
		for i, want := range told {
			k := got[i]
			for axis := range want.To {
				if math.Abs(k.To[axis]-want.To[axis]) > 0.0051 || math.Abs(k.From[axis]-want.From[axis]) > 0.0051 {
					t.Fatalf("%s: stroke %d goes from %v to %v, want from %v to %v", name, i, k.From, k.To, want.From, want.To)
				}
			}
			if k.Command != want.Command || k.Layer != want.Layer || math.Abs(k.Feed-want.Feed) > 0.06 || math.Abs(k.Fan-want.Fan) > 0.006 || k.Nozzle != want.Nozzle || k.Tool != want.Tool {
				t.Fatalf("%s: stroke %d is %+v, want %+v", name, i, k, want)
			}
		}
		for i, l := range x.Layers {
			if m := s.Marks[i]; math.Abs(l.Z-m.Z) > 0.001 || i > 0 && math.Abs(l.Begins-m.Seconds) > 0.01 { // the first begins with the file
				t.Errorf("%s: layer %d is at %.2f mm from %.1f s on, want %.2f, %.1f", name, i, l.Z, l.Begins, m.Z, m.Seconds)
			}
		}
	}
}

func TestAMillionLayersHaveABoundedIndex(t *testing.T) {
	var b strings.Builder
	b.WriteString("G28\nM83\nG90\n")
	for i := range 100_000 {
		fmt.Fprintf(&b, "G1 Z%.3f F600\nG1 X%d E.1 F3000\n", float64(i+1)*0.02, 10+i%2)
	}
	file, _, told := written(t, b.String())
	x, got := read(t, file)
	if len(x.Layers) > 16384 || len(got) != len(told) || x.Strokes != len(told) {
		t.Errorf("%d layers, %d of %d strokes", len(x.Layers), len(got), len(told))
	}
	for i := 1; i < len(x.Layers); i++ {
		if x.Layers[i].Z <= x.Layers[i-1].Z || x.Layers[i].Offset != x.Layers[i-1].Offset+int64(x.Layers[i-1].Size) {
			t.Fatalf("layer %d is %+v behind %+v", i, x.Layers[i], x.Layers[i-1])
		}
	}
}

func TestWhatIsDamagedIsSaid(t *testing.T) {
	file, _, _ := written(t, "G28\nG1 Z.2\nG1 X10 Y10 E1 F3000\nG1 X20 E2\nG1 Z.4\nG1 X10 E3\n")
	for n := range len(file) {
		r := bytes.NewReader(file[:n])
		if x, err := layers.ReadIndex(r, int64(n)); err == nil {
			t.Errorf("%d of %d bytes are taken for a whole file: %+v", n, len(file), x)
		}
	}
	for i := range file { // any byte, any way: an error or other strokes, never a panic
		for _, flip := range []byte{1, 0x80, 0xff} {
			spoilt := bytes.Clone(file)
			spoilt[i] ^= flip
			r := bytes.NewReader(spoilt)
			x, err := layers.ReadIndex(r, int64(len(spoilt)))
			if err != nil {
				continue
			}
			for j, l := range x.Layers {
				if l.Size <= len(spoilt) {
					layers.Each(r, l, j, func(*toolpath.Stroke) {})
				}
			}
		}
	}
	if _, err := layers.ReadIndex(bytes.NewReader([]byte("x")), 1); !errors.Is(err, layers.ErrForm) {
		t.Errorf("a byte: %v", err)
	}
}
