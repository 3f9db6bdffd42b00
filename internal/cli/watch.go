package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"time"

	"github.com/NimbleMarkets/ntcharts/linechart/timeserieslinechart"
	tea "github.com/charmbracelet/bubbletea"
	"github.com/urfave/cli/v3"

	"diathermon/internal/api"
	"diathermon/internal/api/ops"
	"diathermon/internal/client"
)

func watchCommand() *cli.Command {
	return &cli.Command{
		Name: "watch", Usage: "watch the printer live in the terminal, and work on it; q ends it",
		Description: "Keys: h hold, r resume, s stop, t set a heater, m move with the arrows, w the wire in place of the chart, a see to an alarm, 1 to 8 answer a routine, ! the emergency stop, q end. It works in 80 x 24 and over a slow connection: what has changed is drawn once a second.",
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
	bench, err := client.Ask(ctx, c, ops.GetBench)
	if err != nil {
		return err
	}
	out := cmd.Root().Writer
	if !interactive(out) {
		return watchPlain(ctx, out, c)
	}
	v := &view{host: c, ctx: ctx, bench: bench, past: map[string][]timeserieslinechart.TimePoint{}, step: 1}
	if log, err := client.Call(ctx, c, ops.GetHeat, ops.Window{From: time.Now().Add(-watched), To: time.Now()}); err == nil {
		for _, r := range log.Readings {
			v.past[r.Heater] = append(v.past[r.Heater], timeserieslinechart.TimePoint{Time: r.At, Value: r.Actual})
		}
	}
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	v.ctx = ctx
	p := tea.NewProgram(v, tea.WithContext(ctx), tea.WithAltScreen(), tea.WithOutput(out), tea.WithFPS(10))
	go func() {
		for ctx.Err() == nil {
			err := c.Events(ctx, func(e client.Event) { p.Send(e) }, "wire") // which is most of the bytes, and asked for when it is shown
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
