// Package samples makes the demo's G-code: small parts of an amateur
// observatory, drawn by our own code with walls, infill and a start and an end
// as a slicer writes them.
package samples

import (
	"bufio"
	"fmt"
	"io"
	"math"
)

// A Part is a shape that stands straight up: its outline, a hole if it has one,
// and how it is printed.
type Part struct {
	Name       string
	Layers     int
	Height     float64                     // of a layer, mm
	Outline    func(angle float64) float64 // distance of the outside from the middle, mm
	Hole       func(angle float64) float64 // of the hole's edge; nil for none
	Floor      int                         // layers from below whose hole is filled
	Walls      int
	Infill     float64 // mm between lines of infill; 0 for none
	Solid      int     // layers from below and above with dense infill
	Nozzle     float64 // °C
	Bed        float64 // °C
	Speed      float64 // of infill, mm/s; walls go at 0.6 of it
	CornerStep float64 // angle between corners of the outline, radians
}

// Parts are the demo's files.
func Parts() []Part {
	return []Part{
		{
			Name: "dust-cap-eyepiece-32mm.gcode", Layers: 60, Height: 0.2, Floor: 8, Solid: 4, Walls: 3, Infill: 2.4,
			Outline: circle(18.5), Hole: circle(16.1), Nozzle: 210, Bed: 60, Speed: 90, CornerStep: 0.04,
		},
		{
			Name: "focuser-knob-fluted.gcode", Layers: 320, Height: 0.12, Floor: 0, Solid: 5, Walls: 3, Infill: 3.2,
			Outline: fluted(15, 0.9, 18), Hole: hexagon(4.1), Nozzle: 215, Bed: 60, Speed: 100, CornerStep: 0.05,
		},
		{
			Name: "finder-shoe-dovetail.gcode", Layers: 110, Height: 0.2, Floor: 0, Solid: 4, Walls: 3, Infill: 3.6,
			Outline: rectangle(27, 16), Hole: rectangle(3.2, 3.2), Nozzle: 235, Bed: 75, Speed: 110, CornerStep: 0.03,
		},
		{
			Name: "cable-clip-mount-leg.gcode", Layers: 45, Height: 0.2, Floor: 0, Solid: 3, Walls: 2, Infill: 2.8,
			Outline: rectangle(12, 8), Hole: circle(4.2), Nozzle: 205, Bed: 60, Speed: 80, CornerStep: 0.05,
		},
	}
}

// Coupon is a part of a few layers, for a print that is over soon.
func Coupon(layers int) Part {
	return Part{
		Name: "test-coupon.gcode", Layers: layers, Height: 0.2, Solid: 1, Walls: 2, Infill: 3,
		Outline: rectangle(8, 6), Hole: circle(2), Nozzle: 205, Bed: 60, Speed: 100, CornerStep: 0.12,
	}
}

func circle(r float64) func(float64) float64 { return func(float64) float64 { return r } }

func fluted(r, depth float64, flutes int) func(float64) float64 {
	return func(a float64) float64 { return r + depth*math.Sin(a*float64(flutes)) }
}

func hexagon(inner float64) func(float64) float64 {
	return func(a float64) float64 {
		return inner / math.Cos(math.Mod(a+math.Pi/6, math.Pi/3)-math.Pi/6)
	}
}

func rectangle(halfX, halfY float64) func(float64) float64 {
	return func(a float64) float64 {
		c, s := math.Abs(math.Cos(a)), math.Abs(math.Sin(a))
		return min(halfX/max(c, 1e-9), halfY/max(s, 1e-9))
	}
}

const (
	middle   = 115.0 // X and Y of the bed's middle, mm
	lineW    = 0.44  // width of a drawn line, mm
	filament = 1.75  // mm
	retract  = 0.8   // mm
)

type point struct{ x, y float64 }

// writer draws a part as G-code.
type writer struct {
	Part
	out  *bufio.Writer
	at   point
	z, e float64
}

// Write writes the part's G-code.
func (p Part) Write(w io.Writer) error {
	d := &writer{Part: p, out: bufio.NewWriter(w)}
	d.begin()
	for layer := range p.Layers {
		d.layer(layer)
	}
	d.end()
	return d.out.Flush()
}

func (d *writer) say(format string, args ...any) { fmt.Fprintf(d.out, format+"\n", args...) }

func (d *writer) begin() {
	d.say("; %s for Vesper, made by the demo's own generator", d.Name)
	d.say("; %d layers of %.2f mm, nozzle %.0f, bed %.0f", d.Layers, d.Height, d.Nozzle, d.Bed)
	d.say("M140 S%.0f ; the bed first: it is the slower one", d.Bed)
	d.say("M104 S150")
	d.say("G21 ; millimetres")
	d.say("G90 ; absolute")
	d.say("M82")
	d.say("G28")
	d.say("M190 S%.0f", d.Bed)
	d.say("M109 S%.0f", d.Nozzle)
	d.say("M107")
	d.say("G92 E0")
	d.say("G1 Z2 F600")
	d.say("G0 X5 Y10 F9000")
	d.say("G1 Z0.28 F600")
	d.e = 9
	d.say("G1 X5 Y110 E%.4f F1200 ; prime", d.e)
	d.say("G1 X5.6 Y110 F3000")
	d.e += 8
	d.say("G1 X5.6 Y20 E%.4f F1200", d.e)
	d.at = point{5.6, 20}
}

func (d *writer) end() {
	d.say("G1 E%.4f F2400", d.e-2)
	d.say("G91")
	d.say("G1 Z10 F600")
	d.say("G90")
	d.say("M104 S0")
	d.say("M140 S0")
	d.say("M107")
	d.say("G0 X5 Y220 F6000 ; present the part")
	d.say("M84 X Y E")
}

func (d *writer) layer(n int) {
	d.z = float64(n+1) * d.Height
	d.say("; layer %d", n+1)
	d.travel(point{d.at.x, d.at.y}, true)
	if n == 1 {
		d.say("M106 S128")
	} else if n == 3 {
		d.say("M106 S255")
	}
	hole := d.Hole
	if n < d.Floor {
		hole = nil
	}
	speed := d.Speed
	if n == 0 {
		speed = 25
	}
	inset := lineW / 2
	for range d.Walls {
		d.loop(d.Outline, -inset, speed*0.6)
		if hole != nil {
			d.loop(hole, inset, speed*0.6)
		}
		inset += lineW
	}
	spacing := d.Infill
	if n < d.Solid || n >= d.Layers-d.Solid || n < d.Floor {
		spacing = lineW
	}
	if spacing > 0 {
		d.infill(n, hole, inset-lineW/4, spacing, speed)
	}
}

// at returns the point of an edge at an angle, moved outwards by offset.
func edge(r func(float64) float64, angle, offset float64) point {
	d := r(angle) + offset
	return point{middle + d*math.Cos(angle), middle + d*math.Sin(angle)}
}

func (d *writer) loop(r func(float64) float64, offset, speed float64) {
	d.travel(edge(r, 0, offset), false)
	steps := int(2 * math.Pi / d.CornerStep)
	for i := 1; i <= steps; i++ {
		d.draw(edge(r, 2*math.Pi*float64(i)/float64(steps), offset), speed)
	}
}

// infill draws parallel lines at 45°, crossing from layer to layer, between the
// walls.
func (d *writer) infill(n int, hole func(float64) float64, inset, spacing, speed float64) {
	angle := math.Pi / 4
	if n%2 == 1 {
		angle = -angle
	}
	c, s := math.Cos(angle), math.Sin(angle)
	reach := 0.0
	for a := 0.0; a < 2*math.Pi; a += 0.05 {
		reach = max(reach, d.Outline(a))
	}
	inside := func(x, y float64) bool {
		dist, a := math.Hypot(x, y), math.Atan2(y, x)
		return dist < d.Outline(a)-inset && (hole == nil || dist > hole(a)+inset)
	}
	const step = 0.1
	back := false
	for across := -reach; across <= reach; across += spacing {
		var spans [][2]float64
		open := math.NaN()
		for along := -reach; along <= reach+step; along += step {
			in := inside(along*c-across*s, along*s+across*c)
			if in && math.IsNaN(open) {
				open = along
			} else if !in && !math.IsNaN(open) {
				if along-open > 0.6 {
					spans = append(spans, [2]float64{open, along - step})
				}
				open = math.NaN()
			}
		}
		for i := range spans {
			from, to := spans[i][0], spans[i][1]
			if back {
				from, to = spans[len(spans)-1-i][1], spans[len(spans)-1-i][0]
			}
			d.travel(point{middle + from*c - across*s, middle + from*s + across*c}, false)
			d.draw(point{middle + to*c - across*s, middle + to*s + across*c}, speed)
		}
		back = !back
	}
}

// travel moves without drawing, retracting on the longer ways.
func (d *writer) travel(to point, lift bool) {
	far := math.Hypot(to.x-d.at.x, to.y-d.at.y) > 3
	if far {
		d.say("G1 E%.4f F2400", d.e-retract)
	}
	if lift {
		d.say("G0 Z%.3f F600", d.z)
	}
	if to != d.at {
		d.say("G0 X%.3f Y%.3f F9000", to.x, to.y)
	}
	if far {
		d.say("G1 E%.4f F2400", d.e)
	}
	d.at = to
}

func (d *writer) draw(to point, speed float64) {
	length := math.Hypot(to.x-d.at.x, to.y-d.at.y)
	d.e += length * lineW * d.Height / (math.Pi / 4 * filament * filament)
	d.say("G1 X%.3f Y%.3f E%.5f F%.0f", to.x, to.y, d.e, speed*60)
	d.at = to
}
