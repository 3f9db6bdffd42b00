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
	"diathermon/internal/core/stock"
)

// What is looked at before a start: the checks in words, the bed, what is loaded.

// checkLine is a check in one line.
func checkLine(c api.Check) string {
	line := c.Level + ": " + c.Title
	if c.Expected != "" {
		line += "; expected: " + c.Expected
	}
	line += " (" + c.Do
	if c.Overrule {
		line += fmt.Sprintf("; if it does not matter: --overrule %s=WHY", c.Kind)
	}
	return line + ")"
}

var overruleFlag = &cli.StringSliceFlag{Name: "overrule", Usage: "start though a check says no, as `KIND=WHY`; what is dangerous cannot be overruled"}

// overruled are the checks that do not matter.
func overruled(cmd *cli.Command) (out []api.Overrule, err error) {
	for _, said := range cmd.StringSlice("overrule") {
		kind, why, ok := strings.Cut(said, "=")
		if !ok || strings.TrimSpace(why) == "" {
			return nil, wrong("--overrule %q has no word why: --overrule material='it is PLA all the same'", said)
		}
		out = append(out, api.Overrule{Kind: kind, Why: why})
	}
	return out, nil
}

func clearCommand() *cli.Command {
	return &cli.Command{
		Name: "clear", Usage: "say that the bed is clear, so that the next print may begin", Flags: []cli.Flag{
			jsonFlag, &cli.BoolFlag{Name: "not", Usage: "say that something lies on it"},
		},
		Action: func(ctx context.Context, cmd *cli.Command) error {
			if _, err := arguments(cmd, 0, 0); err != nil {
				return err
			}
			c, err := dial(cmd)
			if err != nil {
				return err
			}
			b, err := client.Call(ctx, c, ops.SayBed, ops.Body(api.SayBed{State: map[bool]string{false: "clear", true: "occupied"}[cmd.Bool("not")]}))
			if err != nil {
				return err
			}
			if cmd.Bool("json") {
				return printJSON(cmd.Root().Writer, b)
			}
			fmt.Fprintf(cmd.Root().Writer, "The bed is %s\n", b.State)
			return nil
		},
	}
}

func slotsCommand() *cli.Command {
	return &cli.Command{
		Name: "slots", Usage: "tell what is loaded where", Flags: []cli.Flag{jsonFlag},
		Action: lists(ops.ListSlots, func(w io.Writer, s api.Slots) error {
			rows := make([][]string, len(s.Slots))
			for i, one := range s.Slots {
				rows[i] = []string{strconv.Itoa(one.Number), "nobody has said", "", "", ""}
				if one.Loaded {
					rows[i] = []string{strconv.Itoa(one.Number), one.Material, one.Colour, goesAt(one), by(one)}
				}
			}
			return table(w, []string{"Slot", "Material", "Colour", "Printed at", "Said by"}, rows)
		}),
		Commands: []*cli.Command{
			{
				Name: "load", Usage: "say what is loaded in a slot", ArgsUsage: "SLOT MATERIAL", Flags: []cli.Flag{
					&cli.StringFlag{Name: "colour", Usage: stock.Colour.About},
					&cli.FloatFlag{Name: "diameter", Usage: stock.Diameter.Usage(), HideDefault: true},
					&cli.FloatFlag{Name: "from", Usage: stock.Coldest.Usage(), HideDefault: true},
					&cli.FloatFlag{Name: "to", Usage: stock.Hottest.Usage(), HideDefault: true},
				},
				Action: func(ctx context.Context, cmd *cli.Command) error {
					args, err := arguments(cmd, 2, 2)
					if err != nil {
						return err
					}
					return load(ctx, cmd, args[0], api.LoadSlot{Material: args[1], Colour: cmd.String("colour"), Diameter: cmd.Float("diameter"), Coldest: cmd.Float("from"), Hottest: cmd.Float("to")})
				},
			},
			{Name: "unload", Usage: "say that nothing is loaded in a slot", ArgsUsage: "SLOT", Action: func(ctx context.Context, cmd *cli.Command) error {
				args, err := arguments(cmd, 1, 1)
				if err != nil {
					return err
				}
				return load(ctx, cmd, args[0], api.LoadSlot{})
			}},
		},
	}
}

// load says what is in a slot.
func load(ctx context.Context, cmd *cli.Command, slot string, l api.LoadSlot) error {
	number, err := strconv.Atoi(slot)
	if err != nil || number < 0 {
		return wrong("%q is no number of a slot: they count from 0", slot)
	}
	c, err := dial(cmd)
	if err != nil {
		return err
	}
	s, err := client.Call(ctx, c, ops.LoadSlot, ops.ToSlot{Number: number, Body: l})
	if err != nil {
		return err
	}
	what := "nothing"
	if s.Loaded {
		what = strings.TrimSpace(s.Material + " " + s.Colour)
	}
	fmt.Fprintf(cmd.Root().Writer, "In slot %d: %s\n", s.Number, what)
	return nil
}

// goesAt is at how many degrees the filament of a slot is printed.
func goesAt(s api.Slot) string {
	switch {
	case s.Coldest > 0 && s.Hottest > 0:
		return fmt.Sprintf("%g to %g °C", s.Coldest, s.Hottest)
	case s.Hottest > 0:
		return fmt.Sprintf("up to %g °C", s.Hottest)
	case s.Coldest > 0:
		return fmt.Sprintf("from %g °C", s.Coldest)
	}
	return ""
}

// by is who has said what is in a slot, and when.
func by(s api.Slot) string {
	if s.Since == nil {
		return s.By
	}
	return s.By + ", " + local(*s.Since)
}

var slotsFlag = &cli.StringFlag{Name: "slots", Usage: "print tool 0 from the first of these `SLOTS`, tool 1 from the second, with commas between; 'best' is as proposed by material and colour"}

// slotsFor are the slots that a file's tools are to be printed from, as they were asked for.
func slotsFor(ctx context.Context, cmd *cli.Command, c *client.Client, name string) ([]int, error) {
	text := cmd.String("slots")
	switch text {
	case "":
		return nil, nil
	case "best":
		f, err := client.Call(ctx, c, ops.GetFile, ops.FileFrom{Name: name})
		return f.Proposed, err
	}
	var out []int
	for word := range strings.SplitSeq(text, ",") {
		n, err := strconv.Atoi(strings.TrimSpace(word))
		if err != nil || n < 0 {
			return nil, wrong("--slots is %q: use numbers from 0 with commas between, as 2,0", text)
		}
		out = append(out, n)
	}
	return out, nil
}
