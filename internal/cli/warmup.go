package cli

import (
	"context"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"github.com/urfave/cli/v3"

	"diathermon/internal/api"
	"diathermon/internal/api/ops"
	"diathermon/internal/client"
)

func warmUp(ctx context.Context, cmd *cli.Command, c *client.Client, b api.BeginWarmUp) error {
	begun, err := client.Call(ctx, c, ops.BeginWarmUp, ops.Body(b))
	if err != nil {
		return err
	}
	w := cmd.Root().Writer
	if cmd.Bool("wait") {
		fmt.Fprintln(cmd.Root().ErrWriter, warmingWords(begun))
		return waitWarm(ctx, cmd, c)
	}
	if cmd.Bool("json") {
		return printJSON(w, begun)
	}
	fmt.Fprintln(w, warmingWords(begun))
	return nil
}

// setpoints puts a warm-up's setpoints into words.
func setpoints(s map[string]float64) string {
	var parts []string
	for _, h := range slices.Backward(slices.Sorted(maps.Keys(s))) {
		parts = append(parts, fmt.Sprintf("%s %g °C", h, s[h]))
	}
	return strings.Join(parts, ", ")
}

func warmingWords(w api.WarmingUp) string {
	text := fmt.Sprintf("Warming up, %s: %s", w.WarmUp.Name, setpoints(w.WarmUp.Setpoints))
	switch {
	case w.Done:
		text += "; ready"
	case w.Soaking:
		text += "; soaking"
	}
	if w.LeftSeconds != nil && !w.Done {
		text += ", ready at " + time.Now().Add(api.Seconds(*w.LeftSeconds)).Format("15:04") + ", in " + clock(*w.LeftSeconds)
	}
	return text + "."
}

// warmPoll is how often a waiting command looks, and reportWait how long a printer
// may take to report a setpoint that it was given.
const (
	warmPoll   = time.Second
	reportWait = 20 * time.Second
)

// waitWarm waits until every heater that is on is at its setpoint and soaked.
func waitWarm(ctx context.Context, cmd *cli.Command, c *client.Client) error {
	tick := time.NewTicker(warmPoll)
	defer tick.Stop()
	begun, wasOn := time.Now(), false
	for {
		b, err := client.Ask(ctx, c, ops.GetBench)
		if err != nil {
			return err
		}
		if len(b.Alarms) > 0 {
			return &api.Problem{Status: 409, Title: "an alarm waits for you", Detail: b.Alarms[0].Text}
		}
		done, on := b.WarmUp == nil || b.WarmUp.Done, false
		for _, h := range b.Heaters {
			if h.Setpoint == 0 {
				continue
			}
			on = true
			if h.Never {
				return &api.Problem{Status: 409, Title: fmt.Sprintf("the %s does not get to %g °C", h.Heater, h.Setpoint), Detail: "its power is too small for that, or something is wrong with it"}
			}
			done = done && h.Actual != nil && (h.State == "settling" || h.State == "steady" || h.State == "soaked")
		}
		wasOn = wasOn || on
		if b.WarmUp == nil && !on && (wasOn || time.Since(begun) > reportWait) {
			return &api.Problem{Status: 409, Title: "the heaters were turned off meanwhile"}
		}
		if done && on {
			if cmd.Bool("json") {
				return printJSON(cmd.Root().Writer, b.Heaters)
			}
			return showHeaters(cmd.Root().Writer, b)
		}
		select {
		case <-tick.C:
		case <-ctx.Done():
			return ctx.Err()
		}
	}
}

func listWarmUps(ctx context.Context, cmd *cli.Command, c *client.Client) error {
	kept, err := client.Ask(ctx, c, ops.ListWarmUps)
	if err != nil {
		return err
	}
	if cmd.Bool("json") {
		return printJSON(cmd.Root().Writer, kept)
	}
	rows := make([][]string, 0, len(kept.WarmUps))
	for _, w := range kept.WarmUps {
		soak := ""
		if w.Soak {
			soak = "until even"
			if w.SoakSeconds > 0 {
				soak = span(w.SoakSeconds)
			}
		}
		rows = append(rows, []string{w.Name, setpoints(w.Setpoints), w.Order, soak})
	}
	return table(cmd.Root().Writer, []string{"Name", "Setpoints", "Order", "Soak"}, rows)
}
