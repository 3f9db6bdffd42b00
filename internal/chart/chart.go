// Package chart draws windows of the temperature log as pictures, to be kept or
// sent on. It promises that what tells things apart is never colour alone.
package chart

import (
	"fmt"
	"image/color"
	"io"
	"math"
	"slices"
	"sync"
	"time"

	"diathermon/internal/core/heat"
)

// A Trace is one heater's share of a window. A Span with Count 0 is a gap.
type Trace struct {
	Heater heat.Heater
	Spans  []heat.Span
}

// A Band is a run: a stretch of time with a name.
type Band struct {
	ID       string
	Name     string
	State    string
	From, To time.Time
}

// Heat is a window of the temperature log.
type Heat struct {
	Title    string
	From, To time.Time
	Zone     *time.Location // in which times are written
	Traces   []Trace
	Bands    []Band
	Marks    []heat.Mark
}

// Formats are the kinds of picture, by the ending of their names.
var Formats = []string{"svg", "png"}

// Bounds of a picture's size, in pixels: of a side, and of all.
const (
	Smallest = 200
	Largest  = 4000
	Most     = 2_100_000
)

// inks tell heaters apart also for those who see colours differently.
var inks = []color.Color{
	color.RGBA{0xb4, 0x3a, 0x00, 0xff}, color.RGBA{0x00, 0x5a, 0x9c, 0xff}, color.RGBA{0x00, 0x7a, 0x55, 0xff}, color.RGBA{0x8a, 0x3a, 0x8a, 0xff},
}

var (
	bandInk = color.RGBA{0xee, 0xea, 0xe4, 0xff}
	markInk = color.RGBA{0x70, 0x70, 0x70, 0xff}
	textInk = color.RGBA{0x20, 0x20, 0x20, 0xff}
	gridInk = color.RGBA{0xe4, 0xe4, 0xe4, 0xff}
	paper   = color.RGBA{0xff, 0xff, 0xff, 0xff}
)

// pale is a colour thinned down to lie behind lines.
func pale(c color.Color) color.Color {
	r, g, b, _ := c.RGBA()
	mix := func(v uint32) uint8 { return uint8((v>>8)/4 + 191) }
	return color.RGBA{mix(r), mix(g), mix(b), 0xff}
}

// drawing lets one picture be made at a time: each takes some memory.
var drawing sync.Mutex

// Draw writes the picture of a window in one of the Formats.
func Draw(w io.Writer, format string, width, height int, h Heat) error {
	drawing.Lock()
	defer drawing.Unlock()
	var c canvas
	var send func(io.Writer) error
	switch format {
	case "svg":
		s := newSVG(width, height)
		c, send = s, s.send
	case "png":
		p, err := newRaster(width, height)
		if err != nil {
			return err
		}
		c, send = p, p.send
	default:
		return fmt.Errorf("a picture is one of %v, not %q", Formats, format)
	}
	h.draw(c, float64(width), float64(height))
	return send(w)
}

// What lies between what is drawn, in pixels.
const (
	margin     = 8
	left       = 56 // for the names of the ticks
	titled     = 24 // for the title
	under      = 20 // for the times below an axis
	gap        = 14
	letters    = 12.0 // height of the text
	dutyShare  = 0.28
	legendLine = 26
)

func (h Heat) draw(c canvas, width, height float64) {
	c.fill([]point{{0, 0}, {width, 0}, {width, height}, {0, height}}, paper)
	top := 40.0
	for _, t := range h.Traces {
		for _, s := range t.Spans {
			for _, v := range []float64{s.High, s.Setpoint} {
				if v > top && !math.IsInf(v, 0) {
					top = v
				}
			}
		}
	}
	lower := height * dutyShare
	degrees := panel{h: h, c: c, x0: left, x1: width - 2*margin, y0: titled + margin, y1: height - lower - under - gap, most: top * 1.12, unit: "°C"}
	duty := panel{h: h, c: c, x0: left, x1: width - 2*margin, y0: height - lower, y1: height - under - margin, most: 100, unit: "duty, %"}
	for _, b := range h.Bands {
		degrees.band(b)
	}
	degrees.axes()
	duty.axes()
	for i, t := range h.Traces {
		degrees.between(t.Spans, pale(inks[i%len(inks)]))
	}
	for i, t := range h.Traces {
		ink, dashes := inks[i%len(inks)], dashed[i%len(dashed)]
		degrees.line(t.Spans, pen{ink, 1.2, []float64{3, 4}}, func(s heat.Span) float64 {
			if s.Setpoint > 0 {
				return s.Setpoint
			}
			return math.NaN()
		})
		degrees.line(t.Spans, pen{ink, 1.8, dashes}, func(s heat.Span) float64 { return s.Mean })
		duty.line(t.Spans, pen{ink, 1.3, dashes}, func(s heat.Span) float64 { return s.Duty * 100 })
	}
	for _, m := range h.Marks {
		if at := seconds(m.At); at >= seconds(h.From) && at <= seconds(h.To) {
			c.stroke([]point{{degrees.x(at), degrees.y0}, {degrees.x(at), degrees.y1}}, pen{markInk, 0.8, []float64{1.5, 4}})
		}
	}
	for i, t := range h.Traces {
		y := degrees.y0 + 14 + float64(i)*(letters+5)
		c.stroke([]point{{degrees.x0 + 10, y}, {degrees.x0 + 10 + legendLine, y}}, pen{inks[i%len(inks)], 1.8, dashed[i%len(dashed)]})
		c.text(point{degrees.x0 + 16 + legendLine, y + letters/3}, string(t.Heater), begins, textInk)
	}
	c.text(point{width / 2, margin + letters}, h.Title, middle, textInk)
}

// dashed is how lines are told apart besides by their colour.
var dashed = [][]float64{nil, {9, 3}, {4, 3}, {9, 3, 3, 3}}

// panel is a pair of axes: times to the right, and from nothing up to the most.
type panel struct {
	h              Heat
	c              canvas
	x0, x1, y0, y1 float64
	most           float64
	unit           string
}

func (p panel) x(at float64) float64 {
	from, to := seconds(p.h.From), seconds(p.h.To)
	return p.x0 + (at-from)/(to-from)*(p.x1-p.x0)
}

func (p panel) y(v float64) float64 { return p.y1 - min(max(v/p.most, 0), 1)*(p.y1-p.y0) }

// axes draws the axes with their ticks.
func (p panel) axes() {
	thin, grid := pen{textInk, 1, nil}, pen{gridInk, 1, nil}
	step := stepOf(p.most, (p.y1-p.y0)/34)
	for v := 0.0; v <= p.most; v += step {
		p.c.stroke([]point{{p.x0, p.y(v)}, {p.x1, p.y(v)}}, grid)
		p.c.text(point{p.x0 - 7, p.y(v) + letters/3}, fmt.Sprintf("%g", v), ends, textInk)
	}
	for _, t := range p.h.ticks(seconds(p.h.From), seconds(p.h.To)) {
		p.c.stroke([]point{{p.x(t.at), p.y1}, {p.x(t.at), p.y1 + 4}}, thin)
		p.c.text(point{p.x(t.at), p.y1 + letters + 5}, t.label, middle, textInk)
	}
	p.c.stroke([]point{{p.x0, p.y0}, {p.x0, p.y1}, {p.x1, p.y1}}, thin)
	p.c.text(point{p.x1 - 4, p.y0 + letters}, p.unit, ends, markInk)
}

// stepOf is a round step of which so many make an axis at the most.
func stepOf(most, ticks float64) float64 {
	raw := most / max(ticks, 1)
	size := math.Pow(10, math.Floor(math.Log10(raw)))
	for _, f := range []float64{1, 2, 5} {
		if f*size >= raw {
			return f * size
		}
	}
	return 10 * size
}

// band draws a stretch of time behind the lines, with its name at its top.
func (p panel) band(b Band) {
	from, to := max(seconds(b.From), seconds(p.h.From)), min(seconds(b.To), seconds(p.h.To))
	if !(from < to) {
		return
	}
	p.c.fill([]point{{p.x(from), p.y0}, {p.x(to), p.y0}, {p.x(to), p.y1}, {p.x(from), p.y1}}, bandInk)
	p.c.text(point{p.x(from) + 4, p.y1 - 6}, b.Name, begins, markInk)
}

// line draws a value, interrupted where there is none.
func (p panel) line(spans []heat.Span, with pen, value func(heat.Span) float64) {
	for _, piece := range pieces(spans, value) {
		p.c.stroke(p.at(piece), with)
	}
}

// between draws the extremes as an area.
func (p panel) between(spans []heat.Span, ink color.Color) {
	high := pieces(spans, func(s heat.Span) float64 { return s.High })
	low := pieces(spans, func(s heat.Span) float64 { return s.Low })
	for i := range min(len(high), len(low)) {
		ring := p.at(high[i])
		under := p.at(low[i])
		slices.Reverse(under)
		p.c.fill(append(ring, under...), ink)
	}
}

func (p panel) at(piece []point) []point {
	out := make([]point, len(piece))
	for i, q := range piece {
		out[i] = point{p.x(q.x), p.y(q.y)}
	}
	return out
}

// pieces are the stretches between gaps in which there is a value.
func pieces(spans []heat.Span, value func(heat.Span) float64) [][]point {
	var out [][]point
	var now []point
	end := func() {
		if len(now) > 0 {
			out, now = append(out, now), nil
		}
	}
	for _, s := range spans {
		v := value(s)
		if s.Count == 0 || math.IsNaN(v) {
			end()
			continue
		}
		now = append(now, point{seconds(s.Begins), v})
	}
	end()
	return out
}

func seconds(t time.Time) float64 { return float64(t.UnixMilli()) / 1000 }

// A tick is a time that an axis names.
type tick struct {
	at    float64 // s
	label string
}

// ticks are whole steps of the clock or the calendar.
func (h Heat) ticks(from, to float64) []tick {
	steps := []struct {
		step   time.Duration
		layout string
	}{
		{10 * time.Second, "15:04:05"}, {30 * time.Second, "15:04:05"}, {time.Minute, "15:04"}, {2 * time.Minute, "15:04"}, {5 * time.Minute, "15:04"}, {10 * time.Minute, "15:04"},
		{30 * time.Minute, "15:04"}, {time.Hour, "15:04"}, {3 * time.Hour, "2 Jan 15:04"}, {6 * time.Hour, "2 Jan 15:04"}, {12 * time.Hour, "2 Jan 15:04"}, {24 * time.Hour, "2 Jan"},
		{3 * 24 * time.Hour, "2 Jan"}, {7 * 24 * time.Hour, "2 Jan 2006"}, {30 * 24 * time.Hour, "2 Jan 2006"}, {90 * 24 * time.Hour, "2 Jan 2006"}, {365 * 24 * time.Hour, "2 Jan 2006"},
	}
	pick := steps[len(steps)-1]
	for _, s := range steps {
		if (to-from)/s.step.Seconds() <= 9 {
			pick = s
			break
		}
	}
	zone := h.Zone
	if zone == nil {
		zone = time.UTC
	}
	_, east := time.UnixMilli(int64(from * 1000)).In(zone).Zone()
	step, offset := pick.step.Seconds(), float64(east)
	var out []tick
	for at := math.Ceil((from+offset)/step)*step - offset; at <= to && len(out) < 100; at += step {
		out = append(out, tick{at, time.UnixMilli(int64(at * 1000)).In(zone).Format(pick.layout)})
	}
	return out
}
