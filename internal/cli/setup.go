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
)

// An aspect is one thing that is said of a printer.
type aspect struct {
	key, name, unit, usage string
	none                   string // what 0 means; empty: 0
	text                   func(*api.Description) **string
	number                 func(*api.Description) **float64
	count                  func(*api.Description) **int
}

// aspects are in the order in which they are shown.
var aspects = []aspect{
	{key: "device", name: "Port", usage: "`PATH` of its port; empty is the only one there", text: func(d *api.Description) **string { return &d.Device }},
	{key: "name", name: "Name", usage: "`NAME` of the printer", text: func(d *api.Description) **string { return &d.Name }},
	{key: "colour", name: "Colour", usage: "by which it is told from its neighbours, `#RRGGBB`", text: func(d *api.Description) **string { return &d.Colour }},
	{key: "width", name: "Width", unit: "mm", usage: "`MM` that X goes", number: func(d *api.Description) **float64 { return &d.Width }},
	{key: "depth", name: "Depth", unit: "mm", usage: "`MM` that Y goes", number: func(d *api.Description) **float64 { return &d.Depth }},
	{key: "height", name: "Height", unit: "mm", usage: "`MM` that Z goes", number: func(d *api.Description) **float64 { return &d.Height }},
	{key: "limit_nozzle", name: "Nozzle at most", unit: "°C", usage: "highest setpoint of a nozzle, `°C`", number: func(d *api.Description) **float64 { return &d.LimitNozzle }},
	{key: "limit_bed", name: "Bed at most", unit: "°C", usage: "highest setpoint of the bed, `°C`; 0: it is not heated", none: "not heated", number: func(d *api.Description) **float64 { return &d.LimitBed }},
	{key: "limit_chamber", name: "Chamber at most", unit: "°C", usage: "highest setpoint of the chamber, `°C`; 0: it is not heated", none: "not heated", number: func(d *api.Description) **float64 { return &d.LimitChamber }},
	{key: "tools", name: "Tools", usage: "how many `TOOLS`", count: func(d *api.Description) **int { return &d.Tools }},
	{key: "slots", name: "Slots", usage: "in how many `PLACES` filament is loaded; 0: as many as tools", none: "as many as tools", count: func(d *api.Description) **int { return &d.Slots }},
	{key: "nozzle_diameter", name: "Nozzle", unit: "mm", usage: "diameter of the nozzle, `MM`", number: func(d *api.Description) **float64 { return &d.NozzleDiameter }},
	{key: "filament_diameter", name: "Filament", unit: "mm", usage: "diameter of the filament, `MM`", number: func(d *api.Description) **float64 { return &d.FilamentDiameter }},
	{key: "filament_density", name: "Its density", unit: "g/cm³", usage: "density of the filament, `G/CM³`", number: func(d *api.Description) **float64 { return &d.FilamentDensity }},
	{key: "filament_price", name: "A kilogram of it", usage: "`PRICE` of a kilogram of filament", none: "not said", number: func(d *api.Description) **float64 { return &d.FilamentPrice }},
	{key: "currency", name: "Currency", usage: "`CURRENCY` of prices", text: func(d *api.Description) **string { return &d.Currency }},
}

// in is the aspect of a description in words; empty: it is not said.
func (a aspect) in(d *api.Description) string {
	out := ""
	switch {
	case a.text != nil:
		if v := *a.text(d); v != nil {
			out = *v
		}
	case a.number != nil:
		if v := *a.number(d); v != nil {
			out = strconv.FormatFloat(*v, 'g', -1, 64)
		}
	default:
		if v := *a.count(d); v != nil {
			out = strconv.Itoa(*v)
		}
	}
	if out == "0" && a.none != "" {
		return a.none
	}
	if out != "" && a.unit != "" {
		out += " " + a.unit
	}
	return out
}

// flag is the aspect as an option.
func (a aspect) flag() cli.Flag {
	name := strings.ReplaceAll(a.key, "_", "-")
	switch {
	case a.text != nil:
		return &cli.StringFlag{Name: name, Usage: a.usage}
	case a.number != nil:
		return &cli.FloatFlag{Name: name, Usage: a.usage}
	}
	return &cli.IntFlag{Name: name, Usage: a.usage}
}

// take puts the option into a description, if it is given.
func (a aspect) take(cmd *cli.Command, d *api.Description) bool {
	name := strings.ReplaceAll(a.key, "_", "-")
	if !cmd.IsSet(name) {
		return false
	}
	switch {
	case a.text != nil:
		v := cmd.String(name)
		*a.text(d) = &v
	case a.number != nil:
		v := cmd.Float(name)
		*a.number(d) = &v
	default:
		v := cmd.Int(name)
		*a.count(d) = &v
	}
	return true
}

// deciders are who decides, in words.
var deciders = map[string]string{"file": "diathermon.toml or command line", "setup": "Setup", "ordinary": "as is usual"}

func setupCommand() *cli.Command {
	flags := []cli.Flag{jsonFlag, &cli.BoolFlag{Name: "take-up", Usage: "let the host begin anew, so that it holds; not while anything is under way or heated"}}
	for _, a := range aspects {
		flags = append(flags, a.flag())
	}
	return &cli.Command{
		Name: "setup", Usage: "show how the printer is described, or say more of it", Flags: flags,
		Action: func(ctx context.Context, cmd *cli.Command) error {
			if _, err := arguments(cmd, 0, 0); err != nil {
				return err
			}
			c, err := dial(cmd)
			if err != nil {
				return err
			}
			var say api.DescribePrinter
			more := false
			for _, a := range aspects {
				more = a.take(cmd, &say.Description) || more
			}
			var now api.Described
			if more {
				now, err = client.Call(ctx, c, ops.DescribePrinter, ops.With[api.DescribePrinter]{Body: say})
			} else {
				now, err = client.Ask(ctx, c, ops.GetPrinter)
			}
			if err != nil {
				return err
			}
			w := cmd.Root().Writer
			if cmd.Bool("json") {
				if err := printJSON(w, now); err != nil {
					return err
				}
			} else if err := showDescribed(w, now, cmd.Bool("take-up")); err != nil {
				return err
			}
			if cmd.Bool("take-up") && now.Waits {
				return client.Do(ctx, c, ops.TakeUpPrinter, ops.Nothing{})
			}
			return nil
		},
	}
}

func showDescribed(w io.Writer, now api.Described, takes bool) error {
	rows := [][]string{}
	for _, a := range aspects {
		told := a.in(&now.Told)
		if told == a.in(&now.Printer) {
			told = ""
		}
		rows = append(rows, []string{a.name, a.in(&now.Printer), deciders[now.By[a.key]], told})
	}
	if err := table(w, []string{"Printer", "", "Decided by", "It tells itself"}, rows); err != nil {
		return err
	}
	switch {
	case now.Waits && takes:
		fmt.Fprintln(w, "\nThe host begins anew; it is away for some seconds.")
	case now.Waits:
		fmt.Fprintln(w, "\nIt holds from the next start of the host on, or at once with setup --take-up.")
	}
	return nil
}
