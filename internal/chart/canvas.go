package chart

import (
	"bufio"
	"bytes"
	"encoding/xml"
	"fmt"
	"image"
	"image/color"
	"image/draw"
	"image/png"
	"io"
	"math"
	"strings"

	"golang.org/x/image/font"
	"golang.org/x/image/font/gofont/goregular"
	"golang.org/x/image/font/opentype"
	"golang.org/x/image/math/fixed"
	"golang.org/x/image/vector"
)

// A point is in pixels from the upper left corner.
type point struct{ x, y float64 }

// A pen draws lines.
type pen struct {
	ink    color.Color
	width  float64
	dashes []float64 // drawn and left out in turn; nil: all of it is drawn
}

// An anchor is which part of a text stands at its point.
type anchor string

// The anchors, as SVG calls them.
const (
	begins anchor = "start"
	middle anchor = "middle"
	ends   anchor = "end"
)

// A canvas takes what is drawn.
type canvas interface {
	fill(ring []point, ink color.Color)
	stroke(line []point, with pen)
	text(at point, s string, a anchor, ink color.Color)
}

// svg is a canvas that is written as SVG 1.1.
type svg struct{ body bytes.Buffer }

func newSVG(width, height int) *svg {
	s := &svg{}
	fmt.Fprintf(&s.body, `<?xml version="1.0" encoding="UTF-8"?>`+"\n"+`<svg xmlns="http://www.w3.org/2000/svg" width="%d" height="%d" viewBox="0 0 %[1]d %[2]d" font-family="sans-serif" font-size="%g">`+"\n", width, height, letters)
	return s
}

func hex(c color.Color) string {
	r, g, b, _ := c.RGBA()
	return fmt.Sprintf("#%02x%02x%02x", r>>8, g>>8, b>>8)
}

func (s *svg) points(all []point) {
	s.body.WriteString(` points="`)
	for i, p := range all {
		if i > 0 {
			s.body.WriteByte(' ')
		}
		fmt.Fprintf(&s.body, "%.1f,%.1f", p.x, p.y)
	}
	s.body.WriteByte('"')
}

func (s *svg) fill(ring []point, ink color.Color) {
	fmt.Fprintf(&s.body, `<polygon fill="%s"`, hex(ink))
	s.points(ring)
	s.body.WriteString("/>\n")
}

func (s *svg) stroke(line []point, with pen) {
	fmt.Fprintf(&s.body, `<polyline fill="none" stroke="%s" stroke-width="%g"`, hex(with.ink), with.width)
	if len(with.dashes) > 0 {
		fmt.Fprintf(&s.body, ` stroke-dasharray="%s"`, strings.Trim(fmt.Sprint(with.dashes), "[]"))
	}
	s.points(line)
	s.body.WriteString("/>\n")
}

func (s *svg) text(at point, text string, a anchor, ink color.Color) {
	fmt.Fprintf(&s.body, `<text x="%.1f" y="%.1f" fill="%s" text-anchor="%s">`, at.x, at.y, hex(ink), a)
	xml.EscapeText(&s.body, []byte(text))
	s.body.WriteString("</text>\n")
}

func (s *svg) send(w io.Writer) error {
	s.body.WriteString("</svg>\n")
	_, err := w.Write(s.body.Bytes())
	return err
}

// raster is a canvas of pixels.
type raster struct {
	img  *image.RGBA
	area vector.Rasterizer
	face font.Face
}

func newRaster(width, height int) (*raster, error) {
	f, err := opentype.Parse(goregular.TTF)
	if err != nil {
		return nil, err
	}
	face, err := opentype.NewFace(f, &opentype.FaceOptions{Size: letters, DPI: 72})
	return &raster{img: image.NewRGBA(image.Rect(0, 0, width, height)), face: face}, err
}

// over draws an area whose outline path gives, within bounds.
func (r *raster) over(points []point, wide float64, ink color.Color, path func(dx, dy float64)) {
	box := [4]float64{math.Inf(1), math.Inf(1), math.Inf(-1), math.Inf(-1)}
	for _, p := range points {
		box = [4]float64{min(box[0], p.x), min(box[1], p.y), max(box[2], p.x), max(box[3], p.y)}
	}
	at := image.Rect(int(math.Floor(box[0]-wide)), int(math.Floor(box[1]-wide)), int(math.Ceil(box[2]+wide))+1, int(math.Ceil(box[3]+wide))+1).Intersect(r.img.Bounds())
	if at.Empty() {
		return
	}
	r.area.Reset(at.Dx(), at.Dy())
	r.area.DrawOp = draw.Over
	path(float64(-at.Min.X), float64(-at.Min.Y))
	r.area.Draw(r.img, at, image.NewUniform(ink), image.Point{})
}

func (r *raster) ring(points []point, dx, dy float64) {
	for i, p := range points {
		if x, y := float32(p.x+dx), float32(p.y+dy); i == 0 {
			r.area.MoveTo(x, y)
		} else {
			r.area.LineTo(x, y)
		}
	}
	r.area.ClosePath()
}

func (r *raster) fill(ring []point, ink color.Color) {
	r.over(ring, 0, ink, func(dx, dy float64) { r.ring(ring, dx, dy) })
}

func (r *raster) stroke(line []point, with pen) {
	half := with.width / 2
	r.over(line, half, with.ink, func(dx, dy float64) {
		pattern(line, with.dashes, func(a, b point) {
			long := math.Hypot(b.x-a.x, b.y-a.y)
			if long == 0 {
				return
			}
			// Across, and a little along, so that one piece meets the next. All turn the same way.
			nx, ny := -(b.y-a.y)/long*half, (b.x-a.x)/long*half
			ex, ey := ny/2, -nx/2
			r.ring([]point{{a.x + nx - ex, a.y + ny - ey}, {b.x + nx + ex, b.y + ny + ey}, {b.x - nx + ex, b.y - ny + ey}, {a.x - nx - ex, a.y - ny - ey}}, dx, dy)
		})
	})
}

// pattern calls f for each piece of a line that is drawn.
func pattern(line []point, dashes []float64, f func(a, b point)) {
	which, left := 0, math.Inf(1)
	if len(dashes) > 0 {
		left = dashes[0]
	}
	for i := 1; i < len(line); i++ {
		a, b := line[i-1], line[i]
		for {
			long := math.Hypot(b.x-a.x, b.y-a.y)
			end := b
			if long > left {
				end = point{a.x + (b.x-a.x)*left/long, a.y + (b.y-a.y)*left/long}
			}
			if which%2 == 0 {
				f(a, end)
			}
			if long <= left {
				left -= long
				break
			}
			which++
			a, left = end, dashes[which%len(dashes)]
		}
	}
}

func (r *raster) text(at point, s string, a anchor, ink color.Color) {
	d := font.Drawer{Dst: r.img, Src: image.NewUniform(ink), Face: r.face}
	wide := float64(d.MeasureString(s)) / 64
	x := map[anchor]float64{begins: at.x, middle: at.x - wide/2, ends: at.x - wide}[a]
	d.Dot = fixed.Point26_6{X: fixed.Int26_6(x * 64), Y: fixed.Int26_6(at.y * 64)}
	d.DrawString(s)
}

func (r *raster) send(w io.Writer) error {
	out := bufio.NewWriter(w)
	if err := png.Encode(out, r.img); err != nil {
		return err
	}
	return out.Flush()
}
