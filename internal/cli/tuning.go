package cli

import (
	"context"
	"fmt"
	"time"

	"github.com/urfave/cli/v3"

	"diathermon/internal/api"
	"diathermon/internal/api/ops"
	"diathermon/internal/client"
)

// tune waits for a tuning's end and tells its cycles.
func tune(ctx context.Context, cmd *cli.Command, c *client.Client, heater string, setpoint float64) error {
	t, err := client.Call(ctx, c, ops.TuneHeater, ops.ForHeater(heater, api.Tune{Setpoint: setpoint, Cycles: cmd.Int("cycles")}))
	tick := time.NewTicker(warmPoll)
	defer tick.Stop()
	for told := -1; err == nil && t.Ended == nil; t, err = client.Ask(ctx, c, ops.GetTuning) {
		if t.Cycle != told {
			told = t.Cycle
			fmt.Fprintf(cmd.Root().ErrWriter, "cycle %d of %d\n", t.Cycle, t.Cycles)
		}
		select {
		case <-tick.C:
		case <-ctx.Done():
			return ctx.Err()
		}
	}
	if err != nil {
		return err
	}
	return tellTuning(cmd, t)
}

func tellTuning(cmd *cli.Command, t api.Tuning) error {
	w := cmd.Root().Writer
	if cmd.Bool("json") {
		return printJSON(w, t)
	}
	switch {
	case t.Failed != "":
		return &api.Problem{Status: 409, Title: "the tuning came to nothing", Detail: t.Failed}
	case t.Ended == nil:
		fmt.Fprintf(w, "The %s is being tuned at %g °C: cycle %d of %d.\n", t.Heater, t.Setpoint, t.Cycle, t.Cycles)
	default:
		fmt.Fprintf(w, "The %s at %g °C: P %.2f, I %.2f, D %.2f.\n", t.Heater, t.Setpoint, t.P, t.I, t.D)
		switch {
		case t.Saved:
			fmt.Fprintln(w, "The firmware has them and keeps them.")
		case t.Applied:
			fmt.Fprintln(w, "The firmware has them until it is restarted; --apply-tuning keep lets it keep them.")
		default:
			fmt.Fprintln(w, "The firmware does not have them yet: --apply-tuning now, or keep.")
		}
	}
	if t.RippleBefore != nil {
		fmt.Fprintf(w, "Held before, it swung by %.2f K.", *t.RippleBefore)
		if t.RippleAfter != nil {
			fmt.Fprintf(w, " Since then, by %.2f K.", *t.RippleAfter)
		}
		fmt.Fprintln(w)
	}
	return nil
}
