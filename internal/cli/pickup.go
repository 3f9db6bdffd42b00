package cli

import (
	"bufio"
	"context"
	"fmt"
	"io"
	"strings"

	"github.com/urfave/cli/v3"

	"diathermon/internal/api"
	"diathermon/internal/api/ops"
	"diathermon/internal/client"
)

// resumeCommand lets a held run go on, or picks an interrupted one up.
func resumeCommand() *cli.Command {
	cmd := controlCommand("resume", "let a held run go on, or pick an interrupted one up")
	held := cmd.Action
	cmd.Flags = append(cmd.Flags,
		&cli.IntFlag{Name: "layer", Usage: "pick it up at the beginning of layer `N`"},
		&cli.IntFlag{Name: "line", Usage: "or behind `N` of the file's commands"},
		&cli.FloatFlag{Name: "height", Usage: "take the nozzle to be at `MM` now, instead of where the run left it"},
		&cli.BoolFlag{Name: "plan", Usage: "show how it would be picked up, and do nothing"},
		&cli.BoolFlag{Name: "yes", Usage: "pick it up without asking"},
	)
	cmd.Action = func(ctx context.Context, cmd *cli.Command) error {
		args, err := arguments(cmd, 0, 1)
		if err != nil {
			return err
		}
		c, err := dial(cmd)
		if err != nil {
			return err
		}
		bench, err := client.Ask(ctx, c, ops.GetBench)
		if err != nil {
			return err
		}
		r := bench.Run
		if r == nil || r.State != "interrupted" || len(args) == 1 && !strings.HasSuffix(r.ID, strings.ToLower(args[0])) {
			return held(ctx, cmd)
		}
		return pickUp(ctx, cmd, c, *r)
	}
	return cmd
}

func pickUp(ctx context.Context, cmd *cli.Command, c *client.Client, r api.Run) error {
	choice := api.PickUp{Layer: cmd.Int("layer"), Command: cmd.Int("line")}
	if cmd.IsSet("height") {
		height := cmd.Float("height")
		choice.Height = &height
	}
	plan, err := client.Call(ctx, c, ops.PlanPickUp, ops.PlanOf(r.ID, choice))
	if err != nil {
		return err
	}
	w := cmd.Root().Writer
	if cmd.Bool("json") && cmd.Bool("plan") {
		return printJSON(w, plan)
	}
	if !cmd.Bool("json") {
		showPlan(w, plan)
	}
	if cmd.Bool("plan") {
		return nil
	}
	if !cmd.Bool("yes") && !agreed(cmd.Root().Reader, cmd.Root().ErrWriter, "Pick it up like this?") {
		return wrong("not picked up; --yes goes without the question, --layer, --line and --height change the plan")
	}
	choice.Command, choice.Layer, choice.Height = plan.Command, 0, &plan.Height
	picked, err := client.Call(ctx, c, ops.PickUpRun, ops.ForID(r.ID, choice))
	if err != nil {
		return err
	}
	return tellRun(cmd, picked)
}

func showPlan(w io.Writer, p api.Plan) {
	fmt.Fprintf(w, "%s goes on at layer %d of %d, Z %.2f mm, behind line %d.\n", p.Run.File, p.Layer, p.Layers, p.Z, p.Command)
	fmt.Fprintf(w, "The nozzle is taken to be at %.2f mm now. Z is not homed: look whether that is right, and use --height if it is not.\n", p.Height)
	for i, s := range p.Steps {
		fmt.Fprintf(w, "  %d. %s\n     %s\n", i+1, s.Why, strings.Join(s.Commands, "; "))
	}
}

// agreed asks a question and reports whether the answer was yes.
func agreed(in io.Reader, out io.Writer, question string) bool {
	fmt.Fprintf(out, "%s [y/N] ", question)
	answer, _ := bufio.NewReader(in).ReadString('\n')
	switch strings.ToLower(strings.TrimSpace(answer)) {
	case "y", "yes":
		return true
	}
	return false
}
