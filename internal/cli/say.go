package cli

import (
	"bufio"
	"context"
	"fmt"
	"io"
	"os"
	"strings"

	"github.com/urfave/cli/v3"

	"diathermon/internal/api"
	"diathermon/internal/api/ops"
	"diathermon/internal/client"
	"diathermon/internal/core/legible"
)

func sayCommand() *cli.Command {
	return &cli.Command{
		Name: "say", Usage: "say lines of G-code and print the printer's replies", ArgsUsage: "LINE|-", Flags: []cli.Flag{jsonFlag},
		Description: "With - lines are read from standard input, and said one after another until one is refused. " +
			"The exit code tells how it ended: 0, the printer took it; 6, the host refuses it; 7, the printer has not answered; 8, it answered that something is wrong.",
		Action: func(ctx context.Context, cmd *cli.Command) error {
			line := strings.Join(cmd.Args().Slice(), " ")
			if line == "" {
				return wrong("say takes a line of G-code, such as 'say M115', or - for lines from standard input")
			}
			lines := io.Reader(strings.NewReader(line))
			if line == "-" {
				lines = os.Stdin
			}
			c, err := dial(cmd)
			if err != nil {
				return err
			}
			in := bufio.NewScanner(lines)
			for n := 1; in.Scan(); n++ {
				text, _, _ := strings.Cut(in.Text(), ";")
				if text = strings.TrimSpace(text); text == "" {
					continue
				}
				said, err := client.Call(ctx, c, ops.Say, ops.Body(api.SayLine{Line: text}))
				if err == nil {
					err = printSaid(cmd, said)
				}
				if err != nil && line == "-" {
					fmt.Fprintf(cmd.Root().ErrWriter, "line %d of standard input, %s; nothing behind it is said:\n", n, legible.Line(text))
				}
				if err != nil {
					return err
				}
			}
			return in.Err()
		},
	}
}

// A replied error is a printer's answer that is none of what was hoped for.
type replied struct {
	code int
	why  string
}

func (r replied) Error() string { return r.why }

// printSaid prints what the printer answered, and tells what is wrong with it.
func printSaid(cmd *cli.Command, said api.Said) error {
	w := cmd.Root().Writer
	bad := ""
	for _, reply := range said.Reply {
		if lower := strings.ToLower(reply); strings.HasPrefix(lower, "error") || strings.HasPrefix(lower, "!!") || strings.Contains(lower, "unknown command") {
			bad = reply
		}
	}
	if cmd.Bool("json") {
		if err := printJSON(w, said); err != nil {
			return err
		}
	} else {
		for _, reply := range said.Reply {
			fmt.Fprintln(w, legible.Line(reply))
		}
		if said.Taken {
			fmt.Fprintln(w, "ok")
		}
	}
	switch {
	case !said.Taken:
		return replied{exitNoPrinter, "the printer has not answered yet; 'diathermon wire' will show when it does"}
	case bad != "":
		return replied{exitReply, fmt.Sprintf("the printer says that something is wrong: %s", legible.Line(bad))}
	}
	return nil
}
