package heat_test

import (
	"image/color"
	"math"
	"os"
	"path/filepath"
	"testing"

	"gonum.org/v1/gonum/stat/distuv"
	"gonum.org/v1/plot"
	"gonum.org/v1/plot/plotter"
	"gonum.org/v1/plot/vg"
	"gonum.org/v1/plot/vg/draw"
	"gonum.org/v1/plot/vg/vgimg"

	"diathermon/internal/core/heat"
)

// pictures is where docs/heat.md has its pictures from; benchmarks draw them.
const pictures = "../../../docs/pictures"

// inks tell lines apart; each line has a shape of its own as well.
var inks = []color.Color{
	color.RGBA{0xb4, 0x3a, 0x00, 0xff}, color.RGBA{0x00, 0x5a, 0x9c, 0xff}, color.RGBA{0x00, 0x7a, 0x55, 0xff}, color.RGBA{0x8a, 0x3a, 0x8a, 0xff},
	color.RGBA{0x6b, 0x5b, 0x00, 0xff}, color.RGBA{0x40, 0x40, 0x40, 0xff}, color.RGBA{0xc0, 0x10, 0x60, 0xff},
}

var shapes = []draw.GlyphDrawer{draw.CircleGlyph{}, draw.SquareGlyph{}, draw.TriangleGlyph{}, draw.RingGlyph{}, draw.BoxGlyph{}, draw.PyramidGlyph{}, draw.CrossGlyph{}}

// line adds a line with its points to a plot.
func line(p *plot.Plot, name string, i int, points plotter.XYs, dashed bool) {
	l, s, err := plotter.NewLinePoints(points)
	if err != nil { // there are no points
		return
	}
	l.Color, l.Width, s.Color, s.Shape, s.Radius = inks[i%len(inks)], vg.Points(1.5), inks[i%len(inks)], shapes[i%len(shapes)], vg.Points(3)
	if dashed {
		l.Dashes = []vg.Length{vg.Points(4), vg.Points(3)}
	}
	p.Add(l, s)
	p.Legend.Add(name, l, s)
}

// grid writes plots, row by row, as one picture; nil leaves a place empty.
func grid(b *testing.B, name string, width, height float64, rows ...[]*plot.Plot) {
	canvas := vgimg.PngCanvas{Canvas: vgimg.NewWith(vgimg.UseWH(vg.Points(width*float64(len(rows[0]))), vg.Points(height*float64(len(rows)))), vgimg.UseDPI(120))}
	pad := vg.Points(8)
	tiles := draw.Tiles{Rows: len(rows), Cols: len(rows[0]), PadX: 2 * pad, PadY: 2 * pad, PadTop: pad, PadBottom: pad, PadLeft: pad, PadRight: pad}
	places := plot.Align(rows, tiles, draw.New(canvas))
	for i, row := range rows {
		for j, p := range row {
			if p != nil {
				p.Draw(places[i][j])
			}
		}
	}
	if err := os.MkdirAll(pictures, 0o755); err != nil {
		b.Fatal(err)
	}
	f, err := os.Create(filepath.Join(pictures, name+".png"))
	if err != nil {
		b.Fatal(err)
	}
	defer f.Close()
	if _, err := canvas.WriteTo(f); err != nil {
		b.Fatal(err)
	}
}

func newPlot(title, x, y string) *plot.Plot {
	p := plot.New()
	p.Title.Text, p.X.Label.Text, p.Y.Label.Text = title, x, y
	p.Title.Padding, p.Legend.TextStyle.Font.Size, p.Legend.Padding = vg.Points(6), 10, vg.Points(2)
	g := plotter.NewGrid()
	g.Horizontal.Color, g.Vertical.Color = color.Gray{0xe0}, color.Gray{0xe0}
	p.Add(g)
	return p
}

// drawCalibration draws how many of what forecasts said came within intervals of each
// width: those of 90 % made wider and narrower as a normal distribution would have it.
func drawCalibration(b *testing.B, worlds map[string][]foretold) {
	var plots []*plot.Plot
	for _, name := range []string{"rough", "smooth", "no-duty"} {
		all := worlds[name]
		if len(all) == 0 {
			return
		}
		p := newPlot(name, "interval of, %", "of what happened within it, %")
		p.X.Min, p.X.Max, p.Y.Min, p.Y.Max = 0, 100, 0, 100
		ideal, _ := plotter.NewLine(plotter.XYs{{X: 0, Y: 0}, {X: 100, Y: 100}})
		ideal.Color, ideal.Dashes = color.Gray{0x90}, []vg.Length{vg.Points(2), vg.Points(3)}
		p.Add(ideal)
		for i, h := range []heat.Heater{heat.Nozzle, heat.Bed} {
			var points plotter.XYs
			for share := 0.1; share < 0.98; share += 0.1 {
				wide := distuv.UnitNormal.Quantile((1+share)/2) / distuv.UnitNormal.Quantile(0.95)
				inside, n := 0.0, 0.0
				for _, f := range all {
					if f.heater != h || f.ready == 0 {
						continue
					}
					n++
					low, high := f.ready-wide*(f.ready-f.soonest), f.ready+wide*(f.last-f.ready)
					if f.left >= low && f.left <= high {
						inside++
					}
				}
				points = append(points, plotter.XY{X: 100 * share, Y: 100 * inside / max(n, 1)})
			}
			line(p, string(h), i, points, i > 0)
		}
		p.Legend.Left, p.Legend.Top = true, true
		plots = append(plots, p)
	}
	grid(b, "forecast-intervals", 300, 280, plots)
}

// drawDetection draws how many full stops are found within five minutes.
func drawDetection(b *testing.B, worlds map[string][]stops) {
	var plots []*plot.Plot
	for _, name := range []string{"rough", "smooth"} {
		all := worlds[name]
		if len(all) == 0 {
			return
		}
		p := newPlot(name, "flow, mm³/s", "of printers, %")
		p.Y.Min, p.Y.Max = 0, 100
		var found, enough plotter.XYs
		for _, s := range all {
			found = append(found, plotter.XY{X: s.flow, Y: 100 * float64(s.found) / float64(s.all)})
			enough = append(enough, plotter.XY{X: s.flow, Y: 100 * float64(s.enough) / float64(s.all)})
		}
		line(p, "a stop is found in 5 min", 0, found, false)
		line(p, "it was said that it would be", 1, enough, true)
		p.Legend.Top = false
		plots = append(plots, p)
	}
	grid(b, "flow-stops", 400, 280, plots)
}

// drawDelays draws, a plot for each guard, what it would gain in time and lose in quiet if
// it claimed what it claims at less.
func drawDelays(b *testing.B, worlds map[string]map[heat.GuardName][]trade) {
	rows := [][]*plot.Plot{make([]*plot.Plot, 4), make([]*plot.Plot, 4)}
	n := 0
	for _, guard := range heat.Judged() {
		if len(worlds["rough"][guard]) == 0 || len(worlds["smooth"][guard]) == 0 {
			continue
		}
		p := newPlot(string(guard), "false in 1,000 h", "found after, s")
		for i, world := range []string{"rough", "smooth"} {
			var points plotter.XYs
			for _, t := range worlds[world][guard] {
				if !math.IsNaN(t.delay) {
					points = append(points, plotter.XY{X: t.falses, Y: t.delay})
				}
			}
			line(p, world, i, points, i > 0)
		}
		p.X.Min, p.Y.Min = 0, 0
		p.X.Max, p.Y.Max = max(p.X.Max, 10), 1.15*p.Y.Max
		p.Legend.Top = true
		rows[n/4][n%4], n = p, n+1
	}
	if n > 0 {
		grid(b, "guard-delays", 260, 230, rows...)
	}
}
