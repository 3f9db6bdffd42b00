package cli

import (
	"context"
	"fmt"
	"strings"
	"time"

	"github.com/urfave/cli/v3"

	"diathermon/internal/api"
	"diathermon/internal/api/ops"
	"diathermon/internal/client"
)

func listGuards(ctx context.Context, cmd *cli.Command, c *client.Client) error {
	guards, err := client.Ask(ctx, c, ops.ListGuards)
	if err != nil {
		return err
	}
	w := cmd.Root().Writer
	if cmd.Bool("json") {
		return printJSON(w, guards)
	}
	rows, of := [][]string{}, ""
	show := func() error {
		if len(rows) == 0 {
			return nil
		}
		fmt.Fprintf(w, "%s:\n", upper(of))
		return table(w, []string{"Guard", "May", "Why", "Closest call", "Seen", "Claimed", "Told"}, rows)
	}
	for _, g := range guards.Guards {
		if g.Heater != of {
			if err := show(); err != nil {
				return err
			}
			if of != "" {
				fmt.Fprintln(w)
			}
			rows, of = nil, g.Heater
		}
		closest := fmt.Sprintf("%.0f %%", 100*g.Closest)
		if g.ClosestAt != nil {
			closest += ", " + local(*g.ClosestAt)[:16]
		}
		claimed := "–"
		if g.Claimed > 0 {
			claimed = fmt.Sprint(g.Claimed)
		}
		seen := fmt.Sprintf("%.0f h", g.SeenHours)
		rows = append(rows, []string{g.Guard, g.May, why(g), closest, seen, claimed, toldOf(g)})
	}
	if err := show(); err != nil {
		return err
	}
	told := map[string]bool{}
	for _, g := range guards.Guards {
		if g.Blind != "" && !told[g.Heater+g.Blind] {
			told[g.Heater+g.Blind] = true
			fmt.Fprintf(w, "%s, %s: %s.\n", g.Heater, g.Guard, g.Blind)
		}
	}
	return nil
}

// toldOf is what persons have said of a guard's alarms.
func toldOf(g api.Guard) string {
	var said []string
	if g.Sound > 0 {
		said = append(said, fmt.Sprintf("%d nothing", g.Sound))
	}
	if g.Faults > 0 {
		said = append(said, fmt.Sprintf("%d a fault", g.Faults))
	}
	if len(said) == 0 {
		return "–"
	}
	return strings.Join(said, ", ")
}

// why says why a guard may do what it may.
func why(g api.Guard) string {
	switch {
	case g.Set:
		return "as flow in [heat] is set"
	case g.Certain:
		return "what it claims cannot be anything else"
	case g.Bound != "":
		return "bounded by a keeper"
	case g.Next != "" && g.May == "tell":
		return fmt.Sprintf("on trial; may %s after %.0f h more", g.Next, g.NextHours)
	case g.Next != "":
		return fmt.Sprintf("earned in %.0f h; may %s after %.0f h more", g.QuietHours, g.Next, g.NextHours)
	}
	return fmt.Sprintf("earned in %.0f h", g.QuietHours)
}

func boundGuard(ctx context.Context, cmd *cli.Command, c *client.Client, what string) error {
	which, action, ok := strings.Cut(what, "=")
	heater, guard, named := strings.Cut(which, "/")
	if !ok || !named {
		return wrong("--bound is %q; write it as HEATER/GUARD=ACTION, such as bed/runaway=cool", what)
	}
	if action == "earned" {
		action = ""
	}
	g, err := client.Call(ctx, c, ops.BoundGuard, ops.ToGuard{Heater: heater, Guard: guard, Body: api.GuardBound{Bound: action}})
	if err != nil {
		return err
	}
	fmt.Fprintf(cmd.Root().Writer, "%s of the %s may %s: %s.\n", g.Guard, g.Heater, g.May, why(g))
	return nil
}

// lookEvery is how often it is asked how far the guards have come.
const lookEvery = 500 * time.Millisecond

func lookBack(ctx context.Context, cmd *cli.Command, c *client.Client, last string) error {
	length, err := parseSpan(last)
	if err != nil {
		return wrong("--look-back: %q is no span such as 3d, 4w or 1y", last)
	}
	to := time.Now().UTC()
	seen, err := client.Call(ctx, c, ops.LookBack, ops.Body(api.Look{From: to.Add(-length), To: to}))
	for err == nil && !seen.Ended {
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(lookEvery):
			seen, err = client.Ask(ctx, c, ops.GetHindsight)
		}
	}
	if err != nil {
		return err
	}
	w := cmd.Root().Writer
	if cmd.Bool("json") {
		return printJSON(w, seen)
	}
	if seen.Failed != "" {
		return fmt.Errorf("the guards could not look at all of it: %s", seen.Failed)
	}
	if len(seen.Alarms) == 0 {
		fmt.Fprintf(w, "From %s on the guards would have said nothing.\n", local(seen.From))
	}
	for _, a := range seen.Alarms {
		fmt.Fprintf(w, "%s  %s (%s): %s\n", local(a.At), a.Guard, a.Action, a.Text)
	}
	if seen.More > 0 {
		fmt.Fprintf(w, "… and %d more.\n", seen.More)
	}
	return nil
}
