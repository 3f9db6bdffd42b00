package survey

import (
	"bytes"
	"fmt"
	"hash/fnv"
	"image"
	"image/color"
	"image/draw"
	"image/png"
	"math"
	"os"
	"strings"
	"unicode/utf8"

	"golang.org/x/image/font"
	"golang.org/x/image/font/gofont/gomedium"
	"golang.org/x/image/font/opentype"
	"golang.org/x/image/math/fixed"

	"diathermon/internal/core/machine"
	"diathermon/internal/durable"
)

// A sign tells in a picture which printer's it is, so that pictures of neighbours are not
// taken for each other: its colour, and its name where there is room for it. The zero sign
// is none.
type sign struct {
	name   string
	colour color.NRGBA
}

// signOf is a printer's; none of one that nobody has named.
func signOf(p machine.Printer) sign {
	if p.Colour == "" && (p.Name == "" || p.Name == machine.Unnamed) {
		return sign{}
	}
	out := sign{name: p.Name, colour: color.NRGBA{0x6b, 0x62, 0x58, 0xff}}
	fmt.Sscanf(p.Colour, "#%02x%02x%02x", &out.colour.R, &out.colour.G, &out.colour.B)
	return out
}

// key tells pictures apart that bear other signs.
func (s sign) key() string {
	if s == (sign{}) {
		return ""
	}
	h := fnv.New32a()
	fmt.Fprint(h, s)
	return fmt.Sprintf("-%08x", h.Sum32())
}

// Of a sign: the smallest picture that its name stands in, and the share of a picture's side
// that it is high; pixels that a letter is at the least.
const (
	named     = 256
	signHigh  = 0.06
	leastType = 18
)

// on puts the sign into the lower left corner of a picture, where a part that is seen from
// above and the side leaves room.
func (s sign) on(img draw.Image) error {
	side := float64(img.Bounds().Dx())
	high := max(math.Round(side*signHigh), leastType+4)
	if side < named {
		high = math.Round(side / 7)
		pill(img, image.Pt(1, int(side-high)-1), int(high), int(high), s.colour)
		return nil
	}
	face, err := signFace(high - 4)
	if err != nil {
		return err
	}
	defer face.Close()
	ink := color.NRGBA{0xff, 0xff, 0xff, 0xff}
	if 299*int(s.colour.R)+587*int(s.colour.G)+114*int(s.colour.B) > 150_000 { // ITU-R BT.601: a light colour
		ink = color.NRGBA{0x1d, 0x1a, 0x17, 0xff}
	}
	text := font.Drawer{Dst: img, Src: image.NewUniform(ink), Face: face}
	room := fixed.I(int(side - 3*high))
	shown := s.name
	for text.MeasureString(shown) > room {
		_, last := utf8.DecodeLastRuneInString(strings.TrimSuffix(shown, "…"))
		shown = strings.TrimSuffix(shown, "…")
		shown = strings.TrimSpace(shown[:len(shown)-last]) + "…"
	}
	edge := int(math.Round(high / 3))
	corner := image.Pt(edge, int(side-high)-edge)
	pill(img, corner, text.MeasureString(shown).Ceil()+int(high), int(high), s.colour)
	m := face.Metrics()
	text.Dot = fixed.Point26_6{X: fixed.I(corner.X + int(high)/2), Y: fixed.I(corner.Y) + (fixed.I(int(high))+m.Ascent-m.Descent)/2}
	text.DrawString(shown)
	return nil
}

// signFace is the type of signs, so many pixels high.
func signFace(pixels float64) (font.Face, error) {
	parsed, err := opentype.Parse(gomedium.TTF)
	if err != nil {
		return nil, err
	}
	return opentype.NewFace(parsed, &opentype.FaceOptions{Size: pixels * 0.82, DPI: 72, Hinting: font.HintingFull})
}

// pill draws a bar with round ends.
func pill(img draw.Image, at image.Point, wide, high int, c color.NRGBA) {
	r := float64(high) / 2
	for y := range high {
		for x := range wide {
			fx, fy := float64(x)+0.5, float64(y)+0.5
			off := math.Hypot(fx-min(max(fx, r), float64(wide)-r), fy-r)
			cover := min(max(r-off+0.5, 0), 1)
			over := color.NRGBA{c.R, c.G, c.B, uint8(255 * cover)}
			draw.Draw(img, image.Rect(at.X+x, at.Y+y, at.X+x+1, at.Y+y+1), image.NewUniform(over), image.Point{}, draw.Over)
		}
	}
}

// signed makes the picture at path, with the sign, of the plain one.
func (s *Survey) signed(plain *os.File, path string) error {
	img, err := png.Decode(plain)
	if err != nil {
		return err
	}
	out, ok := img.(draw.Image)
	if !ok {
		out = image.NewNRGBA(img.Bounds())
		draw.Draw(out, out.Bounds(), img, img.Bounds().Min, draw.Src)
	}
	if err := s.sign.on(out); err != nil {
		return err
	}
	var b bytes.Buffer
	if err := png.Encode(&b, out); err != nil {
		return err
	}
	return durable.Replace(path, durable.Bytes(b.Bytes()))
}
