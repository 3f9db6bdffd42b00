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
	"diathermon/internal/core/trim"
)

// trims are the flags of how a run differs from its file.
func trims() []cli.Flag {
	flags := []cli.Flag{
		&cli.StringSliceFlag{Name: "hotter", Usage: "add to a heater's setpoints, as `HEATER=K`: nozzle0=5, bed=-10"},
		&cli.StringSliceFlag{Name: "first", Usage: "add besides until the second layer begins, as `HEATER=K`"},
		&cli.StringSliceFlag{Name: "skip", Usage: "leave an `OBJECT` out, by its name or key (shelf show lists them); again for more"},
		&cli.StringSliceFlag{Name: "print-again", Usage: "print an `OBJECT` that is left out"},
	}
	for _, f := range trim.Fields {
		flags = append(flags, &cli.FloatFlag{Name: f.Flag, Usage: f.Usage(), HideDefault: true})
	}
	return flags
}

// trimmed is what the flags say, and whether they say anything.
func trimmed(cmd *cli.Command) (c api.ChangeTrim, said bool, err error) {
	for _, f := range trim.Fields {
		if v := cmd.Float(f.Flag); cmd.IsSet(f.Flag) {
			*f.In((*trim.Wanted)(&c.TrimWanted)), said = &v, true
		}
	}
	for flag, to := range map[string]*map[string]float64{"hotter": &c.Heaters, "first": &c.First} {
		for _, one := range cmd.StringSlice(flag) {
			heater, text, ok := strings.Cut(one, "=")
			k, err := strconv.ParseFloat(text, 64)
			if !ok || err != nil {
				return c, false, wrong("--%s %q is not written as nozzle0=5", flag, one)
			}
			if *to == nil {
				*to = map[string]float64{}
			}
			(*to)[heater], said = k, true
		}
	}
	for flag, leaves := range map[string]bool{"skip": true, "print-again": false} {
		for _, o := range cmd.StringSlice(flag) {
			if c.Skip == nil {
				c.Skip = map[string]bool{}
			}
			c.Skip[o], said = leaves, true
		}
	}
	return c, said, nil
}

// whole is a change of what is as in the file.
func whole(c api.ChangeTrim) *api.Trim {
	return &api.Trim{
		Skip: c.Skip, Heaters: c.Heaters, First: c.First,
		TrimNumbers: api.TrimNumbers(trim.Wanted(c.TrimWanted).Of(trim.Numbers{})),
	}
}

func trimCommand() *cli.Command {
	return &cli.Command{
		Name: "trim", Usage: "let the run that goes on differ from its file", Flags: append(trims(), &cli.BoolFlag{Name: "as-sliced", Usage: "print on as the file has it"}, jsonFlag),
		Action: func(ctx context.Context, cmd *cli.Command) error {
			if _, err := arguments(cmd, 0, 0); err != nil {
				return err
			}
			c, err := dial(cmd)
			if err != nil {
				return err
			}
			r, err := going(ctx, c)
			if err != nil {
				return err
			}
			t, said, err := trimmed(cmd)
			if err != nil {
				return err
			}
			if t.AsSliced = cmd.Bool("as-sliced"); said || t.AsSliced {
				if r, err = client.Call(ctx, c, ops.TrimRun, ops.ForID(r.ID, t)); err != nil {
					return err
				}
			}
			if cmd.Bool("json") {
				return printJSON(cmd.Root().Writer, r)
			}
			showTrim(cmd.Root().Writer, r)
			return nil
		},
	}
}

// going is the run that goes on.
func going(ctx context.Context, c *client.Client) (api.Run, error) {
	b, err := client.Ask(ctx, c, ops.GetBench)
	if err != nil {
		return api.Run{}, err
	}
	if b.Run == nil || b.Run.Over {
		return api.Run{}, &api.Problem{Status: 409, Title: "no run is going on"}
	}
	return *b.Run, nil
}

// showTrim says how a run differs from its file.
func showTrim(w io.Writer, r api.Run) {
	if r.Differs != "" {
		fmt.Fprintf(w, "%s: %s\n", r.File, r.Differs)
		return
	}
	fmt.Fprintf(w, "%s is printed as it was sliced\n", r.File)
}
