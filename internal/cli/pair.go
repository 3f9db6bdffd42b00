package cli

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"github.com/adrg/xdg"
	"github.com/urfave/cli/v3"

	"diathermon/internal/api/ops"
	"diathermon/internal/client"
	"diathermon/internal/core/access"
	"diathermon/internal/doors/announce"
	"diathermon/internal/durable"
)

// paired is what pair keeps: the hosts that this person has been let into.
type paired struct {
	Default string       `json:"default"`
	Hosts   []pairedHost `json:"hosts"`
}

type pairedHost struct {
	Name  string `json:"name"` // the printer's
	URL   string `json:"url"`
	Token string `json:"token"`
	Trust string `json:"trust,omitempty"` // the key of its own certificate
}

func pairedFile() string { return filepath.Join(xdg.ConfigHome, "diathermon", "hosts.json") }

func readPaired() (paired, error) {
	var p paired
	b, err := os.ReadFile(pairedFile())
	if errors.Is(err, fs.ErrNotExist) {
		return p, nil
	}
	if err == nil {
		err = json.Unmarshal(b, &p)
	}
	if err != nil {
		return p, fmt.Errorf("%s cannot be read: %w", pairedFile(), err)
	}
	return p, nil
}

func pairCommand() *cli.Command {
	return &cli.Command{
		Name: "pair", Usage: "let this program into a host: by letters that a person confirms, a one-time code or a token", ArgsUsage: "[ADDRESS [CODE]]",
		Description: "Without an address it looks for hosts on the network. Without a code it shows six letters; say yes where a keeper of the host sees the same ones.",
		Flags: []cli.Flag{
			&cli.StringFlag{Name: "token-file", Usage: "use the token in `FILE` instead of a code", TakesFile: true},
			&cli.StringSliceFlag{Name: "scope", Usage: "ask for this `SCOPE` alone; may be repeated", Value: access.Scopes},
		},
		Action: func(ctx context.Context, cmd *cli.Command) error {
			args, err := arguments(cmd, 0, 2)
			if err != nil {
				return err
			}
			if len(args) == 0 {
				one, err := onlyOne(ctx, cmd.Root().Writer)
				if err != nil {
					return err
				}
				args = []string{one}
			}
			host := pairedHost{Token: cmd.String("token")}
			c, err := connect(args[0], "", cmd.String("trust"))
			if err != nil {
				return usage{err}
			}
			if host.Trust, err = reach(ctx, cmd.Root().Writer, c, cmd.String("trust")); err != nil {
				return err
			}
			switch file := cmd.String("token-file"); {
			case len(args) == 2:
				host.Token, err = c.Pair(ctx, args[1], thisProgram())
			case file != "":
				var b []byte
				b, err = os.ReadFile(file)
				host.Token = strings.TrimSpace(string(b))
			case host.Token == "":
				host.Token, err = askIn(ctx, cmd.Root().Writer, c, thisProgram(), cmd.StringSlice("scope"))
			}
			if err != nil {
				return err
			}
			if c, err = connect(c.Address(), host.Token, host.Trust); err != nil {
				return err
			}
			bench, err := client.Ask(ctx, c, ops.GetBench)
			if err != nil {
				return err
			}
			host.Name, host.URL = bench.Printer.Name, c.Address()
			if err := keep(host); err != nil {
				return err
			}
			fmt.Fprintf(cmd.Root().Writer, "Paired with %s at %s; the printer is %s.\n", host.Name, host.URL, bench.Link.State)
			return nil
		},
	}
}

// connect returns the client of the host at an address, whose certificate is known by a
// key, if it is not empty.
func connect(address, token, trust string) (*client.Client, error) {
	c, err := client.New(address, token)
	if err == nil && trust != "" {
		c.Trust(trust)
	}
	return c, err
}

// reach finds out whether a host answers. If nobody vouches for its certificate, the
// person is asked, who sees the host; what is trusted then is returned.
func reach(ctx context.Context, w io.Writer, c *client.Client, trust string) (string, error) {
	err := c.Reach(ctx)
	var untrusted *client.UntrustedError
	if !errors.As(err, &untrusted) || trust != "" || !interactive(w) || !interactive(os.Stdin) {
		return trust, err
	}
	fmt.Fprintf(w, "The host at %s has made its certificate itself. Its fingerprint is\n\n  %s\n\nIs it the one that the host's terminal or Setup shows? Type yes or no: ", untrusted.Address, untrusted.Fingerprint)
	var answer string
	if fmt.Fscanln(os.Stdin, &answer); !strings.EqualFold(answer, "yes") {
		return "", errors.New("not paired: the certificate is not the host's, or was not compared")
	}
	c.Trust(untrusted.Key)
	return untrusted.Key, nil
}

// lookFor is how long hosts are looked for on the network.
const lookFor = 2 * time.Second

// onlyOne looks for hosts on the network and returns the address of the one there is; of
// several it lists what there is.
func onlyOne(ctx context.Context, w io.Writer) (string, error) {
	found, err := announce.Find(ctx, lookFor)
	switch {
	case err != nil:
		return "", fmt.Errorf("no host can be looked for: %w; name its address: diathermon pair ADDRESS", err)
	case len(found) == 0:
		return "", wrong("no host is found on this network: it may listen on its own computer alone, or the network may keep such questions away; name its address: diathermon pair ADDRESS")
	case len(found) == 1:
		fmt.Fprintf(w, "Found %s at %s.\n", found[0].Name, found[0].URL)
		return found[0].URL, nil
	}
	rows := make([][]string, len(found))
	for i, f := range found {
		rows[i] = []string{f.Name, f.State, "diathermon pair " + f.URL}
	}
	if err := table(w, []string{"Printer", "Is", "To be let in"}, rows); err != nil {
		return "", err
	}
	return "", wrong("there are %d hosts: name the one that is meant", len(found))
}

// thisProgram is what the command line is called where it is let in.
func thisProgram() string {
	machine, _ := os.Hostname()
	name := []rune("command line on " + machine)
	return string(name[:min(len(name), 60)])
}

// keep writes a host down and makes it the one that commands talk to.
func keep(host pairedHost) error {
	p, err := readPaired()
	if err != nil {
		return err
	}
	p.Hosts = slices.DeleteFunc(p.Hosts, func(h pairedHost) bool { return h.Name == host.Name || h.URL == host.URL })
	p.Hosts = append(p.Hosts, host)
	p.Default = host.Name
	b, err := json.MarshalIndent(p, "", "  ")
	if err != nil {
		return err
	}
	if err := os.MkdirAll(filepath.Dir(pairedFile()), 0o700); err != nil {
		return err
	}
	return durable.Replace(pairedFile(), durable.Bytes(b))
}

// dial returns the client of the host that the command line, the environment or
// pairing names.
func dial(cmd *cli.Command) (*client.Client, error) {
	address, token, trust := cmd.String("url"), cmd.String("token"), cmd.String("trust")
	p, err := readPaired()
	if err != nil {
		return nil, err
	}
	wanted := cmd.String("host")
	for _, h := range p.Hosts {
		named := wanted != "" && strings.EqualFold(h.Name, wanted)
		if named || wanted == "" && (address == "" && h.Name == p.Default || strings.TrimRight(address, "/") == h.URL) {
			if address == "" {
				address = h.URL
			}
			if token == "" {
				token = h.Token
			}
			if trust == "" {
				trust = h.Trust
			}
			return connect(address, token, trust)
		}
	}
	switch {
	case wanted != "":
		return nil, wrong("no host called %q is paired: run 'diathermon pair ADDRESS CODE'", wanted)
	case address == "":
		return nil, wrong("no host is paired: run 'diathermon pair ADDRESS CODE', or set DIATHERMON_URL and DIATHERMON_TOKEN")
	}
	return connect(address, token, trust)
}
