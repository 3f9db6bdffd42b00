package cli

import (
	"context"
	"fmt"
	"io"
	"strconv"
	"strings"

	"github.com/urfave/cli/v3"

	"diathermon/internal/api"
	"diathermon/internal/api/ops"
	"diathermon/internal/client"
)

func moveCommand() *cli.Command {
	return &cli.Command{
		Name: "move", Usage: "move the head or filament by hand", ArgsUsage: "[AXIS=MM ...]",
		Description: "Each argument is an axis, how far along it and nothing else: X=10, Y=-2.5, Z=+0.1, E=20 for filament; millimetres. With --to it is where to. Presses that come while the printer is at one add up. 'move' alone shows where the head is.",
		Flags: []cli.Flag{
			jsonFlag,
			&cli.BoolFlag{Name: "to", Usage: "the arguments are places, not distances"},
			&cli.FloatFlag{Name: "speed", Usage: "mm/s; as fast as is usual without it"},
			&cli.BoolFlag{Name: "park", Usage: "lift the nozzle and take it to a corner"},
			&cli.BoolFlag{Name: "motors-off", Usage: "let the axes go; it is not known then where the head is"},
			&cli.BoolFlag{Name: "endstops", Usage: "ask what the endstops say"},
			&cli.BoolFlag{Name: "drop", Usage: "forget what was pressed and has not begun"},
		},
		Action: func(ctx context.Context, cmd *cli.Command) error {
			asked := 0
			for _, name := range []string{"park", "motors-off", "endstops", "drop"} {
				if cmd.Bool(name) {
					asked++
				}
			}
			if asked > 1 || asked == 1 && cmd.Args().Present() {
				return wrong("choose one of --park, --motors-off, --endstops, --drop, or name axes")
			}
			press, err := pressed(cmd.Args().Slice(), cmd.Bool("to"))
			if err != nil {
				return usage{err}
			}
			if cmd.IsSet("speed") {
				speed := cmd.Float("speed")
				press.Speed = &speed
			}
			c, err := dial(cmd)
			if err != nil {
				return err
			}
			var now api.Motion
			switch {
			case cmd.Bool("endstops"):
				return showEndstops(ctx, cmd, c)
			case cmd.Bool("park"):
				now, err = client.Ask(ctx, c, ops.Park)
			case cmd.Bool("motors-off"):
				now, err = client.Ask(ctx, c, ops.TurnMotorsOff)
			case cmd.Bool("drop"):
				now, err = client.Ask(ctx, c, ops.DropPresses)
			case cmd.Args().Present():
				now, err = client.Call(ctx, c, ops.Press, ops.Body(press))
			default:
				var bench api.Bench
				bench, err = client.Ask(ctx, c, ops.GetBench)
				now = bench.Motion
			}
			return showMotion(cmd, now, err)
		},
	}
}

func homeCommand() *cli.Command {
	return &cli.Command{
		Name: "home", Usage: "home all axes, or some", ArgsUsage: "[X] [Y] [Z]", Flags: []cli.Flag{jsonFlag},
		Action: func(ctx context.Context, cmd *cli.Command) error {
			axes := strings.ToUpper(strings.Join(cmd.Args().Slice(), ""))
			if strings.Trim(axes, "XYZ") != "" || len(axes) > 3 {
				return wrong("%q is no list of axes: name some of X, Y and Z, or none for all", strings.Join(cmd.Args().Slice(), " "))
			}
			c, err := dial(cmd)
			if err != nil {
				return err
			}
			now, err := client.Call(ctx, c, ops.Home, ops.Body(api.Home{Axes: axes}))
			return showMotion(cmd, now, err)
		},
	}
}

// pressed reads what a person has written of axes.
func pressed(args []string, to bool) (api.Press, error) {
	var axes api.Axes
	for _, arg := range args {
		letter, text, ok := strings.Cut(arg, "=")
		field := map[string]**float64{"X": &axes.X, "Y": &axes.Y, "Z": &axes.Z, "E": &axes.E}[strings.ToUpper(letter)]
		if !ok || field == nil {
			return api.Press{}, fmt.Errorf("%q is no move: write an axis and millimetres, such as X=10 or Z=-0.1", arg)
		}
		if *field != nil {
			return api.Press{}, fmt.Errorf("%s is there twice", strings.ToUpper(letter))
		}
		mm, err := strconv.ParseFloat(text, 64)
		if err != nil || mm != mm || mm-mm != 0 {
			return api.Press{}, fmt.Errorf("%q says no number of millimetres: write it as in X=10 or Z=-0.1, without a unit", arg)
		}
		*field = &mm
	}
	if to {
		return api.Press{To: &axes}, nil
	}
	return api.Press{By: &axes}, nil
}

func showMotion(cmd *cli.Command, now api.Motion, err error) error {
	if err != nil {
		return err
	}
	w := cmd.Root().Writer
	if cmd.Bool("json") {
		return printJSON(w, now)
	}
	fmt.Fprintln(w, motionInWords(now))
	return nil
}

// motionInWords says where the head is or is going; what is not known is said to be so.
func motionInWords(now api.Motion) string {
	var parts []string
	for i, v := range []float64{now.X, now.Y, now.Z} {
		letter := string("XYZ"[i])
		if strings.Contains(now.Homed, letter) {
			parts = append(parts, fmt.Sprintf("%s %.2f", letter, v))
		} else {
			parts = append(parts, letter+" not known")
		}
	}
	text := strings.Join(parts, ", ")
	if !now.Free {
		return "Not to be moved by hand: " + now.Why + "."
	}
	if now.Going {
		return "Going to " + text + " mm."
	}
	return "At " + text + " mm."
}

func showEndstops(ctx context.Context, cmd *cli.Command, c *client.Client) error {
	all, err := client.Ask(ctx, c, ops.GetEndstops)
	if err != nil {
		return err
	}
	w := cmd.Root().Writer
	if cmd.Bool("json") {
		return printJSON(w, all)
	}
	if len(all.Endstops) == 0 {
		_, err := io.WriteString(w, "The printer tells of no endstops.\n")
		return err
	}
	rows := make([][]string, len(all.Endstops))
	for i, e := range all.Endstops {
		rows[i] = []string{e.Name, map[bool]string{true: "triggered", false: "open"}[e.Triggered]}
	}
	return table(w, []string{"Endstop", "Is"}, rows)
}
