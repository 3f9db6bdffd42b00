package cli

import (
	"context"
	"fmt"
	"strconv"
	"strings"

	"github.com/urfave/cli/v3"

	"diathermon/internal/api"
	"diathermon/internal/api/ops"
	"diathermon/internal/client"
)

func outputsCommand() *cli.Command {
	return &cli.Command{
		Name: "outputs", Usage: "show fans, lights and pins, or set them", ArgsUsage: "[NAME=LEVEL ...]",
		Description: "A level is 0 to 100 %, on or off. Without any, what each was last set to is shown, and by whom.",
		Flags:       []cli.Flag{jsonFlag},
		Action: func(ctx context.Context, cmd *cli.Command) error {
			type setting struct {
				name  string
				level float64
			}
			var settings []setting
			for _, arg := range cmd.Args().Slice() {
				name, text, ok := strings.Cut(arg, "=")
				level, known := map[string]float64{"on": 100, "off": 0}[strings.ToLower(text)]
				if v, err := strconv.ParseFloat(strings.TrimSuffix(strings.TrimSpace(text), "%"), 64); err == nil && v >= 0 && v <= 100 {
					level, known = v, true
				}
				if !ok || !known {
					return wrong("%q sets no output: write a name and 0 to 100, on or off, such as \"part fan\"=50 or light=off", arg)
				}
				settings = append(settings, setting{name, level})
			}
			c, err := dial(cmd)
			if err != nil {
				return err
			}
			out, err := client.Ask(ctx, c, ops.ListOutputs)
			for _, s := range settings {
				if err != nil {
					return err
				}
				out, err = client.Call(ctx, c, ops.SetOutput, ops.ForName(s.name, api.OutputLevel{Level: s.level}))
			}
			return showOutputs(cmd, out, err)
		},
	}
}

func showOutputs(cmd *cli.Command, out api.Outputs, err error) error {
	if err != nil {
		return err
	}
	w := cmd.Root().Writer
	if cmd.Bool("json") {
		return printJSON(w, out)
	}
	rows := make([][]string, len(out.Outputs))
	for i, o := range out.Outputs {
		is, by := "not set", ""
		if o.Level != nil {
			is = fmt.Sprintf("%.0f %%", *o.Level)
			if !o.Levels {
				is = map[bool]string{true: "on", false: "off"}[*o.Level > 0]
			}
			by = fmt.Sprintf("%s, %s", o.By, o.At.Local().Format("15:04:05"))
		}
		rows[i] = []string{o.Name, o.Kind, is, by}
	}
	return table(w, []string{"Output", "Is a", "Set to", "By"}, rows)
}
