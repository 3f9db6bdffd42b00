package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"math"
	"strconv"
	"strings"
	"time"

	"github.com/urfave/cli/v3"

	"diathermon/internal/api"
	"diathermon/internal/api/ops"
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
			&cli.StringFlag{Name: "spool", Usage: "warm up as for `SPOOL`, by the warm-up that was made for it"},
			&cli.BoolFlag{Name: "wait", Usage: "wait until it is warm, and soaked if it soaks"},
			&cli.BoolFlag{Name: "warm-ups", Usage: "list the warm-ups"},
			&cli.BoolFlag{Name: "models", Usage: "show what has been learned of the heaters"},
			&cli.BoolFlag{Name: "health", Usage: "say what has changed about the heaters"},
			&cli.BoolFlag{Name: "tune", Usage: "with a heater and a temperature: let the firmware tune its PID there, and wait"},
			&cli.IntFlag{Name: "cycles", Value: 8, Usage: "swing `N` times for --tune"},
			&cli.BoolFlag{Name: "tuning", Usage: "show the last tuning"},
			&cli.StringFlag{Name: "apply-tuning", Usage: "give the firmware what was found: `now`, or keep for good"},
			&cli.BoolFlag{Name: "guards", Usage: "show what each guard may do by itself, and how near ordinary life has come"},
			&cli.StringFlag{Name: "bound", Usage: "say what a guard may do at the most: `GUARD=ACTION` of a heater, such as bed/runaway=cool; =earned leaves it to what it earns"},
			&cli.StringFlag{Name: "look-back", Usage: "let the guards look at the last `TIME` of the log, such as 30d: what would they have said?"},
			&cli.BoolFlag{Name: "alarms", Usage: "list the alarms"},
			&cli.StringFlag{Name: "acknowledge", Usage: "say that alarm `ID` has been seen, or all"},
			&cli.StringFlag{Name: "nothing-wrong", Usage: "with --acknowledge: nothing was wrong, and why, such as 'a window was open': `REASON`; its guard is on trial again, and what it saw is ordinary"},
			&cli.StringFlag{Name: "fault", Usage: "with --acknowledge: something was, such as 'the sensor had slipped': `REASON`; it counts for its guard"},
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
	if (cmd.IsSet("nothing-wrong") || cmd.IsSet("fault")) && !cmd.IsSet("acknowledge") {
		return wrong("--nothing-wrong and --fault say what an alarm was: name it with --acknowledge ID, or all")
	}
	asked := 0
	for _, flag := range []string{"warm-up", "file", "spool", "warm-ups", "models", "health", "alarms", "acknowledge", "tuning", "apply-tuning", "guards", "bound", "look-back"} {
		if cmd.IsSet(flag) {
			asked++
		}
	}
	if asked > 1 || asked == 1 && len(args) > 0 {
		return wrong("heat does one thing at a time: give one of a setpoint, --warm-up, --file, --spool, --warm-ups, --models, --health, --guards, --bound, --look-back, --alarms and --acknowledge")
	}
	c, err := dial(cmd)
	if err != nil {
		return err
	}
	switch {
	case cmd.IsSet("warm-up"), cmd.IsSet("file"), cmd.IsSet("spool"):
		return warmUp(ctx, cmd, c, api.BeginWarmUp{Name: cmd.String("warm-up"), File: cmd.String("file"), Spool: cmd.String("spool")})
	case cmd.Bool("warm-ups"):
		return listWarmUps(ctx, cmd, c)
	case cmd.Bool("models"):
		return showModels(ctx, cmd, c)
	case cmd.Bool("health"):
		return showHealth(ctx, cmd, c)
	case cmd.Bool("guards"):
		return listGuards(ctx, cmd, c)
	case cmd.IsSet("bound"):
		return boundGuard(ctx, cmd, c, cmd.String("bound"))
	case cmd.IsSet("look-back"):
		return lookBack(ctx, cmd, c, cmd.String("look-back"))
	case cmd.Bool("alarms"):
		return listAlarms(ctx, cmd, c)
	case cmd.Bool("tuning"):
		t, err := client.Ask(ctx, c, ops.GetTuning)
		if err != nil {
			return err
		}
		return tellTuning(cmd, t)
	case cmd.IsSet("apply-tuning"):
		how := cmd.String("apply-tuning")
		if how != "now" && how != "keep" {
			return wrong("--apply-tuning is now or keep, not %q", how)
		}
		t, err := client.Call(ctx, c, ops.ApplyTuning, ops.Body(api.ApplyTuning{Save: how == "keep"}))
		if err != nil {
			return err
		}
		return tellTuning(cmd, t)
	case cmd.IsSet("acknowledge"):
		return acknowledge(ctx, cmd, c, cmd.String("acknowledge"))
	case len(args) == 2:
		setpoint, err := strconv.ParseFloat(strings.TrimSuffix(args[1], "°C"), 64)
		if err != nil || math.IsNaN(setpoint) || math.IsInf(setpoint, 0) {
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
	bench, err := client.Ask(ctx, c, ops.GetBench)
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
			if err := client.Do(ctx, c, ops.Cool, ops.Nothing{}); err != nil {
				return err
			}
			models, told, err := heatModels(ctx, cmd, c)
			if told || err != nil {
				return err
			}
			w := cmd.Root().Writer
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
		set, err := client.Call(ctx, c, ops.SetHeat, ops.ForHeater(h, api.SetHeat{Setpoint: setpoint}))
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
		ready := ", ready in " + clock(h.ReadySeconds)
		if give := (h.ReadyLatest - h.ReadySoonest) / 2; give >= 5 {
			ready += " ± " + clock(give)
		}
		return ready
	case h.Soak != nil && h.Soak.There && !h.Soak.Done && h.Soak.LeftSeconds != nil:
		return ", soaking, " + clock(*h.Soak.LeftSeconds) + " left"
	}
	return ""
}

// clock shows a short time to the second: "40 s", "2 min 40 s".
func clock(seconds float64) string {
	d := time.Duration(seconds * float64(time.Second)).Round(time.Second)
	if d < time.Minute || d >= time.Hour {
		return span(seconds)
	}
	return fmt.Sprintf("%d min %02d s", int(d.Minutes()), int(d.Seconds())%60)
}
