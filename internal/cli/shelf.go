package cli

import (
	"context"
	"fmt"
	"io"
	"path/filepath"
	"slices"

	"github.com/urfave/cli/v3"

	"diathermon/internal/api"
	"diathermon/internal/api/ops"
	"diathermon/internal/client"
)

// lists is an action that asks the host for something and shows it, or prints its JSON.
func lists[T any](op ops.Op[ops.Nothing, T], show func(io.Writer, T) error) cli.ActionFunc {
	return func(ctx context.Context, cmd *cli.Command) error {
		if cmd.Args().Present() {
			return wrong("%s lists; what it does with one is below it: 'diathermon help %s'", cmd.Name, cmd.Name)
		}
		c, err := dial(cmd)
		if err != nil {
			return err
		}
		v, err := client.Ask(ctx, c, op)
		if err != nil {
			return err
		}
		if cmd.Bool("json") {
			return printJSON(cmd.Root().Writer, v)
		}
		return show(cmd.Root().Writer, v)
	}
}

// named is an action about one stored file.
func named(act func(context.Context, *cli.Command, *client.Client, string) error) cli.ActionFunc {
	return func(ctx context.Context, cmd *cli.Command) error {
		args, err := arguments(cmd, 1, 1)
		if err != nil {
			return err
		}
		c, err := dial(cmd)
		if err != nil {
			return err
		}
		return act(ctx, cmd, c, args[0])
	}
}

func shelfCommand() *cli.Command {
	return &cli.Command{
		Name: "shelf", Usage: "list the stored files", Flags: []cli.Flag{jsonFlag},
		Action: lists(ops.ListFiles, showShelf),
		Commands: []*cli.Command{
			{Name: "show", Usage: "show one file and what stands between it and a start", ArgsUsage: "NAME", Flags: []cli.Flag{jsonFlag, &cli.BoolFlag{Name: "layers", Usage: "list what each layer takes"}}, Action: named(showFile)},
			{Name: "fetch", Usage: "download a file", ArgsUsage: "NAME", Action: named(fetchFile),
				Flags: []cli.Flag{&cli.StringFlag{Name: "output", Aliases: []string{"o"}, Usage: "write to `FILE`; - is standard output"}}},
			{Name: "remove", Usage: "take a file off the shelf", ArgsUsage: "NAME", Action: named(func(ctx context.Context, cmd *cli.Command, c *client.Client, name string) error {
				if err := client.Do(ctx, c, ops.RemoveFile, ops.Name{Name: name}); err != nil {
					return err
				}
				fmt.Fprintf(cmd.Root().Writer, "Removed: %s\n", name)
				return nil
			})},
		},
	}
}

func showShelf(w io.Writer, shelf api.Shelf) error {
	if len(shelf.Files) == 0 {
		fmt.Fprintln(w, "The shelf is empty: send a file with 'diathermon send FILE'.")
		return nil
	}
	rows := make([][]string, 0, len(shelf.Files))
	for _, f := range shelf.Files {
		rows = append(rows, []string{f.Name, size(f.Size), fmt.Sprint(f.Layers), span(f.DurationSeconds), metres(f.FilamentMM), fmt.Sprintf("%.0f g", f.FilamentG), local(f.Stored)})
	}
	return table(w, []string{"Name", "Size", "Layers", "Moves take", "Filament", "", "Stored"}, rows)
}

func showFile(ctx context.Context, cmd *cli.Command, c *client.Client, name string) error {
	if cmd.Bool("layers") {
		l, err := client.Call(ctx, c, ops.ListFileLayers, ops.Name{Name: name})
		if err != nil {
			return err
		}
		return listLayers(cmd, l)
	}
	f, err := client.Call(ctx, c, ops.GetFile, ops.FileFrom{Name: name})
	if err != nil {
		return err
	}
	w := cmd.Root().Writer
	if cmd.Bool("json") {
		return printJSON(w, f)
	}
	showFacts(w, f)
	return nil
}

func fetchFile(ctx context.Context, cmd *cli.Command, c *client.Client, name string) error {
	to := cmd.String("output")
	if to == "-" {
		return client.Fetch(ctx, c, ops.GetFileContent, ops.Name{Name: name}, cmd.Root().Writer)
	}
	if to == "" {
		to = filepath.Base(name)
	}
	n, err := save(to, func(w io.Writer) error {
		return client.Fetch(ctx, c, ops.GetFileContent, ops.Name{Name: name}, w)
	})
	if err != nil {
		return err
	}
	fmt.Fprintf(cmd.Root().Writer, "Fetched: %s, %s\n", to, size(n))
	return nil
}

func printCommand() *cli.Command {
	return &cli.Command{
		Name: "print", Usage: "start a file from the shelf", ArgsUsage: "NAME", Flags: append([]cli.Flag{jsonFlag, &cli.BoolFlag{Name: "watch", Usage: "and watch it"},
			&cli.BoolFlag{Name: "soak", Usage: "hold the bed at the file's setpoint until the plate is even, then begin"},
			&cli.DurationFlag{Name: "soak-for", Usage: "or for `TIME`"}, overruleFlag, slotsFlag}, slices.Concat(arounds("its first line", "it is finished"), trims())...),
		Action: named(func(ctx context.Context, cmd *cli.Command, c *client.Client, name string) error {
			whys, err := overruled(cmd)
			if err != nil {
				return err
			}
			t, said, err := trimmed(cmd)
			if err != nil {
				return err
			}
			var differs *api.Trim
			if said {
				differs = whole(t)
			}
			before, after, err := around(cmd)
			if err != nil {
				return err
			}
			slots, err := slotsFor(ctx, cmd, c, name)
			if err != nil {
				return err
			}
			r, err := client.Call(ctx, c, ops.StartRun, ops.Body(api.StartRun{Slots: slots, Before: before, After: after, File: name, Overrule: whys, Trim: differs, Soak: cmd.Bool("soak") || cmd.IsSet("soak-for"), SoakSeconds: cmd.Duration("soak-for").Seconds()}))
			if err != nil {
				return err
			}
			switch {
			case cmd.Bool("json"):
				return printJSON(cmd.Root().Writer, r)
			case cmd.Bool("watch"):
				return watch(ctx, cmd, c)
			}
			fmt.Fprintf(cmd.Root().Writer, "Started: %s, run %s\n", r.File, shortID(r.ID))
			return nil
		}),
	}
}
