package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"maps"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/urfave/cli/v3"

	"diathermon/internal/api"
	"diathermon/internal/client"
)

func heatCommand() *cli.Command {
	return &cli.Command{
		Name: "heat", Usage: "show the heaters, give one a setpoint, or warm up", ArgsUsage: "[HEATER °C]",
		Description: "Without arguments: the heaters now. With a heater and a temperature: its setpoint. With --warm-up or --file: all heaters, so that they are warm together.",
		Flags: []cli.Flag{
			jsonFlag,
			&cli.StringFlag{Name: "warm-up", Usage: "begin the warm-up called `NAME`"},
			&cli.StringFlag{Name: "file", Usage: "warm up for file `NAME` on the shelf"},
			&cli.BoolFlag{Name: "wait", Usage: "wait until it is warm, and soaked if it soaks"},
			&cli.BoolFlag{Name: "warm-ups", Usage: "list the warm-ups"},
			&cli.BoolFlag{Name: "models", Usage: "show what has been learned of the heaters"},
			&cli.BoolFlag{Name: "health", Usage: "say what has changed about the heaters"},
			&cli.BoolFlag{Name: "tune", Usage: "with a heater and a temperature: let the firmware tune its PID there, and wait"},
			&cli.IntFlag{Name: "cycles", Value: 8, Usage: "swing `N` times for --tune"},
			&cli.BoolFlag{Name: "tuning", Usage: "show the last tuning"},
			&cli.StringFlag{Name: "apply-tuning", Usage: "give the firmware what was found: `now`, or keep for good"},
			&cli.BoolFlag{Name: "alarms", Usage: "list the alarms"},
			&cli.StringFlag{Name: "acknowledge", Usage: "say that alarm `ID` has been seen, or all"},
		},
		Action: heat,
	}
}

func heat(ctx context.Context, cmd *cli.Command) error {
	args, err := arguments(cmd, 0, 2)
	if err != nil {
		return err
	}
	if len(args) == 1 {
		return wrong("heat takes a heater and a setpoint, such as 'heat bed 60'; found only %q", args[0])
	}
	asked := 0
	for _, flag := range []string{"warm-up", "file", "warm-ups", "models", "health", "alarms", "acknowledge", "tuning", "apply-tuning"} {
		if cmd.IsSet(flag) {
			asked++
		}
	}
	if asked > 1 || asked == 1 && len(args) > 0 {
		return wrong("heat does one thing at a time: give one of a setpoint, --warm-up, --file, --warm-ups, --models, --health, --alarms and --acknowledge")
	}
	c, err := dial(cmd)
	if err != nil {
		return err
	}
	switch {
	case cmd.IsSet("warm-up"), cmd.IsSet("file"):
		return warmUp(ctx, cmd, c, api.BeginWarmUp{Name: cmd.String("warm-up"), File: cmd.String("file")})
	case cmd.Bool("warm-ups"):
		return listWarmUps(ctx, cmd, c)
	case cmd.Bool("models"):
		return showModels(ctx, cmd, c)
	case cmd.Bool("health"):
		return showHealth(ctx, cmd, c)
	case cmd.Bool("alarms"):
		return listAlarms(ctx, cmd, c)
	case cmd.Bool("tuning"):
		t, err := c.Tuning(ctx)
		if err != nil {
			return err
		}
		return tellTuning(cmd, t)
	case cmd.IsSet("apply-tuning"):
		how := cmd.String("apply-tuning")
		if how != "now" && how != "keep" {
			return wrong("--apply-tuning is now or keep, not %q", how)
		}
		t, err := c.ApplyTuning(ctx, how == "keep")
		if err != nil {
			return err
		}
		return tellTuning(cmd, t)
	case cmd.IsSet("acknowledge"):
		return acknowledge(ctx, cmd, c, cmd.String("acknowledge"))
	case len(args) == 2:
		setpoint, err := strconv.ParseFloat(strings.TrimSuffix(args[1], "°C"), 64)
		if err != nil {
			return wrong("%q is not a temperature in °C", args[1])
		}
		if cmd.Bool("tune") {
			return tune(ctx, cmd, c, args[0], setpoint)
		}
		if err := setHeat(ctx, cmd, c, []string{args[0]}, setpoint); err != nil || !cmd.Bool("wait") || setpoint == 0 {
			return err
		}
		return waitWarm(ctx, cmd, c)
	}
	bench, err := c.Bench(ctx)
	if err != nil {
		return err
	}
	if cmd.Bool("json") {
		return printJSON(cmd.Root().Writer, bench.Heaters)
	}
	return showHeaters(cmd.Root().Writer, bench)
}

func coolCommand() *cli.Command {
	return &cli.Command{
		Name: "cool", Usage: "turn heaters off: those named, or all", ArgsUsage: "[HEATER …]", Flags: []cli.Flag{jsonFlag},
		Action: func(ctx context.Context, cmd *cli.Command) error {
			c, err := dial(cmd)
			if err != nil {
				return err
			}
			if names := cmd.Args().Slice(); len(names) > 0 {
				return setHeat(ctx, cmd, c, names, 0)
			}
			if err := c.Cool(ctx); err != nil {
				return err
			}
			models, err := c.HeatModels(ctx)
			if err != nil {
				return err
			}
			w := cmd.Root().Writer
			if cmd.Bool("json") {
				return printJSON(w, models)
			}
			fmt.Fprintln(w, "All heaters are off.")
			for _, m := range models.Models {
				switch {
				case m.PartOff != nil && *m.PartOff > 0:
					fmt.Fprintf(w, "A part comes off the bed at %g °C, in about %s.\n", m.PartOffAt, span(*m.PartOff))
				case m.PartOff == nil && m.PartOffAt > 0:
					fmt.Fprintf(w, "The bed does not get down to %g °C in this room.\n", m.PartOffAt)
				}
			}
			return nil
		},
	}
}

// setHeat gives heaters a setpoint and tells what came of it. One that fails
// does not keep the others from theirs.
func setHeat(ctx context.Context, cmd *cli.Command, c *client.Client, heaters []string, setpoint float64) error {
	var all []api.HeatSet
	var failed error
	for _, h := range heaters {
		set, err := c.SetHeat(ctx, h, setpoint)
		if err != nil {
			failed = errors.Join(failed, err)
			continue
		}
		all = append(all, set)
	}
	w := cmd.Root().Writer
	if cmd.Bool("json") {
		return errors.Join(printJSON(w, all), failed)
	}
	for _, set := range all {
		tail := ""
		if !set.Taken {
			tail = ", as soon as the printer has finished waiting"
		}
		fmt.Fprintf(w, "%s: %s%s\n", set.Heater, target(set.Setpoint), tail)
	}
	return failed
}

func showHeaters(w io.Writer, b api.Bench) error {
	rows := make([][]string, 0, len(b.Heaters))
	for _, h := range b.Heaters {
		state := h.State
		if h.Actual == nil {
			state = "no reading"
		}
		rows = append(rows, []string{h.Heater, degrees(h.Actual), target(h.Setpoint), state + outlook(h), percent(h.Duty), target(h.Limit)})
	}
	if err := table(w, []string{"Heater", "Now", "Setpoint", "State", "Duty", "Limit"}, rows); err != nil {
		return err
	}
	if b.WarmUp != nil {
		fmt.Fprintln(w, warmingWords(*b.WarmUp))
	}
	for _, a := range b.Alarms {
		fmt.Fprintf(w, "ALARM %s: %s\n", a.Guard, a.Text)
	}
	if b.Flow.Stopped {
		fmt.Fprintf(w, "No filament flows, and the file asks for %.1f mm³/s.\n", b.Flow.Asked)
	}
	return nil
}

// outlook is what is to be expected of a heater.
func outlook(h api.Heater) string {
	switch {
	case h.Never:
		return ", does not get there"
	case h.ReadySeconds > 0:
		return ", ready in " + clock(h.ReadySeconds)
	case h.Soak != nil && h.Soak.There && !h.Soak.Done && h.Soak.LeftSeconds != nil:
		return ", soaking, " + clock(*h.Soak.LeftSeconds) + " left"
	}
	return ""
}

// clock shows minutes and seconds.
func clock(seconds float64) string {
	d := time.Duration(seconds * float64(time.Second)).Round(time.Second)
	return fmt.Sprintf("%d:%02d", int(d.Minutes()), int(d.Seconds())%60)
}

func warmUp(ctx context.Context, cmd *cli.Command, c *client.Client, b api.BeginWarmUp) error {
	begun, err := c.BeginWarmUp(ctx, b)
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
		text += ", ready in " + clock(*w.LeftSeconds)
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
		b, err := c.Bench(ctx)
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
	kept, err := c.WarmUps(ctx)
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

func showModels(ctx context.Context, cmd *cli.Command, c *client.Client) error {
	models, err := c.HeatModels(ctx)
	if err != nil {
		return err
	}
	w := cmd.Root().Writer
	if cmd.Bool("json") {
		return printJSON(w, models)
	}
	rows := make([][]string, 0, len(models.Models))
	for _, m := range models.Models {
		if !m.Known {
			rows = append(rows, []string{m.Heater, "not known yet: it is learned as the heater warms up", "", "", "", ""})
			continue
		}
		rows = append(rows, []string{
			m.Heater, fmt.Sprintf("%.2f ± %.2f K/s", m.Rise.Value, m.Rise.Error), fmt.Sprintf("%.0f K above the room", m.Gain), clock(m.TimeConstant),
			fmt.Sprintf("%.0f s", m.Dead), fmt.Sprintf("%.1f ± %.1f °C", m.Ambient.Value, m.Ambient.Error),
		})
	}
	return table(w, []string{"Heater", "Rise at full duty", "Gain", "Time constant", "Dead time", "Room"}, rows)
}

func showHealth(ctx context.Context, cmd *cli.Command, c *client.Client) error {
	bench, err := c.Bench(ctx)
	if err != nil {
		return err
	}
	var all []api.HeatHealth
	for _, h := range bench.Heaters {
		health, err := c.HeatHealth(ctx, h.Heater)
		if err != nil {
			return err
		}
		all = append(all, health)
	}
	w := cmd.Root().Writer
	if cmd.Bool("json") {
		return printJSON(w, all)
	}
	for _, h := range all {
		warm := 0
		for _, e := range h.Episodes {
			if e.Kind == "warm-up" {
				warm++
			}
		}
		fmt.Fprintf(w, "%s: %d warm-ups and %d stretches of holding in the last half year.\n", h.Heater, warm, len(h.Episodes)-warm)
		for _, f := range h.Findings {
			fmt.Fprintf(w, "  %s\n", upper(f.Text))
		}
		if len(h.Findings) == 0 {
			fmt.Fprintln(w, "  Nothing has changed beyond its own scatter.")
		}
	}
	return nil
}

// upper begins a sentence.
func upper(s string) string {
	if s == "" {
		return s
	}
	return strings.ToUpper(s[:1]) + s[1:]
}

func listAlarms(ctx context.Context, cmd *cli.Command, c *client.Client) error {
	alarms, err := c.Alarms(ctx, false)
	if err != nil {
		return err
	}
	w := cmd.Root().Writer
	if cmd.Bool("json") {
		return printJSON(w, alarms)
	}
	if len(alarms.Alarms) == 0 {
		fmt.Fprintln(w, "There has been no alarm.")
	}
	for _, a := range alarms.Alarms {
		seen := "waits for you: 'diathermon heat --acknowledge " + a.ID + "'"
		if a.Acknowledged != nil {
			seen = fmt.Sprintf("acknowledged %s by %s", local(*a.Acknowledged), a.By)
		}
		fmt.Fprintf(w, "%s  %s (%s): %s\n  %s\n", local(a.At), a.Guard, a.Action, a.Text, seen)
	}
	return nil
}

func acknowledge(ctx context.Context, cmd *cli.Command, c *client.Client, id string) error {
	ids := []string{id}
	if id == "all" {
		waiting, err := c.Alarms(ctx, true)
		if err != nil {
			return err
		}
		ids = nil
		for _, a := range waiting.Alarms {
			ids = append(ids, a.ID)
		}
	}
	var failed error
	for _, id := range ids {
		a, err := c.Acknowledge(ctx, id)
		if err != nil {
			failed = errors.Join(failed, err)
			continue
		}
		fmt.Fprintf(cmd.Root().Writer, "Acknowledged: %s: %s\n", a.Guard, a.Text)
	}
	return failed
}
