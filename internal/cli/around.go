package cli

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"github.com/urfave/cli/v3"

	"diathermon/internal/api"
	"diathermon/internal/api/ops"
	"diathermon/internal/client"
)

// arounds are the options of what goes around a run, or every run.
func arounds(first, last string) []cli.Flag {
	return []cli.Flag{
		&cli.StringSliceFlag{Name: "before", Usage: "perform `ROUTINE` before " + first + ", with values as in 'Prime, temperature=205'; again for more; 'none' is none"},
		&cli.StringSliceFlag{Name: "after", Usage: "perform `ROUTINE` once " + last + "; again for more; 'none' is none"},
	}
}

// around are the routines that were asked for; nil: nothing was said.
func around(cmd *cli.Command) (before, after *[]api.Performs, err error) {
	for name, to := range map[string]**[]api.Performs{"before": &before, "after": &after} {
		if !cmd.IsSet(name) {
			continue
		}
		all := []api.Performs{}
		given := cmd.StringSlice(name)
		for i := 0; i < len(given); i++ { // the flag takes commas for its own: values follow their routine
			text := strings.TrimSpace(given[i])
			switch key, value, is := strings.Cut(text, "="); {
			case text == "none" && len(given) == 1:
			case is && len(all) == 0:
				return nil, nil, wrong("--%s begins with %q: name a routine first", name, text)
			case is:
				last := &all[len(all)-1]
				if last.Values == nil {
					last.Values = map[string]string{}
				}
				last.Values[strings.TrimSpace(key)] = strings.TrimSpace(value)
			default:
				all = append(all, api.Performs{Routine: text})
			}
		}
		*to = &all
	}
	return before, after, nil
}

// performances are routines in words.
func performances(all []api.Performs) string {
	if len(all) == 0 {
		return "nothing"
	}
	var out []string
	for _, r := range all {
		text := r.Routine
		var values []string
		for k, v := range r.Values {
			values = append(values, k+"="+v)
		}
		if slices.Sort(values); len(values) > 0 {
			text += " (" + strings.Join(values, ", ") + ")"
		}
		out = append(out, text)
	}
	return strings.Join(out, ", then ")
}

func aroundRuns(ctx context.Context, cmd *cli.Command) error {
	if _, err := arguments(cmd, 0, 0); err != nil {
		return err
	}
	c, err := dial(cmd)
	if err != nil {
		return err
	}
	now, err := client.Ask(ctx, c, ops.GetAround)
	if err != nil {
		return err
	}
	before, after, err := around(cmd)
	if err != nil {
		return err
	}
	if before != nil || after != nil {
		if before != nil {
			now.Before = *before
		}
		if after != nil {
			now.After = *after
		}
		if now, err = client.Call(ctx, c, ops.SetAround, ops.Body(now)); err != nil {
			return err
		}
	}
	w := cmd.Root().Writer
	if cmd.Bool("json") {
		return printJSON(w, now)
	}
	fmt.Fprintf(w, "Before every run: %s\nAfter one that is finished: %s\n", performances(now.Before), performances(now.After))
	return nil
}

// aroundEntry are the routines around an entry of the queue that has those already, nil: the
// usual ones; nil: nothing was said.
func aroundEntry(ctx context.Context, cmd *cli.Command, c *client.Client, has *api.Around) (*api.Around, error) {
	before, after, err := around(cmd)
	if err != nil || before == nil && after == nil {
		return nil, err
	}
	var now api.Around
	if has != nil {
		now = *has
	} else if now, err = client.Ask(ctx, c, ops.GetAround); err != nil {
		return nil, err
	}
	if before != nil {
		now.Before = *before
	}
	if after != nil {
		now.After = *after
	}
	return &now, nil
}
