package qrcode

import (
	"bytes"
	"image"
	"image/color"
	"regexp"
	"strconv"
	"strings"
	"testing"

	"github.com/makiuchi-d/gozxing"
	"github.com/makiuchi-d/gozxing/qrcode"
)

// read reads a picture of modules as a camera's program does that was written elsewhere.
func read(t *testing.T, dark func(x, y int) bool, side int) string {
	t.Helper()
	const scale = 4
	img := image.NewGray(image.Rect(0, 0, side*scale, side*scale))
	for y := range side * scale {
		for x := range side * scale {
			if !dark(x/scale, y/scale) {
				img.SetGray(x, y, color.Gray{Y: 255})
			}
		}
	}
	bits, err := gozxing.NewBinaryBitmapFromImage(img)
	if err != nil {
		t.Fatal(err)
	}
	result, err := qrcode.NewQRCodeReader().Decode(bits, nil)
	if err != nil {
		t.Fatal(err)
	}
	return result.GetText()
}

func TestAnotherReaderReadsTheCodes(t *testing.T) {
	for _, address := range []string{"http://192.168.178.31:8437", "https://[2001:db8::7]:8437", "https://name.example/vesper"} {
		text, err := Terminal(address)
		if err != nil {
			t.Fatal(err)
		}
		lines := strings.Split(strings.TrimSuffix(regexp.MustCompile("\x1b\\[[0-9;]*m").ReplaceAllString(text, ""), "\n"), "\n")
		got := read(t, func(x, y int) bool {
			if y/2 >= len(lines) || x >= len([]rune(lines[y/2])) {
				return false
			}
			r := []rune(lines[y/2])[x]
			return r == '█' || r == '▀' && y%2 == 0 || r == '▄' && y%2 == 1
		}, 2*len(lines))
		if got != address || len([]rune(lines[0])) > 78 || len(lines) > 22 {
			t.Errorf("%s is read as %q, %d by %d", address, got, len([]rune(lines[0])), len(lines))
		}

		var svg bytes.Buffer
		if err := SVG(&svg, address); err != nil {
			t.Fatal(err)
		}
		side, _ := strconv.Atoi(regexp.MustCompile(`viewBox="0 0 (\d+)`).FindStringSubmatch(svg.String())[1])
		dark := map[[2]int]bool{}
		for _, m := range regexp.MustCompile(`<rect x="(\d+)\.02" y="(\d+)\.02" width=".96"`).FindAllStringSubmatch(svg.String(), -1) {
			x, _ := strconv.Atoi(m[1])
			y, _ := strconv.Atoi(m[2])
			dark[[2]int{x, y}] = true
		}
		for _, m := range regexp.MustCompile(`<rect x="(\d+)\.5" y="(\d+)\.5" width="6" height="6"`).FindAllStringSubmatch(svg.String(), -1) { // finders: a ring, and a square of three inside
			x, _ := strconv.Atoi(m[1])
			y, _ := strconv.Atoi(m[2])
			for i := range 49 {
				dx, dy := i%7, i/7
				dark[[2]int{x + dx, y + dy}] = dx == 0 || dx == 6 || dy == 0 || dy == 6 || dx > 1 && dx < 5 && dy > 1 && dy < 5
			}
		}
		if got := read(t, func(x, y int) bool { return dark[[2]int{x, y}] }, side); got != address {
			t.Errorf("%s is read as %q", address, got)
		}
	}
}
