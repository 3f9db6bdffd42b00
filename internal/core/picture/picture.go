// Package picture draws what a file lays down: from above and the side, as the part
// will stand on the bed, with its layers seen.
//
// A Canvas takes strokes in the order in which they are laid and costs as much memory
// whatever their number. Seen like this, of two things on one pixel the higher one is
// the nearer, so that a height for each pixel is all that is to be kept.
//
// It leaves to layers where strokes come from.
package picture

import (
	"image"
	"image/color"
	"io"
	"math"

	"diathermon/internal/core/gcode"
	"diathermon/internal/core/layers"
	"diathermon/internal/core/toolpath"
)

// The view: turned about Z, and from above by an angle.
const (
	turned = 0.62 // rad
	above  = 0.60 // rad
)

// fine is how many pixels in a row become one.
const fine = 2

// margin is the share of a side that stays empty around the part.
const margin = 0.06

// lineWidth is how wide a line counts where its filament does not tell, mm.
const lineWidth = 0.45

// A Canvas is a picture in the making.
type Canvas struct {
	size           int // pixels of a side, the fine ones
	scale          float64
	midX, midY     float64 // of the part on the canvas, before it is moved
	high           float64 // Z, mm
	section        float64 // of the filament, mm²
	cosT, sinT     float64
	cosA, sinA     float64
	height         []float32 // Z of what is seen, mm; -1: nothing
	tone           []uint8   // how light it is
	shade          []uint8   // where on the scale of heights
	cutLow, cutTop [2]float64
	visited        int // pixels
}

// New returns a canvas of so many pixels a side for a part between two corners, mm;
// diameter is the filament's.
func New(pixels int, low, high [3]float64, diameter float64) *Canvas {
	return view(pixels, low, high, diameter, turned, above)
}

// view is New with its angles, rad.
func view(pixels int, low, high [3]float64, diameter, turned, above float64) *Canvas {
	c := &Canvas{size: pixels * fine, high: max(high[2], 0.1), section: math.Pi / 4 * diameter * diameter}
	c.sinT, c.cosT = math.Sincos(turned)
	c.sinA, c.cosA = math.Sincos(above)
	c.scale = 1
	minX, minY, maxX, maxY := math.Inf(1), math.Inf(1), math.Inf(-1), math.Inf(-1)
	for corner := range 8 {
		var p [3]float64
		for i := range p {
			if p[i] = low[i]; corner>>i&1 == 1 {
				p[i] = high[i]
			}
		}
		if p[2] != high[2] {
			p[2] = 0 // it stands on the bed
		}
		x, y := c.project(p[0], p[1], p[2])
		minX, minY, maxX, maxY = min(minX, x), min(minY, y), max(maxX, x), max(maxY, y)
	}
	c.midX, c.midY = (minX+maxX)/2, (minY+maxY)/2
	c.scale = float64(c.size) * (1 - 2*margin) / max(maxX-minX, maxY-minY, 1)
	for i := range 2 { // a priming line beside the part is no part of it
		c.cutLow[i], c.cutTop[i] = low[i]-2, high[i]+2
	}
	c.height, c.tone, c.shade = make([]float32, c.size*c.size), make([]uint8, c.size*c.size), make([]uint8, c.size*c.size)
	for i := range c.height {
		c.height[i] = -1
	}
	return c
}

// Of draws a file of layers in so many pixels a side.
func Of(file io.ReaderAt, index layers.Index, pixels int, diameter float64) (*image.NRGBA, error) {
	c := New(pixels, index.Min, index.Max, diameter)
	for number, l := range index.Layers {
		if err := layers.Each(file, l, number, c.Stroke); err != nil {
			return nil, err
		}
	}
	return c.Image(), nil
}

// Layer draws one layer of a file of layers, from above; number counts from 0.
func Layer(file io.ReaderAt, index layers.Index, number, pixels int, diameter float64) (*image.NRGBA, error) {
	c := view(pixels, index.Min, index.Max, diameter, 0, math.Pi/2)
	c.high = 2 * index.Layers[number].Z // in the middle of the scale
	if err := layers.Each(file, index.Layers[number], number, c.Stroke); err != nil {
		return nil, err
	}
	return c.Image(), nil
}

// project returns where a point is on the canvas, before it is moved to the middle.
func (c *Canvas) project(x, y, z float64) (px, py float64) {
	across := x*c.cosT - y*c.sinT
	away := x*c.sinT + y*c.cosT
	return across * c.scale, -(away*c.sinA + z*c.cosA) * c.scale
}

// Stroke draws one.
func (c *Canvas) Stroke(k *toolpath.Stroke) {
	if !k.Lays() || !c.inside(k.From) && !c.inside(k.To) {
		return
	}
	z := k.To[gcode.Z]
	thick := k.Height
	if thick <= 0 || thick > 2 {
		thick = 0.2
	}
	dx, dy := k.To[0]-k.From[0], k.To[1]-k.From[1]
	length := math.Hypot(dx, dy)
	width := min(max(c.section*(k.To[gcode.E]-k.From[gcode.E])/(length*thick), 0.6*lineWidth), 3*lineWidth)
	x0, y0 := c.project(k.From[0], k.From[1], k.From[2])
	x1, y1 := c.project(k.To[0], k.To[1], z)
	half := float64(c.size) / 2
	x0, x1 = x0-c.midX*c.scale+half, x1-c.midX*c.scale+half
	y0, y1 = y0-c.midY*c.scale+half, y1-c.midY*c.scale+half

	// Light comes from the left and the front; a wall is as light as it faces it.
	facing := math.Abs(dx*c.cosT-dy*c.sinT) / length // along the canvas: its side looks to us
	side := uint8(62 + 112*facing)
	shade := uint8(255 * min(max(z/c.high, 0), 1))
	rx := max(width/2*c.scale, 0.5)
	ry := max(rx*c.sinA, 0.5)
	drop := max(thick*c.cosA*c.scale, 0)
	line := capsule{x0, y0, x1, y1, rx, rx / ry}
	if c.visited > enough { // there is no end to it: the rest in fine lines
		line.r, drop = 0.5, 0
	}
	c.fill(line, drop, float32(z), edgeTone, side, shade)
	line.r *= inner
	c.fill(line, 0, float32(z), topTone, topTone, shade)
}

func (c *Canvas) inside(p gcode.Position) bool {
	return p[0] >= c.cutLow[0] && p[0] <= c.cutTop[0] && p[1] >= c.cutLow[1] && p[1] <= c.cutTop[1]
}

// The tones of a line's top and of its edge, and how much of its width is its top.
const (
	topTone  = 225
	edgeTone = 176
	inner    = 0.55
)

// enough is how many pixels are looked at for one picture before its lines become fine.
const enough = 6e9

// A capsule is what an ellipse passes through on its way along a line: what is within r
// of the line once all heights are stretched.
type capsule struct {
	x0, y0, x1, y1 float64
	r              float64 // half of its width
	stretch        float64
}

// row is what of a row is within the capsule; left is greater than right if nothing is.
func (k *capsule) row(y float64) (left, right float64) {
	left, right = math.Inf(1), math.Inf(-1)
	y, y0, y1 := y*k.stretch, k.y0*k.stretch, k.y1*k.stretch
	end := func(x, at float64) {
		if d := k.r*k.r - (y-at)*(y-at); d >= 0 {
			half := math.Sqrt(d)
			left, right = min(left, x-half), max(right, x+half)
		}
	}
	end(k.x0, y0)
	end(k.x1, y1)
	dx, dy := k.x1-k.x0, y1-y0
	if long := math.Sqrt(dx*dx + dy*dy); long > 1e-9 && math.Abs(dy) > 1e-9 {
		for _, side := range [2]float64{k.r, -k.r} {
			nx, ny := -dy/long*side, dx/long*side
			if t := (y - y0 - ny) / dy; t >= 0 && t <= 1 {
				x := k.x0 + nx + t*dx
				left, right = min(left, x), max(right, x)
			}
		}
	}
	return left, right
}

// fill draws a capsule, and below it what it would pass through on its way down by drop.
func (c *Canvas) fill(k capsule, drop float64, z float32, tone, side, shade uint8) {
	up := k.r / k.stretch
	first := max(int(math.Ceil(min(k.y0, k.y1)-up)), 0)
	last := min(int(math.Floor(max(k.y0, k.y1)+up+drop)), c.size-1)
	for y := first; y <= last; y++ {
		left, right := k.row(float64(y))
		if drop > 0 {
			l, r := k.row(float64(y) - drop)
			if half := drop / 2; drop > up {
				hl, hr := k.row(float64(y) - half)
				l, r = min(l, hl), max(r, hr)
			}
			if l < left {
				c.span(y, l, min(left, r), z, side, shade)
			}
			if r > right {
				c.span(y, max(right, l), r, z, side, shade)
			}
		}
		if left <= right {
			c.span(y, left, right, z, tone, shade)
		}
	}
}

// span draws a part of a row, where nothing higher is.
func (c *Canvas) span(y int, left, right float64, z float32, tone, shade uint8) {
	from, to := max(int(math.Ceil(left)), 0), min(int(math.Floor(right)), c.size-1)
	if from > to {
		return
	}
	c.visited += to - from + 1
	at := y*c.size + from
	for ; from <= to; from, at = from+1, at+1 {
		if c.height[at] <= z {
			c.height[at], c.tone[at], c.shade[at] = z, tone, shade
		}
	}
}

// The colours of a part from its foot to its top, dark ink to warm paper: of neither
// a temperature's scale nor an alarm's.
var scale = [...][3]float64{{66, 92, 102}, {88, 122, 124}, {132, 148, 128}, {205, 184, 140}, {240, 222, 184}}

// colour is that of a shade and a tone.
func colour(shade, tone uint8) (r, g, b float64) {
	at := float64(shade) / 255 * float64(len(scale)-1)
	i := min(int(at), len(scale)-2)
	part := at - float64(i)
	light := float64(tone) / 215
	mix := func(j int) float64 { return min((scale[i][j]*(1-part)+scale[i+1][j]*part)*light, 255) }
	return mix(0), mix(1), mix(2)
}

// Image is the picture as it is now, on nothing: pixels without a part are clear.
func (c *Canvas) Image() *image.NRGBA {
	n := c.size / fine
	out := image.NewNRGBA(image.Rect(0, 0, n, n))
	for y := range n {
		for x := range n {
			var r, g, b, seen float64
			for i := range fine * fine {
				at := (y*fine+i/fine)*c.size + x*fine + i%fine
				if c.height[at] < 0 {
					continue
				}
				pr, pg, pb := colour(c.shade[at], c.tone[at])
				r, g, b, seen = r+pr, g+pg, b+pb, seen+1
			}
			if seen > 0 {
				out.SetNRGBA(x, y, color.NRGBA{uint8(r / seen), uint8(g / seen), uint8(b / seen), uint8(255 * seen / (fine * fine))})
			}
		}
	}
	return out
}

// Smaller is a picture shrunk to so many pixels a side, by the mean of what each covers.
func Smaller(in *image.NRGBA, pixels int) *image.NRGBA {
	n := in.Bounds().Dx()
	if pixels >= n {
		return in
	}
	out := image.NewNRGBA(image.Rect(0, 0, pixels, pixels))
	for y := range pixels {
		for x := range pixels {
			x0, x1, y0, y1 := x*n/pixels, (x+1)*n/pixels, y*n/pixels, (y+1)*n/pixels
			var r, g, b, a, count float64
			for v := y0; v < max(y1, y0+1); v++ {
				for u := x0; u < max(x1, x0+1); u++ {
					p := in.NRGBAAt(u, v)
					w := float64(p.A)
					r, g, b, a, count = r+w*float64(p.R), g+w*float64(p.G), b+w*float64(p.B), a+w, count+1
				}
			}
			if a > 0 {
				out.SetNRGBA(x, y, color.NRGBA{uint8(r / a), uint8(g / a), uint8(b / a), uint8(a / count)})
			}
		}
	}
	return out
}
