// Package cli is the command line: its commands and what they print. It talks
// to a host through client alone; serve, demo and simulate are the host side.
package cli

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"os/signal"
	"strings"
	"syscall"

	"github.com/urfave/cli/v3"

	"diathermon/internal/api"
	"diathermon/internal/client"
)

// The exit codes, for scripts.
const (
	exitFailed      = 1 // anything else
	exitUsage       = 2 // the command line is wrong
	exitUnreachable = 3 // no host answers
	exitDenied      = 4 // the token is wrong or may not do that
	exitMissing     = 5 // there is no such file, run or heater
	exitRefused     = 6 // the host refuses: bad input, or not in this state
	exitNoPrinter   = 7 // the host answers and the printer does not
	exitReply       = 8 // the printer answers that something is wrong
)

// Main runs the command line and returns the exit code.
func Main(args []string) int {
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt, syscall.SIGTERM)
	defer stop()
	app := Command(os.Stdout, os.Stderr)
	err := app.Run(ctx, args)
	if err == nil {
		return 0
	}
	if len(args) == 3 && args[1] == "help" && app.Command(args[2]) == nil { // the library's words for it have no way out
		err = unknown(args[2], app)
	}
	fmt.Fprintln(os.Stderr, "diathermon:", words(err))
	return code(err)
}

// Command returns the command line with its output going to out and its
// progress and complaints to errs.
func Command(out, errs io.Writer) *cli.Command {
	app := &cli.Command{
		Name:                  "diathermon",
		Usage:                 "the print host beside one 3D printer",
		EnableShellCompletion: true,
		Writer:                out,
		ErrWriter:             errs,
		ExitErrHandler:        func(context.Context, *cli.Command, error) {},
		Flags: []cli.Flag{
			&cli.StringFlag{Name: "host", Usage: "the paired host's `NAME`, where there are several"},
			&cli.StringFlag{Name: "url", Usage: "the host's `ADDRESS`, instead of the paired one", Sources: cli.EnvVars("DIATHERMON_URL")},
			&cli.StringFlag{Name: "token", Usage: "the `TOKEN` to use there", Sources: cli.EnvVars("DIATHERMON_TOKEN"), HideDefault: true},
			&cli.StringFlag{Name: "trust", Usage: "the `KEY` of the host's own certificate, sha256//…", Sources: cli.EnvVars("DIATHERMON_TRUST"), HideDefault: true},
		},
		Commands: grouped(
			group{"On the host's own computer", []*cli.Command{serveCommand(), demoCommand(), simulateCommand(), allowCommand(), openapiCommand()}},
			group{"Who may", []*cli.Command{pairCommand(), tokensCommand(), accountsCommand()}},
			group{"Files", []*cli.Command{sendCommand(), shelfCommand(), inspectCommand(), rehearseCommand()}},
			group{"Printing", []*cli.Command{
				printCommand(),
				controlCommand("hold", "take the nozzle off the part and wait, heaters on", beforeFlag, heightFlag, takeBackFlag),
				resumeCommand(),
				controlCommand("stop", "end the run early, with heaters and fan off and the nozzle off the part", afterFlag, takeBackFlag),
				haltCommand(), trimCommand(), queueCommand(), clearCommand(), slotsCommand(),
			}},
			group{"Looking", []*cli.Command{statusCommand(), watchCommand(), runsCommand(), noticesCommand(), wireCommand()}},
			group{"Heat", []*cli.Command{heatCommand(), coolCommand(), heatlogCommand()}},
			group{"By hand", []*cli.Command{homeCommand(), moveCommand(), routinesCommand(), outputsCommand(), sayCommand()}},
			group{"The printer", []*cli.Command{setupCommand()}},
		),
	}
	app.Action = func(_ context.Context, cmd *cli.Command) error {
		if name := cmd.Args().First(); name != "" {
			return unknown(name, app)
		}
		return cli.ShowRootCommandHelp(cmd)
	}
	mindUsage(app)
	return app
}

// A group is commands that a person looks for together.
type group struct {
	name     string
	commands []*cli.Command
}

// grouped are the commands of all groups, each of which tells its own.
func grouped(groups ...group) (all []*cli.Command) {
	for i, g := range groups {
		for _, c := range g.commands {
			c.Category = fmt.Sprintf("%d. %s", i+1, g.name) // help sorts them by their names
		}
		all = append(all, g.commands...)
	}
	return all
}

// unknown says that there is no such command, and which may have been meant.
func unknown(name string, app *cli.Command) error {
	meant := ""
	if near := cli.SuggestCommand(app.VisibleCommands(), name); near != "" {
		meant = fmt.Sprintf("did you mean %q? ", near)
	}
	return wrong("there is no command %q: %s'diathermon help' lists what there is", name, meant)
}

// mindUsage lets a wrong flag of a command, or of one below it, be an error of
// usage.
func mindUsage(cmd *cli.Command) {
	cmd.OnUsageError = func(_ context.Context, _ *cli.Command, err error, _ bool) error { return usage{err} }
	for _, below := range cmd.Commands {
		mindUsage(below)
	}
}

// usage is an error of the command line itself.
type usage struct{ error }

func (u usage) Unwrap() error { return u.error }

func wrong(format string, args ...any) error { return usage{fmt.Errorf(format, args...)} }

// words puts an error into what a person reads.
func words(err error) string {
	if all, many := err.(several); many {
		lines := make([]string, len(all))
		for i, one := range all {
			lines[i] = one.what + ": " + words(one.error)
		}
		return strings.Join(lines, "\n")
	}
	var p *api.Problem
	if errors.As(err, &p) {
		text := p.Error()
		for _, c := range p.Checks {
			text += "\n  " + checkLine(c)
		}
		return text
	}
	return err.Error()
}

// several is what went wrong with some of many; its exit code is that of the first.
type several []about

// about is an error with one of them.
type about struct {
	what string
	error
}

func (s several) Error() string { return fmt.Sprintf("%d failed", len(s)) }

// Unwrap is for errors.As.
func (s several) Unwrap() error { return s[0].error }

// code returns the exit code of an error.
func code(err error) int {
	var p *api.Problem
	var u usage
	var gone *client.UnreachableError
	var untrusted *client.UntrustedError
	var moved *client.MovedError
	var said replied
	switch {
	case errors.As(err, &said):
		return said.code
	case errors.As(err, &untrusted), errors.As(err, &moved):
		return exitUnreachable
	case errors.As(err, &u):
		return exitUsage
	case errors.As(err, &gone):
		return exitUnreachable
	case !errors.As(err, &p):
		return exitFailed
	}
	switch p.Status {
	case 401, 403:
		return exitDenied
	case 404:
		return exitMissing
	case 503:
		return exitNoPrinter
	}
	if p.Status < 500 {
		return exitRefused
	}
	return exitFailed
}

var jsonFlag = &cli.BoolFlag{Name: "json", Usage: "print JSON"}

// printJSON prints v indented.
func printJSON(w io.Writer, v any) error {
	e := json.NewEncoder(w)
	e.SetIndent("", "  ")
	return e.Encode(v)
}

// arguments returns a command's arguments if their number is between least and
// most, and otherwise says how it is called.
func arguments(cmd *cli.Command, least, most int) ([]string, error) {
	args := cmd.Args().Slice()
	if len(args) < least || len(args) > most {
		return nil, wrong("%s takes %s; found %d arguments", cmd.FullName(), cmd.ArgsUsage, len(args))
	}
	return args, nil
}
