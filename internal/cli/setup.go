package cli

import (
	"context"
	"fmt"
	"io"
	"strings"

	"github.com/urfave/cli/v3"

	"diathermon/internal/api"
	"diathermon/internal/api/ops"
	"diathermon/internal/client"
	"diathermon/internal/core/machine"
)

// aspectFlag is an aspect of the printer as an option.
func aspectFlag(a machine.Aspect) cli.Flag {
	name := strings.ReplaceAll(a.Name, "_", "-")
	switch a.Said(new(machine.Description)).(type) {
	case **float64:
		return &cli.FloatFlag{Name: name, Usage: a.Usage(), HideDefault: true}
	case **int:
		return &cli.IntFlag{Name: name, Usage: a.Usage(), HideDefault: true}
	}
	return &cli.StringFlag{Name: name, Usage: a.Usage()}
}

// takeAspect puts the option into a description, if it is given.
func takeAspect(cmd *cli.Command, a machine.Aspect, d *machine.Description) bool {
	name := strings.ReplaceAll(a.Name, "_", "-")
	if !cmd.IsSet(name) {
		return false
	}
	switch to := a.Said(d).(type) {
	case **string:
		*to = new(cmd.String(name))
	case **float64:
		*to = new(cmd.Float(name))
	case **int:
		*to = new(cmd.Int(name))
	}
	return true
}

// deciders are who decides, in words.
var deciders = map[string]string{"file": "diathermon.toml or command line", "setup": "Setup", "ordinary": "as is usual"}

func setupCommand() *cli.Command {
	flags := []cli.Flag{jsonFlag, &cli.BoolFlag{Name: "take-up", Usage: "let the host begin anew, so that it holds; not while anything is under way or heated"}}
	for _, a := range machine.Aspects {
		flags = append(flags, aspectFlag(a))
	}
	return &cli.Command{
		Name: "setup", Usage: "show how the printer is described, or say more of it", Flags: flags,
		Action: func(ctx context.Context, cmd *cli.Command) error {
			if _, err := arguments(cmd, 0, 0); err != nil {
				return err
			}
			c, err := dial(cmd)
			if err != nil {
				return err
			}
			var say api.DescribePrinter
			more := false
			for _, a := range machine.Aspects {
				more = takeAspect(cmd, a, (*machine.Description)(&say.Description)) || more
			}
			var now api.Described
			if more {
				now, err = client.Call(ctx, c, ops.DescribePrinter, ops.Body(say))
			} else {
				now, err = client.Ask(ctx, c, ops.GetPrinter)
			}
			if err != nil {
				return err
			}
			w := cmd.Root().Writer
			if cmd.Bool("json") {
				if err := printJSON(w, now); err != nil {
					return err
				}
			} else if err := showDescribed(w, now, cmd.Bool("take-up")); err != nil {
				return err
			}
			if cmd.Bool("take-up") && now.Waits {
				return client.Do(ctx, c, ops.TakeUpPrinter, ops.Nothing{})
			}
			return nil
		},
	}
}

func showDescribed(w io.Writer, now api.Described, takes bool) error {
	rows := [][]string{}
	is, tells := machine.Description(now.Printer), machine.Description(now.Told)
	for _, a := range machine.Aspects {
		told := a.In(&tells)
		if told == a.In(&is) {
			told = ""
		}
		rows = append(rows, []string{a.Word, a.In(&is), deciders[now.By[a.Name]], told})
	}
	if err := table(w, []string{"Printer", "", "Decided by", "It tells itself"}, rows); err != nil {
		return err
	}
	switch {
	case now.Waits && takes:
		fmt.Fprintln(w, "\nThe host begins anew; it is away for some seconds.")
	case now.Waits:
		fmt.Fprintln(w, "\nIt holds from the next start of the host on, or at once with setup --take-up.")
	}
	return nil
}
