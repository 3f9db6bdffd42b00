package picture_test

import (
	"bytes"
	"image"
	"strings"
	"testing"

	"diathermon/internal/core/gcode"
	"diathermon/internal/core/layers"
	"diathermon/internal/core/motion"
	"diathermon/internal/core/picture"
	"diathermon/internal/core/toolpath"
	"diathermon/internal/samples"
)

// drawn is a program's picture.
func drawn(t testing.TB, program string, pixels int) *image.NRGBA {
	t.Helper()
	var file bytes.Buffer
	w := layers.NewWriter(&file)
	s, err := toolpath.Scan(strings.NewReader(program), toolpath.Options{Limits: motion.Ordinary, Stroke: w.Stroke})
	if err != nil {
		t.Fatal(err)
	}
	if err := w.Close(s.Marks); err != nil {
		t.Fatal(err)
	}
	r := bytes.NewReader(file.Bytes())
	x, err := layers.ReadIndex(r, int64(file.Len()))
	if err != nil {
		t.Fatal(err)
	}
	img, err := picture.Of(r, x, pixels, 1.75)
	if err != nil {
		t.Fatal(err)
	}
	return img
}

// seen is the box of what is not clear, and its share of the picture.
func seen(img *image.NRGBA) (box image.Rectangle, share float64) {
	n := 0
	for y := range img.Bounds().Dy() {
		for x := range img.Bounds().Dx() {
			if img.NRGBAAt(x, y).A > 0 {
				box = box.Union(image.Rect(x, y, x+1, y+1))
				n++
			}
		}
	}
	return box, float64(n) / float64(img.Bounds().Dx()*img.Bounds().Dy())
}

func TestAPartFillsItsPicture(t *testing.T) {
	for _, part := range append(samples.Parts(), samples.Coupon(20)) {
		var b bytes.Buffer
		part.Write(&b)
		img := drawn(t, b.String(), 128)
		box, share := seen(img)
		if long := max(box.Dx(), box.Dy()); long < 75 || box.Min.X < 2 || box.Max.X > 126 || box.Min.Y < 2 || box.Max.Y > 126 || share < 0.15 {
			t.Errorf("%s is seen in %v, on %.0f %% of the picture", part.Name, box, 100*share) // the priming line beside it would make it small
		}
		small := picture.Smaller(img, 32)
		if _, less := seen(small); small.Bounds().Dx() != 32 || less < share-0.05 {
			t.Errorf("%s made smaller: %v, %.0f %%", part.Name, small.Bounds(), 100*less)
		}
	}
}

func TestWhatIsHigherHidesWhatIsBehindIt(t *testing.T) {
	square := func(z string, size string) string {
		return "G0 X100 Y100\nG1 Z" + z + "\nG1 X" + size + " E1 F3000\nG1 Y" + size + " E1\nG1 X100 E1\nG1 Y100 E1\n"
	}
	low := drawn(t, "G28\nM83\n"+square("0.2", "120")+square("0.4", "120"), 64)
	high := drawn(t, "G28\nM83\n"+square("0.2", "120")+square("20", "120"), 64)
	if a, b := low.NRGBAAt(32, 32), high.NRGBAAt(32, 32); a.A != 0 && b.A != 0 {
		t.Errorf("the middle of a frame is %v and %v, want clear", a, b)
	}
	box, _ := seen(high)
	foot, top := high.NRGBAAt((box.Min.X+box.Max.X)/2, box.Max.Y-2), high.NRGBAAt((box.Min.X+box.Max.X)/2, box.Min.Y+1)
	for x := box.Min.X; x < box.Max.X && (foot.A == 0 || top.A == 0); x++ {
		if p := high.NRGBAAt(x, box.Max.Y-2); p.A > 0 {
			foot = p
		}
		if p := high.NRGBAAt(x, box.Min.Y+1); p.A > 0 {
			top = p
		}
	}
	if int(top.R) < int(foot.R)+40 {
		t.Errorf("the top is %v and the foot is %v: heights are not told apart", top, foot)
	}
}

func TestWhatIsDrawnLaterAndLowerStaysBehind(t *testing.T) {
	stroke := func(x, y, z float64) *toolpath.Stroke {
		return &toolpath.Stroke{From: gcode.Position{x, y, z}, To: gcode.Position{x + 8, y, z, 0.4}, Height: 0.2}
	}
	low, high := [3]float64{80, 80, 0}, [3]float64{150, 150, 20}
	alone, both := picture.New(400, low, high, 1.75), picture.New(400, low, high, 1.75)
	alone.Stroke(stroke(100, 100, 20))
	both.Stroke(stroke(100, 100, 20))
	both.Stroke(stroke(100+16.8, 100+23.5, 0.2)) // which the first is in front of
	a, b := alone.Image(), both.Image()
	hidden := 0
	for i := 0; i < len(a.Pix); i += 4 {
		if a.Pix[i+3] == 255 {
			hidden++
			if !bytes.Equal(a.Pix[i:i+4], b.Pix[i:i+4]) {
				t.Fatalf("pixel %d is %v where it was %v", i/4, b.Pix[i:i+4], a.Pix[i:i+4])
			}
		}
	}
	if hidden < 5 {
		t.Errorf("%d pixels: this test tests nothing", hidden)
	}
}

func TestAPrimingLineIsNoPartOfThePicture(t *testing.T) {
	part := "G28\nM83\n%sG0 X112 Y100\nG1 Z.2\nG1 X132 E1 F3000\nG1 Y120 E1\nG0 X112 Y100\nG1 Z.4\nG1 X132 E1\nG1 Y120 E1\nG1 X112 E1\nG1 Y100 E1\n"
	with := drawn(t, strings.Replace(part, "%s", "G1 Z.28\nG0 X107 Y100\nG1 Y120 E2 F1200\n", 1), 96)
	if !bytes.Equal(with.Pix, drawn(t, strings.Replace(part, "%s", "", 1), 96).Pix) {
		t.Error("a line beside the part is seen")
	}
}

func BenchmarkPicture(b *testing.B) {
	var body, file bytes.Buffer
	samples.Parts()[1].Write(&body)
	w := layers.NewWriter(&file)
	s, err := toolpath.Scan(&body, toolpath.Options{Limits: motion.Ordinary, Stroke: w.Stroke})
	if err != nil || w.Close(s.Marks) != nil {
		b.Fatal(err)
	}
	r := bytes.NewReader(file.Bytes())
	x, err := layers.ReadIndex(r, int64(file.Len()))
	if err != nil {
		b.Fatal(err)
	}
	for b.Loop() {
		if _, err := picture.Of(r, x, 800, 1.75); err != nil {
			b.Fatal(err)
		}
	}
	b.ReportMetric(float64(file.Len())/float64(x.Strokes), "bytes/stroke")
	b.ReportMetric(b.Elapsed().Seconds()*1e9/float64(b.N)/float64(x.Strokes), "ns/stroke")
}
