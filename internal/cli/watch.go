package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"strings"
	"time"

	"github.com/NimbleMarkets/ntcharts/linechart/timeserieslinechart"
	"github.com/charmbracelet/bubbles/progress"
	tea "github.com/charmbracelet/bubbletea"
	"github.com/charmbracelet/lipgloss"
	"github.com/urfave/cli/v3"

	"diathermon/internal/api"
	"diathermon/internal/client"
)

func watchCommand() *cli.Command {
	return &cli.Command{
		Name: "watch", Usage: "watch the printer live in the terminal; q ends it",
		Action: func(ctx context.Context, cmd *cli.Command) error {
			c, err := dial(cmd)
			if err != nil {
				return err
			}
			return watch(ctx, cmd, c)
		},
	}
}

// watched is how much of the past the chart shows.
const watched = 10 * time.Minute

// watch shows the live view until q, Ctrl-C or the end of the connection. Where
// the output is no terminal it prints a line whenever the run changes, and ends
// with the run.
func watch(ctx context.Context, cmd *cli.Command, c *client.Client) error {
	bench, err := c.Bench(ctx)
	if err != nil {
		return err
	}
	out := cmd.Root().Writer
	if !interactive(out) {
		return watchPlain(ctx, out, c)
	}
	v := &view{bench: bench, past: map[string][]timeserieslinechart.TimePoint{}, bar: progress.New(progress.WithSolidFill("209"), progress.WithoutPercentage())}
	if log, err := c.Heat(ctx, time.Now().Add(-watched), time.Now(), ""); err == nil {
		for _, r := range log.Readings {
			v.past[r.Heater] = append(v.past[r.Heater], timeserieslinechart.TimePoint{Time: r.At, Value: r.Actual})
		}
	}
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	p := tea.NewProgram(v, tea.WithContext(ctx), tea.WithAltScreen(), tea.WithOutput(out))
	go func() {
		for ctx.Err() == nil {
			err := c.Events(ctx, func(e client.Event) { p.Send(e) })
			p.Send(lost{err})
			select {
			case <-time.After(2 * time.Second):
			case <-ctx.Done():
			}
		}
	}()
	if _, err := p.Run(); err != nil && !errors.Is(err, tea.ErrProgramKilled) && !errors.Is(err, context.Canceled) {
		return err
	}
	return nil
}

// watchPlain is watch for a pipe: one line a change.
func watchPlain(ctx context.Context, out io.Writer, c *client.Client) error {
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	said := ""
	err := c.Events(ctx, func(e client.Event) {
		switch d := e.Data.(type) {
		case api.Link:
			if line := fmt.Sprintf("link %s: %s", d.State, d.Reason); line != said {
				said = line
				fmt.Fprintln(out, line)
			}
		case api.Run:
			fmt.Fprintf(out, "%s %s %s %s\n", d.File, d.State, runShare(d), d.Reason)
			if !d.Going {
				cancel()
			}
		}
	})
	if errors.Is(err, context.Canceled) {
		return nil
	}
	return err
}

// lost says that the connection to the host has ended.
type lost struct{ err error }

// view is the live view.
type view struct {
	bench    api.Bench
	past     map[string][]timeserieslinechart.TimePoint
	messages []string
	away     string // why the host does not answer; empty while it does
	bar      progress.Model
	width    int
	height   int
}

// Init starts nothing: events come from outside.
func (v *view) Init() tea.Cmd { return nil }

// Update takes an event, a key or a new size.
func (v *view) Update(msg tea.Msg) (tea.Model, tea.Cmd) {
	switch m := msg.(type) {
	case tea.KeyMsg:
		if k := m.String(); k == "q" || k == "ctrl+c" || k == "esc" {
			return v, tea.Quit
		}
	case tea.WindowSizeMsg:
		v.width, v.height = m.Width, m.Height
	case lost:
		v.away = "the host does not answer; trying again"
		if m.err != nil {
			v.away = m.err.Error()
		}
	case client.Event:
		v.away = ""
		v.take(m.Data)
	}
	return v, nil
}

func (v *view) take(data any) {
	switch d := data.(type) {
	case api.Link:
		v.bench.Link = d
	case api.Heat:
		v.bench.Heaters = d.Heaters
		for _, h := range d.Heaters {
			if h.Actual == nil || h.At == nil {
				continue
			}
			past := append(v.past[h.Heater], timeserieslinechart.TimePoint{Time: *h.At, Value: *h.Actual})
			for len(past) > 0 && past[0].Time.Before(time.Now().Add(-watched)) {
				past = past[1:]
			}
			v.past[h.Heater] = past
		}
	case api.Run:
		v.bench.Run = &d
	case api.Position:
		v.bench.Position = d
	case api.Message:
		v.messages = append(v.messages, fmt.Sprintf("%s %s: %s", d.At.Local().Format("15:04:05"), d.Kind, d.Text))
		if len(v.messages) > 3 {
			v.messages = v.messages[len(v.messages)-3:]
		}
	}
}

var (
	bold  = lipgloss.NewStyle().Bold(true)
	dim   = lipgloss.NewStyle().Faint(true)
	alert = lipgloss.NewStyle().Bold(true).Reverse(true).Padding(0, 1)
)

// View draws everything.
func (v *view) View() string {
	if v.width == 0 {
		return ""
	}
	b := v.bench
	var s strings.Builder
	title := bold.Render(b.Printer.Name) + "  " + b.Link.State
	if b.Link.State != "live" {
		title = bold.Render(b.Printer.Name) + "  " + alert.Render(b.Link.State) + " " + b.Link.Reason
	}
	if v.away != "" {
		title = alert.Render("no connection") + " " + v.away
	}
	s.WriteString(clip(title, v.width) + "\n\n")
	for _, h := range b.Heaters {
		line := fmt.Sprintf("%-8s %9s → %-7s  %-8s  duty %s", h.Heater, degrees(h.Actual), target(h.Setpoint), h.State, percent(h.Duty))
		if h.Actual == nil {
			line = fmt.Sprintf("%-8s no reading", h.Heater)
		}
		s.WriteString(ink(h.Heater).Render(clip(line, v.width)) + "\n")
	}
	below := v.below()
	if rows := v.height - lipgloss.Height(s.String()) - lipgloss.Height(below) - 1; rows >= 6 {
		s.WriteString("\n" + v.chart(v.width, rows) + "\n")
	}
	s.WriteString(below)
	return s.String()
}

// below is what stands under the chart: the run, the position and messages.
func (v *view) below() string {
	var s strings.Builder
	b := v.bench
	s.WriteString("\n")
	if r := b.Run; r != nil {
		line := bold.Render(r.File) + "  " + r.State
		if r.Reason != "" {
			line += " (" + r.Reason + ")"
		}
		s.WriteString(clip(line, v.width) + "\n")
		if p := r.Progress; p != nil {
			v.bar.Width = min(v.width, 60)
			s.WriteString(v.bar.ViewAs(p.Share) + "\n")
			detail := fmt.Sprintf("%s  layer %d of %d  Z %.2f mm", runShare(*r), p.Layer, p.Layers, p.Z)
			if r.Going {
				detail += fmt.Sprintf("  %s left", span(p.LeftSeconds))
			}
			s.WriteString(clip(detail, v.width) + "\n")
		}
	} else {
		s.WriteString(dim.Render("no run; start one with 'diathermon print NAME'") + "\n")
	}
	if p := b.Position; p.Known {
		where := fmt.Sprintf("X %.1f  Y %.1f  Z %.2f mm", p.X, p.Y, p.Z)
		if p.Homed != "XYZ" {
			where += "  not homed, so uncertain"
		}
		s.WriteString(dim.Render(clip(where, v.width)) + "\n")
	}
	for _, m := range v.messages {
		s.WriteString(dim.Render(clip(m, v.width)) + "\n")
	}
	s.WriteString(dim.Render("q quits"))
	return s.String()
}

// chart draws the last minutes of every heater.
func (v *view) chart(width, height int) string {
	now := time.Now()
	return temperatures(v.past, now.Add(-watched), now, width, height)
}

// clip cuts a line to what fits.
func clip(s string, width int) string { return lipgloss.NewStyle().MaxWidth(width).Render(s) }
