package cli

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"time"

	"github.com/urfave/cli/v3"
	"golang.org/x/term"

	"diathermon/internal/api"
	"diathermon/internal/api/ops"
	"diathermon/internal/client"
	"diathermon/internal/service"
)

// askIn asks a host to be let in and waits until a person has answered.
func askIn(ctx context.Context, w io.Writer, c *client.Client, name string, scopes []string) (string, error) {
	asked, err := c.AskIn(ctx, name, scopes)
	if err != nil {
		return "", err
	}
	fmt.Fprintf(w, "%s wants to know whether it may let you in. These are your letters:\n\n    %s\n\nSay yes where the same letters are shown: in the console of a keeper, or on the host with\n'diathermon allow %s'. They are good until %s.\n", asked.Printer, strings.Join(strings.Split(asked.Letters, ""), " "), asked.Letters, asked.Expires.Local().Format(time.TimeOnly))
	every := time.NewTicker(time.Second)
	defer every.Stop()
	for {
		select {
		case <-every.C:
		case <-ctx.Done():
			return "", ctx.Err()
		}
		now, err := c.Outcome(ctx, asked)
		switch {
		case err != nil:
			return "", err
		case now.State == "granted":
			return now.Token, nil
		case now.State == "denied":
			return "", &api.Problem{Status: 403, Title: "the answer was no"}
		case now.State == "expired":
			return "", &api.Problem{Status: 403, Title: "nobody answered within five minutes"}
		}
	}
}

func allowCommand() *cli.Command {
	return &cli.Command{
		Name: "allow", Usage: "let in whoever shows these letters", ArgsUsage: "[LETTERS]",
		Description: "Without letters it lists who asks. On the host's own computer it takes the token from the data folder, so that a fresh host lets its first keeper in.",
		Flags: []cli.Flag{
			&cli.StringFlag{Name: "data", Usage: "the host's data `FOLDER`, on its own computer", Sources: cli.EnvVars("DIATHERMON_DATA")},
			&cli.StringSliceFlag{Name: "scope", Usage: "give this `SCOPE` instead of what is asked for; may be repeated"},
			&cli.BoolFlag{Name: "deny", Usage: "say no instead"},
		},
		Action: func(ctx context.Context, cmd *cli.Command) error {
			args, err := arguments(cmd, 0, 1)
			if err != nil {
				return err
			}
			c, err := dialHere(cmd)
			if err != nil {
				return err
			}
			w := cmd.Root().Writer
			if len(args) == 0 {
				return listPairings(ctx, w, c)
			}
			p, err := client.Call(ctx, c, ops.AnswerPairing, ops.Body(api.Answer{Letters: args[0], Allow: !cmd.Bool("deny"), Scopes: cmd.StringSlice("scope")}))
			if err != nil {
				if problem := (*api.Problem)(nil); cmd.String("data") == "" && errors.As(err, &problem) && (problem.Status == 401 || problem.Status == 403) {
					return fmt.Errorf("%w; on the host's own computer %s", err, addData())
				}
				return err
			}
			if cmd.Bool("deny") {
				fmt.Fprintf(w, "Not let in: %s from %s.\n", p.Name, p.From)
				return nil
			}
			fmt.Fprintf(w, "Let in: %s from %s%s.\n", p.Name, p.From, mayDo(p))
			return nil
		},
	}
}

// addData says what to add to a command on the host's own computer.
func addData() string {
	for _, folder := range []string{service.DefaultConfig().Data, demoData()} {
		if _, err := os.Stat(filepath.Join(folder, service.KeeperFile)); err == nil {
			return "add --data " + folder
		}
	}
	return "add --data and the host's data folder, which 'diathermon serve' names as it starts; its user, or root, may read it"
}

func mayDo(p api.Pairing) string {
	if len(p.Scopes) == 0 {
		return ""
	}
	return ", which may " + strings.Join(p.Scopes, ", ")
}

func listPairings(ctx context.Context, w io.Writer, c *client.Client) error {
	all, err := client.Ask(ctx, c, ops.ListPairings)
	if err != nil {
		return err
	}
	if len(all.Pairings) == 0 {
		fmt.Fprintln(w, "Nobody asks to be let in.")
		return nil
	}
	rows := make([][]string, len(all.Pairings))
	for i, p := range all.Pairings {
		rows[i] = []string{p.Letters, p.Name, p.From, strings.Join(p.Scopes, " "), local(p.Asked)}
	}
	return table(w, []string{"Letters", "Who", "From", "Wants to", "Asked"}, rows)
}

// dialHere returns the client of a paired host; on the host's own computer, of the one
// whose data folder can be read.
func dialHere(cmd *cli.Command) (*client.Client, error) {
	data := cmd.String("data")
	if data == "" {
		if c, err := dial(cmd); err == nil {
			return c, nil
		}
		data = service.DefaultConfig().Data
	}
	token, err := os.ReadFile(filepath.Join(data, service.KeeperFile))
	if err != nil {
		return nil, wrong("no host is paired, and there is none here whose token can be read (%v): %s", err, addData())
	}
	address := cmd.String("url")
	if address == "" {
		address = "http://" + service.DefaultConfig().Listen
		if b, err := os.ReadFile(filepath.Join(data, service.AddressFile)); err == nil {
			address = strings.TrimSpace(string(b))
		}
	}
	return connect(address, strings.TrimSpace(string(token)), cmd.String("trust"))
}

func tokensCommand() *cli.Command {
	return &cli.Command{
		Name: "tokens", Usage: "list who has a token, programs and browsers", Flags: []cli.Flag{jsonFlag},
		Action: lists(ops.ListTokens, func(w io.Writer, all api.Tokens) error {
			rows := make([][]string, len(all.Tokens))
			for i, t := range all.Tokens {
				used := "never"
				if t.Used != nil {
					used = local(*t.Used) + " from " + t.UsedFrom
				}
				rows[i] = []string{strconv.Itoa(i + 1), t.Name, t.Kind, strings.Join(t.Scopes, " "), used, t.Maker, strings.Join(append(t.Given, t.Made...), ", ")}
			}
			return table(w, []string{"", "Name", "Kind", "May", "Used last", "Made by", "Has let in"}, rows)
		}),
		Commands: []*cli.Command{
			{
				Name: "make", Usage: "make a token for a program; it is shown this once", ArgsUsage: "NAME",
				Flags: []cli.Flag{
					&cli.StringSliceFlag{Name: "scope", Usage: "what it may do: read, send, start, operate or keep; may be repeated", Value: []string{"send"}},
					&cli.DurationFlag{Name: "for", Usage: "let it expire after this `TIME`, such as 720h"},
				},
				Action: named(func(ctx context.Context, cmd *cli.Command, c *client.Client, name string) error {
					in := api.MakeToken{Name: name, Scopes: cmd.StringSlice("scope")}
					if d := cmd.Duration("for"); d != 0 {
						until := time.Now().Add(d)
						in.Expires = &until
					}
					made, err := client.Call(ctx, c, ops.MakeToken, ops.Body(in))
					if err != nil {
						return err
					}
					fmt.Fprintln(cmd.Root().Writer, made.Token)
					return nil
				}),
			},
			{Name: "withdraw", Usage: "make one worthless, at once", ArgsUsage: "NUMBER", Flags: []cli.Flag{givenFlag()}, Action: named(func(ctx context.Context, cmd *cli.Command, c *client.Client, number string) error {
				all, err := client.Ask(ctx, c, ops.ListTokens)
				if err != nil {
					return err
				}
				n, err := strconv.Atoi(number)
				if err != nil || n < 1 || n > len(all.Tokens) {
					return wrong("%q is no number of the list: there are %d", number, len(all.Tokens))
				}
				t := all.Tokens[n-1]
				given, also, err := given(cmd, t.Given, t.Made)
				if err != nil {
					return err
				}
				if err := client.Do(ctx, c, ops.WithdrawToken, ops.Ending{ID: t.ID, Given: given}); err != nil {
					return err
				}
				fmt.Fprintf(cmd.Root().Writer, "Withdrawn: %s%s\n", t.Name, also)
				return nil
			})},
		},
	}
}

// givenFlag asks what becomes of what somebody has given who is let in no more.
func givenFlag() cli.Flag {
	return &cli.StringFlag{Name: "given", Usage: "what becomes of whom it has let in: `end`, end-all (accounts that it made, too), or take-over (they are yours)"}
}

// given is what the flag says, and what else goes, in words. Where something would go it must
// be said.
func given(cmd *cli.Command, tokens, accounts []string) (api.Becomes, string, error) {
	said := api.Becomes(cmd.String("given"))
	switch said {
	case "":
		if all := append(tokens, accounts...); len(all) > 0 {
			return "", "", wrong("it has let in %s: say with --given end, end-all or take-over what becomes of that", strings.Join(all, ", "))
		}
		return api.BecomesEnded, "", nil
	case api.BecomesEnded:
	case api.BecomesEndedAll:
		tokens = append(tokens, accounts...)
	case api.BecomesMine:
		return said, "; whom it has let in is let in by you", nil
	default:
		return "", "", wrong("--given is end, end-all or take-over, and not %q", said)
	}
	if len(tokens) == 0 {
		return said, "", nil
	}
	return said, ", and with it " + strings.Join(tokens, ", "), nil
}

func accountsCommand() *cli.Command {
	role := &cli.StringFlag{Name: "role", Usage: "`ROLE` of the account: watcher, operator or keeper"}
	return &cli.Command{
		Name: "accounts", Usage: "list who has an account", Flags: []cli.Flag{jsonFlag},
		Action: lists(ops.ListAccounts, func(w io.Writer, all api.Accounts) error {
			if len(all.Accounts) == 0 {
				fmt.Fprintln(w, "Nobody has an account: open the console, or 'diathermon accounts make NAME --role keeper'.")
				return nil
			}
			rows := make([][]string, len(all.Accounts))
			for i, a := range all.Accounts {
				rows[i] = []string{a.Name, a.Role, local(a.Created), a.Maker, strings.Join(append(a.Given, a.Made...), ", ")}
			}
			return table(w, []string{"Name", "Role", "Made", "By", "Has let in"}, rows)
		}),
		Commands: []*cli.Command{
			{Name: "make", Usage: "make an account; its password is asked for", ArgsUsage: "NAME", Flags: []cli.Flag{role}, Action: named(func(ctx context.Context, cmd *cli.Command, c *client.Client, name string) error {
				if cmd.String("role") == "" {
					return wrong("what may %s do? Give --role watcher, operator or keeper", name)
				}
				password, err := askPassword(cmd, "A password for "+name+": ")
				if err != nil {
					return err
				}
				a, err := client.Call(ctx, c, ops.MakeAccount, ops.Body(api.MakeAccount{Name: name, Role: cmd.String("role"), Password: password}))
				if err != nil {
					return err
				}
				fmt.Fprintf(cmd.Root().Writer, "Made: %s, %s\n", a.Name, a.Role)
				return nil
			})},
			{Name: "change", Usage: "give an account another role, or another password", ArgsUsage: "NAME", Flags: []cli.Flag{role, &cli.BoolFlag{Name: "password", Usage: "give it another password, which is asked for"}}, Action: named(func(ctx context.Context, cmd *cli.Command, c *client.Client, name string) error {
				a, err := accountNamed(ctx, c, name)
				if err != nil {
					return err
				}
				var change api.ChangeAccount
				if r := cmd.String("role"); r != "" {
					change.Role = &r
				}
				if cmd.Bool("password") {
					password, err := askPassword(cmd, "A new password for "+a.Name+": ")
					if err != nil {
						return err
					}
					change.Password = &password
				}
				if change == (api.ChangeAccount{}) {
					return wrong("nothing is to be changed: give --role or --password")
				}
				if a, err = client.Call(ctx, c, ops.ChangeAccount, ops.ForID(a.ID, change)); err != nil {
					return err
				}
				fmt.Fprintf(cmd.Root().Writer, "Changed: %s, %s\n", a.Name, a.Role)
				return nil
			})},
			{Name: "remove", Usage: "remove an account, and end its sessions", ArgsUsage: "NAME", Flags: []cli.Flag{givenFlag()}, Action: named(func(ctx context.Context, cmd *cli.Command, c *client.Client, name string) error {
				a, err := accountNamed(ctx, c, name)
				if err != nil {
					return err
				}
				given, also, err := given(cmd, a.Given, a.Made)
				if err != nil {
					return err
				}
				if err := client.Do(ctx, c, ops.RemoveAccount, ops.Ending{ID: a.ID, Given: given}); err != nil {
					return err
				}
				fmt.Fprintf(cmd.Root().Writer, "Removed: %s%s\n", a.Name, also)
				return nil
			})},
		},
	}
}

func accountNamed(ctx context.Context, c *client.Client, name string) (api.Account, error) {
	all, err := client.Ask(ctx, c, ops.ListAccounts)
	if err != nil {
		return api.Account{}, err
	}
	for _, a := range all.Accounts {
		if strings.EqualFold(a.Name, name) {
			return a, nil
		}
	}
	return api.Account{}, &api.Problem{Status: 404, Title: fmt.Sprintf("nobody is called %q", name), Detail: "'diathermon accounts' lists who is there"}
}

// askPassword asks for a password without showing it; from a pipe it reads a line.
func askPassword(cmd *cli.Command, question string) (string, error) {
	if !interactive(os.Stdin) {
		line, err := bufio.NewReader(os.Stdin).ReadString('\n')
		if line = strings.TrimRight(line, "\r\n"); line == "" {
			return "", wrong("no password came on standard input (%v)", err)
		}
		return line, nil
	}
	fmt.Fprint(cmd.Root().ErrWriter, question)
	b, err := term.ReadPassword(int(os.Stdin.Fd()))
	fmt.Fprintln(cmd.Root().ErrWriter)
	return string(b), err
}
