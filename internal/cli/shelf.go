package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"

	"github.com/schollz/progressbar/v3"
	"github.com/urfave/cli/v3"

	"diathermon/internal/api"
	"diathermon/internal/client"
	"diathermon/internal/facts"
)

func sendCommand() *cli.Command {
	return &cli.Command{
		Name: "send", Usage: "put a file on the shelf", ArgsUsage: "FILE",
		Description: "A slicer can call this after it has written its file: diathermon send --print FILE",
		Flags: []cli.Flag{
			jsonFlag,
			&cli.BoolFlag{Name: "print", Usage: "start it once it is there"},
			&cli.BoolFlag{Name: "replace", Usage: "replace another file of the same name"},
			&cli.StringFlag{Name: "name", Usage: "store it under this `NAME`"},
		},
		Action: func(ctx context.Context, cmd *cli.Command) error {
			args, err := arguments(cmd, 1, 1)
			if err != nil {
				return err
			}
			c, err := dial(cmd)
			if err != nil {
				return err
			}
			f, err := os.Open(args[0])
			if err != nil {
				return err
			}
			defer f.Close()
			info, err := f.Stat()
			if err != nil {
				return err
			}
			if !info.Mode().IsRegular() {
				return wrong("%s is not a file", args[0])
			}
			name := cmd.String("name")
			if name == "" {
				name = filepath.Base(args[0])
			}
			var body io.Reader = f
			errs := cmd.Root().ErrWriter
			if interactive(errs) && !cmd.Bool("json") {
				bar := progressbar.NewOptions64(info.Size(), progressbar.OptionSetWriter(errs), progressbar.OptionSetDescription(name),
					progressbar.OptionShowBytes(true), progressbar.OptionSetWidth(30), progressbar.OptionClearOnFinish())
				defer bar.Exit()
				body = io.TeeReader(f, bar)
			}
			stored, err := c.Send(ctx, client.Sending{Name: name, Body: body, Size: info.Size(), Replace: cmd.Bool("replace"), Print: cmd.Bool("print")})
			if err != nil {
				return err
			}
			w := cmd.Root().Writer
			if cmd.Bool("json") {
				if err := printJSON(w, stored); err != nil {
					return err
				}
			} else {
				showStored(w, stored)
			}
			if stored.Not != nil {
				return fmt.Errorf("it is on the shelf and has not started: %w", stored.Not)
			}
			return nil
		},
	}
}

func showStored(w io.Writer, s api.Stored) {
	what := map[string]string{"created": "Stored", "same": "Already there", "replaced": "Replaced"}[s.Outcome]
	f := s.File
	if f.Survey.State == string(facts.Done) {
		warming := ""
		if f.WarmingSeconds != nil {
			warming = " after warming for " + span(*f.WarmingSeconds)
		}
		fmt.Fprintf(w, "%s: %s, %s, %d layers, %s%s, %s of filament\n", what, f.Name, size(f.Size), f.Layers, span(f.DurationSeconds), warming, metres(f.FilamentMM))
	} else {
		fmt.Fprintf(w, "%s: %s, %s; what it is, is being worked out\n", what, f.Name, size(f.Size))
	}
	for _, c := range f.Checks {
		if s.Not != nil { // which names them
			break
		}
		fmt.Fprintf(w, "  %s: %s (%s)\n", c.Level, c.Title, c.Do)
	}
	for _, name := range s.NotTaken {
		fmt.Fprintf(w, "Not taken: %s (one file at a time)\n", name)
	}
	if s.Run != nil {
		fmt.Fprintf(w, "Started: run %s\n", s.Run.ID)
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
		Action: listShelf,
		Commands: []*cli.Command{
			{Name: "show", Usage: "show one file and what stands between it and a start", ArgsUsage: "NAME", Flags: []cli.Flag{jsonFlag, &cli.BoolFlag{Name: "layers", Usage: "list what each layer takes"}}, Action: named(showFile)},
			{Name: "fetch", Usage: "download a file", ArgsUsage: "NAME", Action: named(fetchFile),
				Flags: []cli.Flag{&cli.StringFlag{Name: "output", Aliases: []string{"o"}, Usage: "write to `FILE`; - is standard output"}}},
			{Name: "remove", Usage: "take a file off the shelf", ArgsUsage: "NAME", Action: named(func(ctx context.Context, cmd *cli.Command, c *client.Client, name string) error {
				if err := c.Remove(ctx, name); err != nil {
					return err
				}
				fmt.Fprintf(cmd.Root().Writer, "Removed: %s\n", name)
				return nil
			})},
		},
	}
}

func listShelf(ctx context.Context, cmd *cli.Command) error {
	if cmd.Args().Present() {
		return wrong("shelf lists the files; use 'shelf show', 'shelf fetch' or 'shelf remove' for one")
	}
	c, err := dial(cmd)
	if err != nil {
		return err
	}
	shelf, err := c.Shelf(ctx)
	if err != nil {
		return err
	}
	w := cmd.Root().Writer
	if cmd.Bool("json") {
		return printJSON(w, shelf)
	}
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
		l, err := c.FileLayers(ctx, name)
		if err != nil {
			return err
		}
		return listLayers(cmd, l)
	}
	f, err := c.File(ctx, name)
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
		_, err := c.Content(ctx, name, cmd.Root().Writer)
		return err
	}
	if to == "" {
		to = filepath.Base(name)
	}
	f, err := os.OpenFile(to, os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o644)
	if err != nil {
		return err
	}
	n, err := c.Content(ctx, name, f)
	if err = errors.Join(err, f.Close()); err != nil {
		os.Remove(to)
		return err
	}
	fmt.Fprintf(cmd.Root().Writer, "Fetched: %s, %s\n", to, size(n))
	return nil
}

func printCommand() *cli.Command {
	return &cli.Command{
		Name: "print", Usage: "start a file from the shelf", ArgsUsage: "NAME", Flags: []cli.Flag{jsonFlag, &cli.BoolFlag{Name: "watch", Usage: "and watch it"},
			&cli.BoolFlag{Name: "soak", Usage: "hold the bed at the file's setpoint until the plate is even, then begin"},
			&cli.DurationFlag{Name: "soak-for", Usage: "or for `TIME`"}},
		Action: named(func(ctx context.Context, cmd *cli.Command, c *client.Client, name string) error {
			r, err := c.StartWith(ctx, api.StartRun{File: name, Soak: cmd.Bool("soak") || cmd.IsSet("soak-for"), SoakSeconds: cmd.Duration("soak-for").Seconds()})
			if err != nil {
				return err
			}
			switch {
			case cmd.Bool("json"):
				return printJSON(cmd.Root().Writer, r)
			case cmd.Bool("watch"):
				return watch(ctx, cmd, c)
			}
			fmt.Fprintf(cmd.Root().Writer, "Started: %s, run %s\n", r.File, r.ID)
			return nil
		}),
	}
}
