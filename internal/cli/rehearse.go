package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"strings"
	"time"

	"github.com/schollz/progressbar/v3"
	"github.com/urfave/cli/v3"

	"diathermon/internal/api"
	"diathermon/internal/api/ops"
	"diathermon/internal/client"
)

// rehearseCommand tries a stored file on the host's stand-in printer.
func rehearseCommand() *cli.Command {
	return &cli.Command{
		Name: "rehearse", Usage: "try a file from the shelf on the stand-in printer, as fast as that goes", ArgsUsage: "NAME",
		Description: "Nothing is said to the printer. It fails where something stands in the way of a print; breaking it off (Ctrl-C) ends the rehearsal.",
		Flags:       []cli.Flag{jsonFlag},
		Action: named(func(ctx context.Context, cmd *cli.Command, c *client.Client, name string) error {
			r, err := rehearse(ctx, cmd, c, name)
			if err != nil {
				return err
			}
			w := cmd.Root().Writer
			if cmd.Bool("json") {
				err = printJSON(w, r)
			} else {
				showRehearsal(w, r)
			}
			return errors.Join(err, inTheWay(r))
		}),
	}
}

// askEvery is how often it is asked how far a rehearsal has come.
const askEvery = 200 * time.Millisecond

// rehearse asks for a rehearsal and waits for its end.
func rehearse(ctx context.Context, cmd *cli.Command, c *client.Client, name string) (api.Rehearsal, error) {
	r, err := client.Call(ctx, c, ops.RehearseFile, ops.Name{Name: name})
	if err != nil {
		return r, err
	}
	var bar *progressbar.ProgressBar
	if errs := cmd.Root().ErrWriter; interactive(errs) && !cmd.Bool("json") {
		bar = progressbar.NewOptions(1000, progressbar.OptionSetWriter(errs), progressbar.OptionSetDescription("rehearsing "+name), progressbar.OptionSetWidth(30), progressbar.OptionClearOnFinish(), progressbar.OptionSetPredictTime(false))
		defer bar.Exit()
	}
	look := time.NewTicker(askEvery)
	defer look.Stop()
	for r.State == "waiting" || r.State == "rehearsing" {
		select {
		case <-ctx.Done():
			end, cancel := context.WithTimeout(context.WithoutCancel(ctx), 5*time.Second)
			defer cancel()
			if err := client.Do(end, c, ops.StopRehearsal, ops.Name{Name: name}); err != nil {
				return r, fmt.Errorf("the rehearsal may go on: %w", err)
			}
			return r, errors.New("the rehearsal was stopped")
		case <-look.C:
		}
		if r, err = client.Call(ctx, c, ops.GetRehearsal, ops.Name{Name: name}); err != nil && ctx.Err() == nil {
			return r, err
		}
		if bar != nil {
			bar.Set(int(1000 * r.Share))
		}
	}
	switch r.State {
	case "stopped":
		return r, errors.New("the rehearsal was stopped by somebody else")
	case "broken":
		return r, fmt.Errorf("the rehearsal broke off: %s", r.Reason)
	}
	return r, nil
}

// inTheWay is what a rehearsal has found that stands in the way of a print; nil if
// nothing does.
func inTheWay(r api.Rehearsal) error {
	n := 0
	for _, f := range r.Report.Problems {
		if f.Level == "block" {
			n++
		}
	}
	if n == 0 {
		return nil
	}
	return fmt.Errorf("%s stands in the way of a print", plural(n, "problem"))
}

func plural(n int, of string) string {
	if n == 1 {
		return "1 " + of
	}
	return fmt.Sprintf("%d %ss", n, of)
}

// The chart's size in characters.
const (
	chartWidth  = 78
	chartHeight = 14
)

// showRehearsal says what came of a rehearsal.
func showRehearsal(w io.Writer, r api.Rehearsal) {
	p := r.Report
	line := func(name, format string, args ...any) {
		fmt.Fprintf(w, "  %-12s%s\n", name, fmt.Sprintf(format, args...))
	}
	fmt.Fprintf(w, "%s, rehearsed %s\n", r.File, local(r.Asked))
	laying := "nothing is laid"
	if p.LayingSeconds > 0 {
		laying = "plastic after " + span(p.LayingSeconds)
	}
	line("takes", "%s, by %s; %s", span(p.Seconds), whose(p.Limits), laying)
	for _, s := range p.States {
		text := span(s.Seconds)
		switch {
		case s.State == "held":
			text = plural(s.Times, "time") + ", until you resume"
		case s.State == "running":
			text += fmt.Sprintf("; %s of it homing, %s waiting for a time", span(p.HomingSeconds), span(p.DwellingSeconds))
		}
		line(s.State, "%s", text)
	}
	if p.StarvedSeconds > 0 {
		line("cable", "too slow: %s longer than its moves", span(p.StarvedSeconds))
	}
	heaters := "as a common printer's"
	if len(p.Learned) > 0 {
		heaters = strings.Join(p.Learned, " and ") + " as learned from this printer"
	}
	line("heaters", "%s", heaters)
	if past := curves(p.Heat); len(past) > 0 {
		fmt.Fprintf(w, "\n%s\n", temperatures(past, r.Asked, r.Asked.Add(api.Seconds(p.Seconds)), chartWidth, chartHeight))
	}
	for _, a := range p.Alarms {
		fmt.Fprintf(w, "  guard, after %s (line %d): %s (it would %s)\n", span(a.AfterSeconds), a.Line, a.Text, does(a.Action))
	}
	if p.MoreAlarms > 0 {
		fmt.Fprintf(w, "  guards would say %d more\n", p.MoreAlarms)
	}
	if len(p.Alarms) == 0 {
		fmt.Fprintln(w, "  no guard would say anything")
	}
	for _, f := range p.Problems {
		more := ""
		if f.Count > 1 {
			more = fmt.Sprintf(" and %d more", f.Count-1)
		}
		fmt.Fprintf(w, "  %s, line %d%s: %s (%s)\n", f.Level, f.Line, more, f.Title, f.Do)
	}
	if len(p.Problems) == 0 {
		fmt.Fprintln(w, "  no problem was found")
	}
}

// does says what a guard would do by itself.
func does(action string) string {
	return map[string]string{"tell": "only tell", "hold": "hold the run", "cool": "hold the run and turn the heaters off", "halt": "halt the printer"}[action]
}
