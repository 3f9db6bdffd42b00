package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"strings"
	"time"

	"github.com/urfave/cli/v3"

	"diathermon/internal/api"
	"diathermon/internal/api/ops"
	"diathermon/internal/client"
	"diathermon/internal/core/legible"
)

func wireCommand() *cli.Command {
	return &cli.Command{
		Name: "wire", Usage: "show what was said between host and printer",
		Flags: []cli.Flag{
			jsonFlag,
			&cli.BoolFlag{Name: "follow", Aliases: []string{"f"}, Usage: "go on as it is said, until Ctrl-C"},
			&cli.StringFlag{Name: "record", Usage: "write what the flight recorder holds, the last ten minutes of everything, to `FILE`, a ZIP archive"},
			&cli.StringFlag{Name: "run", Usage: "with --record: what was recorded when `RUN` went wrong"},
			&cli.StringFlag{Name: "replay", Usage: "show what is in a recording, `FILE`, instead"},
			&cli.BoolFlag{Name: "measure", Usage: "measure anew what the printer can hold; it must be cold and have nothing to do"},
			&cli.IntFlag{Name: "lines", Aliases: []string{"n"}, Value: 40, Usage: "at most `N` lines of what was said before"},
		},
		Action: func(ctx context.Context, cmd *cli.Command) error {
			if file := cmd.String("replay"); file != "" {
				return replay(cmd.Root().Writer, file)
			}
			c, err := dial(cmd)
			if err != nil {
				return err
			}
			if file := cmd.String("record"); file != "" {
				return record(ctx, cmd, c, file)
			}
			if cmd.Bool("measure") {
				return measure(ctx, cmd, c)
			}
			recent, err := client.Call(ctx, c, ops.GetWire, ops.Traffic{Since: 0, Limit: min(max(cmd.Int("lines"), 1), 4000)})
			if err != nil {
				return err
			}
			w := cmd.Root().Writer
			show := func(lines []api.Traffic) error {
				for _, l := range lines {
					if cmd.Bool("json") {
						if err := printJSON(w, l); err != nil {
							return err
						}
						continue
					}
					arrow := "<"
					if l.Sent {
						arrow = ">"
					}
					fmt.Fprintf(w, "%s %s %s\n", l.At.Local().Format("15:04:05.000"), arrow, l.Text)
				}
				return nil
			}
			if !cmd.Bool("follow") {
				if cmd.Bool("json") {
					return printJSON(w, recent)
				}
				return show(recent.Lines)
			}
			if err := show(recent.Lines); err != nil {
				return err
			}
			seen := uint64(0)
			if n := len(recent.Lines); n > 0 {
				seen = recent.Lines[n-1].Seq
			}
			err = c.Events(ctx, func(e client.Event) {
				if lines, ok := e.Data.(api.Wire); ok {
					fresh := lines.Lines
					for len(fresh) > 0 && fresh[0].Seq <= seen {
						fresh = fresh[1:]
					}
					show(fresh)
				}
			})
			if errors.Is(err, context.Canceled) {
				return nil
			}
			return err
		},
	}
}

// save writes a new file, whole or not at all, and returns how many bytes it has. One that
// is there already is not written over.
func save(path string, write func(io.Writer) error) (int64, error) {
	file, err := os.OpenFile(path, os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o644)
	if errors.Is(err, os.ErrExist) {
		return 0, fmt.Errorf("%s is there already: choose another name", path)
	}
	if err != nil {
		return 0, err
	}
	err = write(file)
	n, seeking := file.Seek(0, io.SeekCurrent)
	if err = errors.Join(err, seeking, file.Close()); err != nil {
		os.Remove(path)
	}
	return n, err
}

// record fetches a recording.
func record(ctx context.Context, cmd *cli.Command, c *client.Client, path string) error {
	_, err := save(path, func(w io.Writer) (err error) {
		if id := cmd.String("run"); id != "" {
			err = client.Fetch(ctx, c, ops.GetRunRecording, ops.ID{ID: id}, w)
		} else {
			err = client.Fetch(ctx, c, ops.GetRecording, ops.Nothing{}, w)
		}
		return err
	})
	if err != nil {
		return err
	}
	fmt.Fprintf(cmd.Root().Writer, "%s: read it with 'diathermon wire --replay %s'\n", path, path)
	return nil
}

// replay shows a recording, a line for each line said.
func replay(w io.Writer, path string) error {
	half := map[byte]string{} // what has been said of a line, each way
	return client.ReadRecording(path, func(e client.Recorded) error {
		text := e.Text
		if e.Mark == '>' || e.Mark == '<' {
			text = half[e.Mark] + text
			whole := strings.LastIndexByte(text, '\n') + 1
			half[e.Mark], text = text[whole:], text[:whole]
		}
		for line := range strings.Lines(text) {
			if line = strings.TrimRight(line, "\r\n"); line == "" {
				continue
			}
			if _, err := fmt.Fprintf(w, "%s %c %s\n", e.At.Local().Format("15:04:05.000000"), e.Mark, legible.Line(line)); err != nil {
				return err
			}
		}
		return nil
	})
}

// measure lets the host measure what the printer can hold, and tells the outcome.
func measure(ctx context.Context, cmd *cli.Command, c *client.Client) error {
	if err := client.Do(ctx, c, ops.MeasureWire, ops.Nothing{}); err != nil {
		return err
	}
	for {
		bench, err := client.Ask(ctx, c, ops.GetBench)
		if err != nil {
			return err
		}
		if bench.Firmware == nil || bench.Firmware.Holds.How == "measuring" {
			select {
			case <-time.After(200 * time.Millisecond):
				continue
			case <-ctx.Done():
				return ctx.Err()
			}
		}
		if cmd.Bool("json") {
			return printJSON(cmd.Root().Writer, bench.Firmware.Holds)
		}
		fmt.Fprintf(cmd.Root().Writer, "%s holds %s.\n", bench.Printer.Name, holding(bench.Firmware.Holds))
		return nil
	}
}
