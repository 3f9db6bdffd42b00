package cli

import (
	"fmt"
	"strings"
	"time"

	"github.com/charmbracelet/lipgloss"

	"diathermon/internal/core/legible"
)

var (
	bold  = lipgloss.NewStyle().Bold(true)
	dim   = lipgloss.NewStyle().Faint(true)
	alert = lipgloss.NewStyle().Bold(true).Reverse(true).Padding(0, 1)
)

// draw draws everything, in as much room as there is: what matters most comes first, and
// what does not fit is left out from the middle, where the chart is.
func (v *view) draw() string {
	if v.width <= 0 || v.height <= 0 {
		return ""
	}
	above, below := v.above(), v.below()
	rows := v.height - len(above) - len(below)
	switch {
	case rows >= 6 && !v.wiring:
		if v.charted == "" || time.Since(v.chartedAt) >= chartEvery || strings.Count(v.charted, "\n")+1 != rows {
			v.charted, v.chartedAt = v.chart(v.width, rows), time.Now()
		}
		above = append(above, strings.Split(v.charted, "\n")...)
	case rows > 0:
		lines := v.wire[max(len(v.wire)-rows, 0):]
		above = append(append(above, lines...), make([]string, rows-len(lines))...)
	}
	all := append(above, below...)
	if len(all) > v.height { // the keys and what is asked stay
		all = append(all[:max(v.height-len(below), 0)], below[max(len(below)-v.height, 0):]...)
	}
	for i, line := range all {
		all[i] = clip(line, v.width)
	}
	return strings.Join(all, "\n")
}

// above is what stands over the chart: the printer, alarms, heaters, the run.
func (v *view) above() []string {
	b := v.bench
	title := bold.Render(b.Printer.Name) + "  " + b.Link.State
	if b.Link.State != "live" {
		title = bold.Render(b.Printer.Name) + "  " + alert.Render(b.Link.State) + " " + b.Link.Reason
	}
	if v.away != "" {
		title = alert.Render("no connection") + " " + v.away
	}
	out := []string{title}
	for _, a := range b.Alarms {
		out = append(out, alert.Render("ALARM")+" "+a.Text)
	}
	for _, h := range b.Heaters {
		line := fmt.Sprintf("%-8s %9s → %-7s  %-8s  duty %s", h.Heater, degrees(h.Actual), target(h.Setpoint), h.State, percent(h.Duty))
		if h.Actual == nil {
			line = fmt.Sprintf("%-8s no reading", h.Heater)
		}
		if h.ReadySeconds > 0 {
			line += "  ready at " + time.Now().Add(time.Duration(h.ReadySeconds*float64(time.Second))).Format("15:04")
		}
		out = append(out, ink(h.Heater).Render(line))
	}
	r := b.Run
	if r == nil {
		return append(out, dim.Render("no run; start one with 'diathermon print NAME'"))
	}
	line := bold.Render(r.File) + "  " + r.State
	if r.Reason != "" {
		line += " (" + r.Reason + ")"
	}
	out = append(out, line)
	if p := r.Progress; p != nil {
		done := int(p.Share*30 + 0.5)
		detail := fmt.Sprintf("%s%s %s  layer %d of %d  Z %.2f mm", strings.Repeat("█", min(max(done, 0), 30)), strings.Repeat("░", min(max(30-done, 0), 30)), runShare(*r), p.Layer, p.Layers, p.Z)
		if r.Going {
			detail += fmt.Sprintf("  %s left", span(p.LeftSeconds))
		}
		out = append(out, detail)
	}
	return out
}

// below is what stands under the chart: the position, messages, a routine, what is asked,
// the keys.
func (v *view) below() []string {
	var out []string
	if p := v.bench.Position; p.Known {
		where := fmt.Sprintf("X %.1f  Y %.1f  Z %.2f mm", p.X, p.Y, p.Z)
		if p.Homed != "XYZ" {
			where += "  not homed, so uncertain"
		}
		out = append(out, dim.Render(where))
	}
	for _, m := range v.told {
		out = append(out, dim.Render(m))
	}
	if p := v.bench.Routine; p.ID != "" && p.Ended == nil {
		out = append(out, bold.Render(p.Routine)+"  "+p.State+"  "+legible.Line(p.Said))
		if q := p.Question; q != nil {
			answers := make([]string, len(q.Answers))
			for i, a := range q.Answers {
				answers[i] = fmt.Sprintf("%d %s", i+1, a)
			}
			out = append(out, alert.Render(q.Text)+" "+strings.Join(answers, "  "))
		}
	}
	switch {
	case v.asked != nil:
		out = append(out, alert.Render(v.asked.text)+" y yes, any other key no")
	case v.typed != nil:
		out = append(out, v.typed.text+": "+bold.Render(v.typed.line)+"_")
	case v.moving:
		out = append(out, alert.Render(fmt.Sprintf("arrows and page keys move by %g mm", v.step))+" + - step  0 home  any other key ends it")
	default:
		if v.said != "" {
			out = append(out, bold.Render(v.said))
		}
		out = append(out, dim.Render("h hold  r resume  s stop  t heat  m move  w wire  a alarm  ! HALT  q quit"))
	}
	return out
}

// chart draws the last minutes of every heater.
func (v *view) chart(width, height int) string {
	now := time.Now()
	return temperatures(v.past, now.Add(-watched), now, width, height)
}

// clip cuts a line to what fits.
func clip(s string, width int) string { return lipgloss.NewStyle().MaxWidth(width).Render(s) }
