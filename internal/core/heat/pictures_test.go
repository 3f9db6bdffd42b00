package heat_test

import (
	"fmt"
	"html"
	"math"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"gonum.org/v1/gonum/stat/distuv"

	"diathermon/internal/core/heat"
)

// pictures is where docs/heat.md has its pictures from; benchmarks draw them, as SVG.
const pictures = "../../../docs/pictures"

// inks tell lines apart; each line has a shape of its own as well.
var inks = []string{"#b43a00", "#005a9c", "#007a55", "#8a3a8a"}

// shapes are drawn at each point of a line.
var shapes = []string{`<circle cx="%[1]g" cy="%[2]g" r="3.5"/>`, `<path d="M%[1]g %[2]gm-3.5 -3.5h7v7h-7z"/>`, `<path d="M%[1]g %[2]gm0 -4.5l4 7.5h-8z"/>`}

// xy are the points of a line.
type xy [][2]float64

// plot is a pair of axes with lines.
type plot struct {
	title, x, y string
	from, to    [2]float64 // of the axes
	low         bool       // its legend is at the bottom
	lines       []plotted
}

type plotted struct {
	name   string
	points xy
	dashed bool
}

// newPlot has axes that hold whatever is drawn, unless they are set afterwards.
func newPlot(title, x, y string) *plot { return &plot{title: title, x: x, y: y} }

// line adds a line with its points; of none nothing.
func (p *plot) line(name string, points xy, dashed bool) {
	if len(points) == 0 {
		return
	}
	for _, q := range points {
		p.to = [2]float64{max(p.to[0], q[0]), max(p.to[1], q[1])}
	}
	p.lines = append(p.lines, plotted{name, points, dashed})
}

// draw writes the plot into a place of a picture.
func (p *plot) draw(out *strings.Builder, left, top, width, height float64) {
	x0, y0, x1, y1 := left+46, top+26, left+width-12, top+height-38
	at := func(q [2]float64) (float64, float64) {
		return x0 + (q[0]-p.from[0])/(p.to[0]-p.from[0])*(x1-x0), y1 - (q[1]-p.from[1])/(p.to[1]-p.from[1])*(y1-y0)
	}
	text := func(x, y float64, anchor, more, s string) {
		fmt.Fprintf(out, `<text x="%g" y="%g" text-anchor="%s"%s>%s</text>`+"\n", x, y, anchor, more, html.EscapeString(s))
	}
	text((x0+x1)/2, top+14, "middle", ` font-weight="bold"`, p.title)
	text((x0+x1)/2, y1+32, "middle", "", p.x)
	text(left+10, (y0+y1)/2, "middle", fmt.Sprintf(` transform="rotate(-90 %g %g)"`, left+10, (y0+y1)/2), p.y)
	for axis := range 2 {
		span := p.to[axis] - p.from[axis]
		step := math.Pow(10, math.Floor(math.Log10(span/2)))
		for span/step > 6 {
			step *= 2
		}
		for v := p.from[axis]; v <= p.to[axis]+step/1000; v += step {
			q := [2]float64{p.from[0], p.from[1]}
			q[axis] = v
			x, y := at(q)
			if axis == 0 {
				fmt.Fprintf(out, `<path d="M%g %gV%g" stroke="#e0e0e0"/>`+"\n", x, y0, y1)
				text(x, y1+15, "middle", "", fmt.Sprintf("%.4g", v))
			} else {
				fmt.Fprintf(out, `<path d="M%g %gH%g" stroke="#e0e0e0"/>`+"\n", x0, y, x1)
				text(x0-5, y+4, "end", "", fmt.Sprintf("%.4g", v))
			}
		}
	}
	fmt.Fprintf(out, `<path d="M%g %gV%gH%g" stroke="#202020" fill="none"/>`+"\n", x0, y0, y1, x1)
	for i, l := range p.lines {
		ink, dash := inks[i%len(inks)], ""
		if l.dashed {
			dash = ` stroke-dasharray="5 4"`
		}
		var path, marks strings.Builder
		for j, q := range l.points {
			x, y := at(q)
			fmt.Fprintf(&path, "%c%.1f %.1f", "ML"[min(j, 1)], x, y)
			if l.name != "" {
				fmt.Fprintf(&marks, shapes[i%len(shapes)], x, y)
			}
		}
		fmt.Fprintf(out, `<path d="%s" fill="none" stroke="%s" stroke-width="1.8"%s/><g fill="%s">%s</g>`+"\n", path.String(), ink, dash, ink, marks.String())
		x, y := x0+8, y0+14+16*float64(i)
		if p.low {
			x, y = x1-190, y1-10-16*float64(len(p.lines)-1-i)
		}
		if l.name != "" {
			fmt.Fprintf(out, `<path d="M%g %gh22" stroke="%s" stroke-width="1.8"%s/><g fill="%s">`, x, y, ink, dash, ink)
			fmt.Fprintf(out, shapes[i%len(shapes)]+"</g>\n", x+11, y)
			text(x+28, y+4, "start", "", l.name)
		}
	}
}

// grid writes plots, row by row, as one picture; nil leaves a place empty.
func grid(b *testing.B, name string, width, height float64, rows ...[]*plot) {
	var out strings.Builder
	fmt.Fprintf(&out, `<svg xmlns="http://www.w3.org/2000/svg" width="%g" height="%g" font-family="sans-serif" font-size="11" fill="#202020"><rect width="100%%" height="100%%" fill="#fff"/>`+"\n", width*float64(len(rows[0])), height*float64(len(rows)))
	for i, row := range rows {
		for j, p := range row {
			if p != nil {
				p.draw(&out, float64(j)*width, float64(i)*height, width, height)
			}
		}
	}
	out.WriteString("</svg>\n")
	if err := os.MkdirAll(pictures, 0o755); err != nil {
		b.Fatal(err)
	}
	if err := os.WriteFile(filepath.Join(pictures, name+".svg"), []byte(out.String()), 0o644); err != nil {
		b.Fatal(err)
	}
}

// drawCalibration draws how many of what forecasts said came within intervals of each
// width: those of 90 % made wider and narrower as a normal distribution would have it.
func drawCalibration(b *testing.B, worlds map[string][]foretold) {
	var plots []*plot
	for _, name := range []string{"rough", "smooth", "no-duty"} {
		all := worlds[name]
		if len(all) == 0 {
			return
		}
		p := newPlot(name, "interval of, %", "of what happened within it, %")
		for i, h := range []heat.Heater{heat.Nozzle, heat.Bed} {
			var points xy
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
				points = append(points, [2]float64{100 * share, 100 * inside / max(n, 1)})
			}
			p.line(string(h), points, i > 0)
		}
		p.line("", xy{{0, 0}, {100, 100}}, true) // as it should be
		plots = append(plots, p)
	}
	grid(b, "forecast-intervals", 300, 280, plots)
}

// drawDetection draws how many full stops are found within five minutes.
func drawDetection(b *testing.B, worlds map[string][]stops) {
	var plots []*plot
	for _, name := range []string{"rough", "smooth"} {
		all := worlds[name]
		if len(all) == 0 {
			return
		}
		p := newPlot(name, "flow, mm³/s", "of printers, %")
		var found, enough xy
		for _, s := range all {
			found = append(found, [2]float64{s.flow, 100 * float64(s.found) / float64(s.all)})
			enough = append(enough, [2]float64{s.flow, 100 * float64(s.enough) / float64(s.all)})
		}
		p.line("a stop is found in 5 min", found, false)
		p.line("it was said that it would be", enough, true)
		p.to[1], p.low = 100, true
		plots = append(plots, p)
	}
	grid(b, "flow-stops", 400, 280, plots)
}

// drawDelays draws, a plot for each guard, what it would gain in time and lose in quiet if
// it claimed what it claims at less.
func drawDelays(b *testing.B, worlds map[string]map[heat.GuardName][]trade) {
	rows := [][]*plot{make([]*plot, 4), make([]*plot, 4)}
	n := 0
	for _, guard := range heat.Judged() {
		if len(worlds["rough"][guard]) == 0 || len(worlds["smooth"][guard]) == 0 {
			continue
		}
		p := newPlot(string(guard), "false in 1,000 h", "found after, s")
		for i, world := range []string{"rough", "smooth"} {
			var points xy
			for _, t := range worlds[world][guard] {
				if !math.IsNaN(t.delay) {
					points = append(points, [2]float64{t.falses, t.delay})
				}
			}
			p.line(world, points, i > 0)
		}
		p.to = [2]float64{max(p.to[0], 10), max(1.15*p.to[1], 1)}
		rows[n/4][n%4], n = p, n+1
	}
	if n > 0 {
		grid(b, "guard-delays", 260, 230, rows...)
	}
}
