// Package chart draws windows of the temperature log as pictures, to be kept or
// sent on. It promises that what tells things apart is never colour alone.
package chart

import (
	"fmt"
	"image/color"
	"io"
	"math"
	"time"

	"gonum.org/v1/plot"
	"gonum.org/v1/plot/plotter"
	"gonum.org/v1/plot/text"
	"gonum.org/v1/plot/vg"
	"gonum.org/v1/plot/vg/draw"
	"gonum.org/v1/plot/vg/vgimg"
	"gonum.org/v1/plot/vg/vgsvg"

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

// Bounds of a picture's size, in pixels.
const (
	Smallest = 200
	Largest  = 4000
)

// inks tell heaters apart also for those who see colours differently.
var inks = []color.Color{
	color.RGBA{0xb4, 0x3a, 0x00, 0xff}, color.RGBA{0x00, 0x5a, 0x9c, 0xff}, color.RGBA{0x00, 0x7a, 0x55, 0xff}, color.RGBA{0x8a, 0x3a, 0x8a, 0xff},
}

var (
	bandInk = color.RGBA{0xee, 0xea, 0xe4, 0xff}
	markInk = color.RGBA{0x70, 0x70, 0x70, 0xff}
)

// pale is a colour thinned down to lie behind lines.
func pale(c color.Color) color.Color {
	r, g, b, _ := c.RGBA()
	mix := func(v uint32) uint8 { return uint8((v>>8)/4 + 191) }
	return color.RGBA{mix(r), mix(g), mix(b), 0xff}
}

// Draw writes the picture of a window in one of the Formats.
func Draw(w io.Writer, format string, width, height int, h Heat) error {
	degrees, duty := plot.New(), plot.New()
	for _, p := range []*plot.Plot{degrees, duty} {
		p.X.Min, p.X.Max = seconds(h.From), seconds(h.To)
		p.X.Tick.Marker = clock{h}
		p.Y.Tick.Marker = plot.DefaultTicks{}
		p.Legend.Top, p.Legend.Left = true, true
	}
	degrees.Title.Text, degrees.Title.Padding = h.Title, vg.Points(6)
	degrees.Y.Label.Text, duty.Y.Label.Text = "°C", "duty, %"
	top := 40.0
	for _, t := range h.Traces {
		for _, s := range t.Spans {
			top = max(top, s.High, s.Setpoint)
		}
	}
	if math.IsNaN(top) {
		top = 300
	}
	degrees.Y.Min, degrees.Y.Max = 0, top*1.12
	duty.Y.Min, duty.Y.Max = 0, 100
	for _, b := range h.Bands {
		if err := band(degrees, h, b); err != nil {
			return err
		}
	}
	for i, t := range h.Traces {
		if err := trace(degrees, duty, t, inks[i%len(inks)], i); err != nil {
			return err
		}
	}
	for _, m := range h.Marks {
		at := seconds(m.At)
		l, err := plotter.NewLine(plotter.XYs{{X: at, Y: 0}, {X: at, Y: degrees.Y.Max}})
		if err != nil {
			return err
		}
		l.Color, l.Width, l.Dashes = markInk, vg.Points(0.5), []vg.Length{vg.Points(1), vg.Points(3)}
		degrees.Add(l)
	}
	const dpi = 96
	size := func(pixels int) vg.Length { return vg.Length(pixels) * vg.Inch / dpi }
	var canvas vg.CanvasWriterTo
	var sized vg.CanvasSizer
	switch format {
	case "svg":
		c := vgsvg.New(size(width), size(height))
		canvas, sized = c, c
	case "png":
		c := vgimg.PngCanvas{Canvas: vgimg.NewWith(vgimg.UseWH(size(width), size(height)), vgimg.UseDPI(dpi))}
		canvas, sized = c, c
	default:
		return fmt.Errorf("a picture is one of %v, not %q", Formats, format)
	}
	dc := draw.New(sized)
	dc.SetColor(color.White)
	dc.Fill(dc.Rectangle.Path())
	lower := dc.Size().Y * 0.3
	split := dc.Min.Y + lower
	upperPart, lowerPart := dc, dc
	upperPart.Min.Y, lowerPart.Max.Y = split, split
	margin := vg.Points(6)
	inside := func(c draw.Canvas) draw.Canvas { return draw.Crop(c, margin, -2*margin, margin, -margin) }
	grid := plot.Align([][]*plot.Plot{{degrees}, {duty}}, draw.Tiles{Rows: 2, Cols: 1}, inside(dc))
	upper, under := grid[0][0], grid[1][0] // aligned left and right; the heights are ours
	upper.Min.Y, upper.Max.Y = inside(upperPart).Min.Y, inside(upperPart).Max.Y
	under.Min.Y, under.Max.Y = inside(lowerPart).Min.Y, inside(lowerPart).Max.Y
	degrees.Draw(upper)
	duty.Draw(under)
	_, err := canvas.WriteTo(w)
	return err
}

// band draws a stretch of time behind the lines, with its name at its top.
func band(p *plot.Plot, h Heat, b Band) error {
	from, to := max(seconds(b.From), seconds(h.From)), min(seconds(b.To), seconds(h.To))
	if !(from < to) {
		return nil
	}
	area, err := plotter.NewPolygon(plotter.XYs{{X: from, Y: 0}, {X: to, Y: 0}, {X: to, Y: p.Y.Max}, {X: from, Y: p.Y.Max}})
	if err != nil {
		return err
	}
	area.Color, area.LineStyle.Width = bandInk, 0
	name, err := plotter.NewLabels(plotter.XYLabels{XYs: plotter.XYs{{X: from, Y: p.Y.Max}}, Labels: []string{" " + b.Name}})
	if err != nil {
		return err
	}
	name.TextStyle[0].YAlign = text.YTop
	name.TextStyle[0].Color = markInk
	p.Add(area, name)
	return nil
}

// trace draws a heater: its extremes as an area, its mean as a line, its setpoint
// dashed, its duty below.
func trace(degrees, duty *plot.Plot, t Trace, ink color.Color, which int) error {
	dashes := [][]vg.Length{nil, {vg.Points(7), vg.Points(2)}, {vg.Points(3), vg.Points(2)}, {vg.Points(7), vg.Points(2), vg.Points(2), vg.Points(2)}}[which%4]
	named := false
	line := func(p *plot.Plot, style draw.LineStyle, value func(heat.Span) float64, name string) error {
		for _, points := range pieces(t.Spans, value) {
			l, err := plotter.NewLine(points)
			if err != nil {
				return err
			}
			l.LineStyle = style
			p.Add(l)
			if name != "" && !named {
				named = true
				p.Legend.Add(name, l)
			}
		}
		return nil
	}
	high := pieces(t.Spans, func(s heat.Span) float64 { return s.High })
	low := pieces(t.Spans, func(s heat.Span) float64 { return s.Low })
	for i := range min(len(high), len(low)) {
		ring := append(plotter.XYs{}, high[i]...)
		for at := len(low[i]) - 1; at >= 0; at-- {
			ring = append(ring, low[i][at])
		}
		area, err := plotter.NewPolygon(ring)
		if err != nil {
			return err
		}
		area.Color, area.LineStyle.Width = pale(ink), 0
		degrees.Add(area)
	}
	if err := line(degrees, draw.LineStyle{Color: ink, Width: vg.Points(1), Dashes: []vg.Length{vg.Points(2), vg.Points(3)}}, func(s heat.Span) float64 {
		if s.Setpoint > 0 {
			return s.Setpoint
		}
		return math.NaN()
	}, ""); err != nil {
		return err
	}
	if err := line(degrees, draw.LineStyle{Color: ink, Width: vg.Points(1.5), Dashes: dashes}, func(s heat.Span) float64 { return s.Mean }, string(t.Heater)); err != nil {
		return err
	}
	return line(duty, draw.LineStyle{Color: ink, Width: vg.Points(1), Dashes: dashes}, func(s heat.Span) float64 { return s.Duty * 100 }, "")
}

// pieces are the stretches between gaps in which there is a value.
func pieces(spans []heat.Span, value func(heat.Span) float64) []plotter.XYs {
	var out []plotter.XYs
	var now plotter.XYs
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
		now = append(now, plotter.XY{X: seconds(s.Begins), Y: v})
	}
	end()
	return out
}

func seconds(t time.Time) float64 { return float64(t.UnixMilli()) / 1000 }

// clock marks whole steps of the clock or the calendar on an axis.
type clock struct{ Heat }

// Ticks implements plot.Ticker.
func (c clock) Ticks(from, to float64) []plot.Tick {
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
	zone := c.Zone
	if zone == nil {
		zone = time.UTC
	}
	_, east := time.UnixMilli(int64(from * 1000)).In(zone).Zone()
	step, offset := pick.step.Seconds(), float64(east)
	var out []plot.Tick
	for at := math.Ceil((from+offset)/step)*step - offset; at <= to && len(out) < 100; at += step {
		out = append(out, plot.Tick{Value: at, Label: time.UnixMilli(int64(at * 1000)).In(zone).Format(pick.layout)})
	}
	return out
}
