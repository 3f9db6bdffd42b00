package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"strings"

	"github.com/urfave/cli/v3"

	"diathermon/internal/api"
	"diathermon/internal/api/ops"
	"diathermon/internal/client"
	"diathermon/internal/qrcode"
)

func statusCommand() *cli.Command {
	return &cli.Command{
		Name: "status", Usage: "show the printer: link, heaters, position and the run",
		Flags: []cli.Flag{jsonFlag, &cli.BoolFlag{Name: "ports", Usage: "list the host's serial ports instead"}, &cli.BoolFlag{Name: "code", Usage: "draw the host's address for a phone's camera instead"}},
		Action: func(ctx context.Context, cmd *cli.Command) error {
			c, err := dial(cmd)
			if err != nil {
				return err
			}
			if cmd.Bool("ports") {
				return showPorts(ctx, cmd, c)
			}
			if cmd.Bool("code") {
				return showCode(ctx, cmd.Root().Writer, c)
			}
			bench, err := client.Ask(ctx, c, ops.GetBench)
			if err != nil {
				return err
			}
			w := cmd.Root().Writer
			if cmd.Bool("json") {
				return printJSON(w, bench)
			}
			showBench(w, bench)
			return nil
		},
	}
}

func showCode(ctx context.Context, w io.Writer, c *client.Client) error {
	at, err := client.Ask(ctx, c, ops.GetAddresses)
	if err != nil {
		return err
	}
	if len(at.URLs) == 0 {
		return errors.New("other devices do not reach this host: it listens on its own computer alone; start it with --listen 0.0.0.0:8437")
	}
	code, err := qrcode.Terminal(at.URLs[0])
	if err != nil {
		return err
	}
	fmt.Fprint(w, code, strings.Join(at.URLs, "\n"), "\n")
	return nil
}

func showPorts(ctx context.Context, cmd *cli.Command, c *client.Client) error {
	ports, err := client.Ask(ctx, c, ops.ListPorts)
	if err != nil {
		return err
	}
	w := cmd.Root().Writer
	if cmd.Bool("json") {
		return printJSON(w, ports)
	}
	if len(ports.Ports) == 0 {
		fmt.Fprintln(w, "No serial port on USB: is the printer's cable plugged in?")
		return nil
	}
	rows := make([][]string, 0, len(ports.Ports))
	for _, p := range ports.Ports {
		use := p.UsedBy
		if p.Ours {
			use = "this host"
		}
		rows = append(rows, []string{p.Path, p.Device, p.Maker, p.Product, p.Serial, use})
	}
	return table(w, []string{"Path (stays the same)", "Device", "Maker", "Product", "Serial number", "Used by"}, rows)
}

func showBench(w io.Writer, b api.Bench) {
	fmt.Fprintf(w, "%s  %s: %s\n", b.Printer.Name, b.Link.State, b.Link.Reason)
	if b.Firmware != nil && !b.Firmware.HaltsAtOnce {
		fmt.Fprintln(w, "  its firmware reads an emergency stop only in its turn: keep the printer's switch in reach")
	}
	if b.Firmware != nil {
		fmt.Fprintf(w, "  it holds %s\n", holding(b.Firmware.Holds))
	}
	for _, h := range b.Heaters {
		if h.Actual == nil {
			fmt.Fprintf(w, "  %-8s  no reading\n", h.Heater)
			continue
		}
		fmt.Fprintf(w, "  %-8s  %8s → %-7s  %-8s  duty %s\n", h.Heater, degrees(h.Actual), target(h.Setpoint), h.State, percent(h.Duty))
	}
	if p := b.Position; p.Known {
		homed := "homed " + p.Homed
		if p.Homed == "" {
			homed = "not homed, so uncertain"
		}
		fmt.Fprintf(w, "  at        X %.2f  Y %.2f  Z %.2f mm (%s)\n", p.X, p.Y, p.Z, homed)
	}
	fmt.Fprintf(w, "  bed       %s: %s\n", b.Bed.State, b.Bed.Why)
	if b.Run != nil {
		showRun(w, *b.Run)
	}
}

// holding puts what a printer can hold into words.
func holding(h api.Holds) string {
	how := map[string]string{
		"assumed": "as every board does; it is measured while the printer is cold and idle", "told": "as its firmware tells", "configured": "as the configuration says", "measured": "measured",
	}[h.How]
	if h.How == "measuring" {
		return "what is being measured now"
	}
	return fmt.Sprintf("%d bytes and %d lines besides (%s)", h.Bytes, h.Lines, how)
}

func showRun(w io.Writer, r api.Run) {
	fmt.Fprintf(w, "%s  %s", r.File, r.State)
	if r.Reason != "" {
		fmt.Fprintf(w, " (%s)", r.Reason)
	}
	fmt.Fprintln(w)
	if p := r.Progress; p != nil {
		fmt.Fprintf(w, "  %s  layer %d of %d, Z %.2f mm, line %d of %d", runShare(r), p.Layer, p.Layers, p.Z, r.Taken, r.Commands)
		if r.Going {
			fmt.Fprintf(w, ", %s left", span(p.LeftSeconds))
		}
		fmt.Fprintln(w)
	}
	if r.Differs != "" && !r.Over {
		fmt.Fprintf(w, "  differs from its file: %s\n", r.Differs)
	}
	if where := untilWords(r.Until); where != "" && !r.Over {
		fmt.Fprintf(w, "  %s\n", where)
	}
	fmt.Fprintf(w, "  run %s\n", shortID(r.ID))
	if r.Started != nil {
		verb := "so far"
		if !r.Going {
			verb = "in all"
		}
		fmt.Fprintf(w, "  started %s, %s %s\n", local(*r.Started), took(r), verb)
	}
}

// took is how long a run has been going on, or went on.
func took(r api.Run) string {
	if r.Started == nil {
		return ""
	}
	return span(r.LastedSeconds)
}

// controlCommand is hold, resume or stop: of the run named, or of the one that
// goes on.
// Where a run is to be held, or to end, which hold and stop take.
var (
	beforeFlag   = &cli.IntFlag{Name: "before-layer", Usage: "not now: before layer `N` begins"}
	heightFlag   = &cli.FloatFlag{Name: "at-height", Usage: "not now: before the first layer that is `MM` high"}
	afterFlag    = &cli.IntFlag{Name: "after-layer", Usage: "not now: after layer `N`; 0: after the one that is drawn"}
	takeBackFlag = &cli.BoolFlag{Name: "take-back", Usage: "go on to the file's end, whatever was said before"}
)

func controlCommand(verb, use string, flags ...cli.Flag) *cli.Command {
	return &cli.Command{
		Name: verb, Usage: use, ArgsUsage: "[RUN]", Flags: append([]cli.Flag{jsonFlag}, flags...),
		Action: func(ctx context.Context, cmd *cli.Command) error {
			args, err := arguments(cmd, 0, 1)
			if err != nil {
				return err
			}
			c, err := dial(cmd)
			if err != nil {
				return err
			}
			id := ""
			if len(args) == 1 {
				id = args[0]
			} else if id, err = current(ctx, c); err != nil {
				return err
			}
			var r api.Run
			switch {
			case cmd.Bool("take-back"):
				r, err = client.Call(ctx, c, ops.DropUntil, ops.ID{ID: id})
			case cmd.IsSet("before-layer"), cmd.IsSet("at-height"), cmd.IsSet("after-layer"):
				r, err = client.Call(ctx, c, ops.SetUntil, ops.ForID(id, api.SetUntil{End: verb == "stop", Layer: max(cmd.Int("before-layer"), cmd.Int("after-layer")), Height: cmd.Float("at-height")}))
			default:
				r, err = client.Call(ctx, c, ops.Controls[verb], ops.ID{ID: id})
			}
			if err != nil {
				return err
			}
			return tellRun(cmd, r)
		},
	}
}

// untilWords say where a run is to be held, or to end; empty: at its file's end.
func untilWords(u *api.Until) string {
	switch {
	case u == nil:
		return ""
	case u.End:
		return fmt.Sprintf("ends after layer %d, as %s wants", u.Layer-1, u.By)
	}
	return fmt.Sprintf("is held before layer %d, as %s wants", u.Layer, u.By)
}

// tellRun prints a run in words, or as JSON if that was asked for.
func tellRun(cmd *cli.Command, r api.Run) error {
	if cmd.Bool("json") {
		return printJSON(cmd.Root().Writer, r)
	}
	showRun(cmd.Root().Writer, r)
	return nil
}

// current returns the ID of the run that goes on.
func current(ctx context.Context, c *client.Client) (string, error) {
	bench, err := client.Ask(ctx, c, ops.GetBench)
	if err != nil {
		return "", err
	}
	if bench.Run == nil || bench.Run.Over {
		return "", &api.Problem{Status: 409, Title: "no run is going on"}
	}
	return bench.Run.ID, nil
}

func haltCommand() *cli.Command {
	return &cli.Command{
		Name: "halt", Usage: "emergency stop, at once and without a question",
		Action: func(ctx context.Context, cmd *cli.Command) error {
			c, err := dial(cmd)
			if err != nil {
				return err
			}
			if err := client.Do(ctx, c, ops.Halt, ops.Nothing{}); err != nil {
				return err
			}
			fmt.Fprintln(cmd.Root().Writer, "Halted. Reset the printer, or switch it off and on, before it is used again.")
			return nil
		},
	}
}

func runsCommand() *cli.Command {
	return &cli.Command{
		Name: "runs", Usage: "list runs, or show one", ArgsUsage: "[RUN]",
		Flags: []cli.Flag{jsonFlag, &cli.IntFlag{Name: "limit", Value: 20, Usage: "at most `N`, the newest"}},
		Action: func(ctx context.Context, cmd *cli.Command) error {
			args, err := arguments(cmd, 0, 1)
			if err != nil {
				return err
			}
			c, err := dial(cmd)
			if err != nil {
				return err
			}
			w := cmd.Root().Writer
			if len(args) == 1 {
				id, err := wholeID(ctx, c, args[0])
				if err != nil {
					return err
				}
				r, err := client.Call(ctx, c, ops.GetRun, ops.ID{ID: id})
				if err != nil {
					return err
				}
				return tellRun(cmd, r)
			}
			runs, err := client.Call(ctx, c, ops.ListRuns, ops.Past{Limit: min(max(cmd.Int("limit"), 1), 500)})
			if err != nil {
				return err
			}
			if cmd.Bool("json") {
				return printJSON(w, runs)
			}
			if len(runs.Runs) == 0 {
				fmt.Fprintln(w, "Nothing has been printed yet.")
				return nil
			}
			rows := make([][]string, 0, len(runs.Runs))
			for _, r := range runs.Runs {
				state := r.State
				if r.Reason != "" {
					state += ": " + r.Reason
				}
				rows = append(rows, []string{local(r.Created), r.File, took(r), fmt.Sprintf("%d/%d", r.Taken, r.Commands), shortID(r.ID), state})
			}
			return table(w, []string{"Created", "File", "Took", "Lines", "Run", "State"}, rows)
		},
	}
}

// shortened is how many letters of an ID a person is shown: its last, which tell IDs apart.
const shortened = 6

// shortID is an ID as persons are shown it and say it.
func shortID(id string) string { return id[max(len(id)-shortened, 0):] }

// wholeID is the ID of the run that a person means, who may say the end of it alone.
func wholeID(ctx context.Context, c *client.Client, said string) (string, error) {
	if len(said) >= 36 {
		return said, nil
	}
	runs, err := client.Call(ctx, c, ops.ListRuns, ops.Past{Limit: 500})
	if err != nil {
		return "", err
	}
	var meant []string
	for _, r := range runs.Runs {
		if strings.HasSuffix(r.ID, strings.ToLower(said)) {
			meant = append(meant, r.ID)
		}
	}
	switch len(meant) {
	case 1:
		return meant[0], nil
	case 0:
		return said, nil // the host says that there is none
	}
	return "", wrong("%s is the end of %d runs: say more of it", said, len(meant))
}

// interactive reports whether f is a terminal.
func interactive(f any) bool {
	file, ok := f.(*os.File)
	if !ok {
		return false
	}
	info, err := file.Stat()
	return err == nil && info.Mode()&os.ModeCharDevice != 0
}
