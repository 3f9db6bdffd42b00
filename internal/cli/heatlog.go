package cli

import (
	"context"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"github.com/charmbracelet/x/term"
	"github.com/urfave/cli/v3"

	"diathermon/internal/api"
	"diathermon/internal/api/ops"
	"diathermon/internal/client"
)

func heatlogCommand() *cli.Command {
	return &cli.Command{
		Name: "heatlog", Usage: "show any window of the temperature log, or keep it in a file",
		Description: "Without a window: the last 15 minutes. The ending of the file's name says what --save writes: .csv and .json hold every reading, .svg and .png are pictures.",
		Flags: []cli.Flag{
			jsonFlag,
			&cli.StringFlag{Name: "last", Usage: "the last `SPAN`: 5m, 2h, 3d, 4w, 1y"},
			&cli.StringFlag{Name: "from", Usage: "from a `TIME` on: 2026-11-23, 2026-11-23T12:00 or RFC 3339"},
			&cli.StringFlag{Name: "to", Usage: "up to a `TIME`"},
			&cli.StringFlag{Name: "run", Usage: "the window of run `ID`"},
			&cli.StringSliceFlag{Name: "heater", Usage: "only `HEATER`; may be given again"},
			&cli.StringFlag{Name: "save", Usage: "write the window to `FILE`"},
		},
		Action: func(ctx context.Context, cmd *cli.Command) error {
			if _, err := arguments(cmd, 0, 0); err != nil {
				return err
			}
			w, err := windowOf(cmd, time.Now())
			if err != nil {
				return err
			}
			c, err := dial(cmd)
			if err != nil {
				return err
			}
			if path := cmd.String("save"); path != "" {
				return saveHeat(ctx, cmd, c, w, path)
			}
			out := cmd.Root().Writer
			width, height := 100, 18
			if f, is := out.(*os.File); is {
				if columns, rows, err := term.GetSize(f.Fd()); err == nil && columns > 20 {
					width, height = columns, min(max(rows-20, 8), 24)
				}
			}
			chart, err := client.Call(ctx, c, ops.GetHeatChart, ops.Chart{Window: w, Points: 2 * width})
			if err != nil {
				return err
			}
			if cmd.Bool("json") {
				return printJSON(out, chart)
			}
			return showChart(out, chart, width, height)
		},
	}
}

// windowOf reads which window was asked for.
func windowOf(cmd *cli.Command, now time.Time) (ops.Window, error) {
	w := ops.Window{Run: cmd.String("run"), Heater: cmd.StringSlice("heater")}
	for name, at := range map[string]*time.Time{"from": &w.From, "to": &w.To} {
		text := cmd.String(name)
		if text == "" {
			continue
		}
		t, err := parseTime(text)
		if err != nil {
			return w, wrong("--%s: %q is no time such as 2026-11-23, 2026-11-23T12:00 or 2026-11-23T12:00:00Z", name, text)
		}
		*at = t
	}
	if last := cmd.String("last"); last != "" {
		if w.Run != "" || !w.From.IsZero() {
			return w, wrong("--last, --from and --run each say where the window begins: give one of them")
		}
		span, err := parseSpan(last)
		if err != nil {
			return w, wrong("--last: %q is no span such as 5m, 2h, 3d, 4w or 1y", last)
		}
		if w.To.IsZero() {
			w.To = now
		}
		w.From = w.To.Add(-span)
	}
	return w, nil
}

func parseTime(text string) (time.Time, error) {
	for _, layout := range []string{"2006-01-02", "2006-01-02T15:04", "2006-01-02 15:04", "2006-01-02T15:04:05", "2006-01-02 15:04:05"} {
		if t, err := time.ParseInLocation(layout, text, time.Local); err == nil {
			return t, nil
		}
	}
	return time.Parse(time.RFC3339, text)
}

// parseSpan reads a duration, of which d, w and y are days, weeks and years.
func parseSpan(text string) (time.Duration, error) {
	long := map[string]time.Duration{"d": 24 * time.Hour, "w": 7 * 24 * time.Hour, "y": 365 * 24 * time.Hour}
	for unit, length := range long {
		if digits, ok := strings.CutSuffix(text, unit); ok {
			var n int
			if _, err := fmt.Sscanf(digits+";", "%d;", &n); err != nil || n <= 0 || n > 36500 {
				return 0, fmt.Errorf("%q is no number of days, weeks or years", digits)
			}
			return time.Duration(n) * length, nil
		}
	}
	d, err := time.ParseDuration(text)
	if err == nil && d <= 0 {
		err = fmt.Errorf("%s is not above zero", d)
	}
	return d, err
}

// saveHeat writes a window to a file.
func saveHeat(ctx context.Context, cmd *cli.Command, c *client.Client, w ops.Window, path string) error {
	format := strings.TrimPrefix(filepath.Ext(path), ".")
	if !slices.Contains(ops.HeatFormats, format) {
		return wrong("--save: %s should end in .%s", path, strings.Join(ops.HeatFormats, ", ."))
	}
	n, err := save(path, func(out io.Writer) error {
		return client.Fetch(ctx, c, ops.ExportHeat, ops.Export{Window: w, Format: format}, out)
	})
	if err != nil {
		return err
	}
	fmt.Fprintf(cmd.Root().Writer, "%s: %s\n", path, size(n))
	return nil
}

func showChart(out io.Writer, c api.HeatChart, width, height int) error {
	past := curves(c.Traces)
	var rows [][]string
	for _, t := range c.Traces {
		var low, high, last, duty *float64
		for i := range t.At {
			if t.Mean[i] == nil {
				continue
			}
			if low == nil || *t.Low[i] < *low {
				low = t.Low[i]
			}
			if high == nil || *t.High[i] > *high {
				high = t.High[i]
			}
			last, duty = t.Mean[i], t.Duty[i]
		}
		rows = append(rows, []string{ink(t.Heater).Render(t.Heater), degrees(low), degrees(high), degrees(last), percent(duty)})
	}
	fmt.Fprintf(out, "%s to %s\n", local(c.From), local(c.To))
	if len(past) == 0 {
		fmt.Fprintln(out, "There are no readings in this window.")
		return nil
	}
	fmt.Fprintln(out, temperatures(past, c.From, c.To, width, height))
	if err := table(out, []string{"Heater", "Lowest", "Highest", "Last", "Duty then"}, rows); err != nil {
		return err
	}
	const most = 12
	if over := len(c.Runs) - most; over > 0 {
		fmt.Fprintf(out, "%d earlier runs; --json lists them all\n", over)
		c.Runs = c.Runs[over:]
	}
	for _, r := range c.Runs {
		fmt.Fprintf(out, "%s  run %s, %s, until %s\n", local(r.From), r.File, r.State, local(r.To))
	}
	if over := len(c.Marks) - most; over > 0 {
		fmt.Fprintf(out, "%d earlier events; --json lists them all\n", over)
		c.Marks = c.Marks[over:]
	}
	for _, m := range c.Marks {
		fmt.Fprintf(out, "%s  %s: %s\n", local(m.At), m.Kind, m.Text)
	}
	return nil
}
