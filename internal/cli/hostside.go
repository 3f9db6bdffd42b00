package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"log/slog"
	"os"
	"path/filepath"
	"strings"
	"time"

	"github.com/olekukonko/tablewriter/pkg/twwidth"
	"github.com/urfave/cli/v3"

	"diathermon/internal/quiet"
	"diathermon/internal/samples"
	"diathermon/internal/service"
	"diathermon/internal/shelf"
	"diathermon/internal/simprinter"
)

// serviceFlags are what serve and demo share. Each is also in the environment.
func serviceFlags(data string) []cli.Flag {
	d := service.DefaultConfig()
	return []cli.Flag{
		&cli.StringFlag{Name: "listen", Usage: "`ADDRESS` of console and API", Value: d.Listen, Sources: cli.EnvVars("DIATHERMON_LISTEN")},
		&cli.StringFlag{Name: "data", Usage: "`FOLDER` of everything that is kept", Value: data, Sources: cli.EnvVars("DIATHERMON_DATA")},
		&cli.StringFlag{Name: "database", Usage: "`URL` of a PostgreSQL server; without one a private cluster is kept in the data folder", Sources: cli.EnvVars("DIATHERMON_DATABASE")},
		&cli.StringFlag{Name: "log", Usage: "least `LEVEL` to log: debug, info, warn or error", Value: "info", Sources: cli.EnvVars("DIATHERMON_LOG")},
	}
}

// override puts what the command line and the environment say over c.
func override(cmd *cli.Command, c *service.Config) {
	for name, field := range map[string]*string{"device": &c.Device, "listen": &c.Listen, "data": &c.Data, "database": &c.Database} {
		if cmd.IsSet(name) {
			*field = cmd.String(name)
			c.Name(name)
		}
	}
	if cmd.IsSet("baud") {
		c.Baud = cmd.Int("baud")
	}
}

func logger(cmd *cli.Command) (*slog.Logger, error) {
	var level slog.Level
	if err := level.UnmarshalText([]byte(cmd.String("log"))); err != nil {
		return nil, wrong("--log is %q: use debug, info, warn or error", cmd.String("log"))
	}
	return slog.New(quiet.New(slog.NewTextHandler(cmd.Root().ErrWriter, &slog.HandlerOptions{Level: level}))), nil
}

func serveCommand() *cli.Command {
	d := service.DefaultConfig()
	return &cli.Command{
		Name: "serve", Usage: "run the host of a printer",
		Flags: append([]cli.Flag{
			&cli.StringFlag{Name: "config", Usage: "read `FILE` instead of looking for " + service.ConfigFile, Sources: cli.EnvVars("DIATHERMON_CONFIG")},
			&cli.StringFlag{Name: "device", Usage: "`PATH` of the printer's port, best one of /dev/serial/by-id; without one the only port there is", Sources: cli.EnvVars("DIATHERMON_DEVICE")},
			&cli.IntFlag{Name: "baud", Usage: "baud `RATE` of the port; 0 is to find it", Value: d.Baud, Sources: cli.EnvVars("DIATHERMON_BAUD")},
			&cli.BoolFlag{Name: "withdraw-tokens", Usage: "withdraw every token first, browsers and programs alike; keeper-token holds a new one"},
		}, serviceFlags(d.Data)...),
		Action: func(ctx context.Context, cmd *cli.Command) error {
			if _, err := arguments(cmd, 0, 0); err != nil {
				return err
			}
			c := service.DefaultConfig()
			if err := service.ReadConfig(cmd.String("config"), &c); err != nil {
				return err
			}
			override(cmd, &c)
			c.WithdrawTokens = cmd.Bool("withdraw-tokens")
			log, err := logger(cmd)
			if err != nil {
				return err
			}
			twwidth.SetCacheCapacity(0) // which is for those who draw tables
			w, first := cmd.Root().Writer, true
			return service.Keep(ctx, c, log, func(s *service.Service) error {
				service.Hurry()
				log.Info("serving", "url", s.URL, "data", c.Data)
				if first && interactive(w) {
					welcome(w, s)
				}
				first = false
				return nil
			})
		},
	}
}

// welcome says how to get in.
func welcome(w io.Writer, s *service.Service) {
	trust := ""
	if code, err := s.Code(); err == nil && code != "" && interactive(w) {
		fmt.Fprintf(w, "\nOn a phone of the same network:\n%s", code)
	}
	if shown := s.Certificate(); shown.Own {
		fmt.Fprintf(w, "\nThe host's own certificate, as a browser shows its SHA-256:\n  %s\n", shown.Fingerprint)
		trust = " --trust " + shown.Key
	}
	fmt.Fprintf(w, "\nConsole (signs one browser in):\n  %s\n\nCommand line:\n  %s%s pair %s %s\n\nCtrl-C stops everything.\n\n", s.SignInLink(), os.Args[0], trust, s.URL, s.PairCode())
}

// demoWarp is how much faster than life the demo's printer is, so that a part
// is done in minutes.
const demoWarp = 8

// demoData is the folder of everything that the demo keeps.
func demoData() string { return service.DefaultConfig().Data + "-demo" }

func demoCommand() *cli.Command {
	data := demoData()
	return &cli.Command{
		Name: "demo", Usage: "run a host with a stand-in printer and sample files",
		Flags: append([]cli.Flag{
			&cli.FloatFlag{Name: "warp", Usage: "run the printer's clock `N` times faster", Value: demoWarp},
		}, serviceFlags(data)...),
		Action: func(ctx context.Context, cmd *cli.Command) error {
			if _, err := arguments(cmd, 0, 0); err != nil {
				return err
			}
			if w := cmd.Float("warp"); !(w >= 0.1 && w <= 1000) {
				return wrong("--warp is %g: it must be from 0.1 to 1000", w)
			}
			log, err := logger(cmd)
			if err != nil {
				return err
			}
			c := service.DefaultConfig()
			c.Data = data
			if warp := cmd.Float("warp"); warp != demoWarp { // the heaters of a printer with another clock are other heaters
				c.Data += fmt.Sprintf("-warp-%g", warp)
			}
			override(cmd, &c)
			c.Past, c.Pace, c.ClearBed, c.Described = cmd.Float("warp"), cmd.Float("warp"), true, true
			c.Device = filepath.Join(c.Data, "vesper-port")
			c.Name("device")
			c.Printer.Name, c.Printer.Colour = "Vesper", "#3f6f9c"
			c.Printer.Width, c.Printer.Depth, c.Printer.Height = 230, 230, 240
			c.Printer.Limits.Nozzle, c.Printer.Limits.Bed = 285, 110
			printer := simprinter.Vesper()
			printer.Warp = cmd.Float("warp")
			device, err := simprinter.Open(c.Device, printer)
			if err != nil {
				return err
			}
			defer device.Close()
			if err := device.Listen(); err != nil {
				return err
			}
			w, first := cmd.Root().Writer, true
			return service.Keep(ctx, c, log, func(s *service.Service) error {
				if !first {
					return nil
				}
				first = false
				if err := fill(ctx, s.Shelf); err != nil {
					return err
				}
				fmt.Fprintf(w, "\nVesper is a stand-in printer; its clock runs %g times faster than yours.\nTo pull its cable for ten seconds: %s simulate --port %s --control 'pull 10s'\n", printer.Warp, os.Args[0], c.Device)
				welcome(w, s)
				return nil
			})
		},
	}
}

// fill puts the demo's files on the shelf unless they are there.
func fill(ctx context.Context, s *shelf.Shelf) error {
	for _, part := range samples.Parts() {
		if _, err := s.File(ctx, part.Name); err == nil {
			continue
		} else if !errors.Is(err, shelf.ErrMissing) {
			return err
		}
		r, w := io.Pipe()
		go func() { w.CloseWithError(part.Write(w)) }()
		if _, _, err := s.Store(ctx, shelf.Arrival{Name: part.Name, Body: r, Size: -1}); err != nil {
			return err
		}
	}
	return nil
}

func simulateCommand() *cli.Command {
	return &cli.Command{
		Name: "simulate", Usage: "run a stand-in printer that serial programs open like a device",
		Flags: []cli.Flag{
			&cli.StringFlag{Name: "port", Usage: "`PATH` to open it at", Value: "vesper-port"},
			&cli.IntFlag{Name: "baud", Usage: "its baud `RATE`; 0 is as fast as it goes", Value: 115200},
			&cli.FloatFlag{Name: "warp", Usage: "run its clock `N` times faster", Value: 1},
			&cli.DurationFlag{Name: "latency", Usage: "how long its converter gathers bytes", Value: time.Millisecond},
			&cli.Int64Flag{Name: "seed", Usage: "of every random number"},
			&cli.BoolFlag{Name: "rough", Usage: "draw heaters from --seed that are as real ones are, and not as a model has them"},
			&cli.StringFlag{Name: "dialect", Usage: "how its firmware talks: `TRAITS` with commas between, of " + strings.Join(simprinter.Traits(), ", ") + "; wordings, such as naming=full,plainly=temperatures; any=7 for a mix of wordings"},
			&cli.IntFlag{Name: "receive-buffer", Usage: "`BYTES` its firmware holds before it reads them", Value: 128},
			&cli.IntFlag{Name: "spoil", Usage: "spoil about one byte in `N`"},
			&cli.IntFlag{Name: "lose", Usage: "lose about one byte in `N`"},
			&cli.IntFlag{Name: "double", Usage: "double about one byte in `N`"},
			&cli.StringFlag{Name: "control", Usage: "do `SOMETHING` to the stand-in that runs at --port, such as 'pull 5s'; 'help' lists what"},
			&cli.BoolFlag{Name: "keep-on-open", Usage: "do not restart when the port is opened"},
			&cli.BoolFlag{Name: "mute", Usage: "say nothing at all"},
			&cli.BoolFlag{Name: "rubbish", Usage: "say rubbish"},
			&cli.StringFlag{Name: "record", Usage: "at the end, write the lines it executed to `FILE`"},
		},
		Action: func(ctx context.Context, cmd *cli.Command) error {
			if _, err := arguments(cmd, 0, 0); err != nil {
				return err
			}
			if do := cmd.String("control"); do == "help" {
				fmt.Fprint(cmd.Root().Writer, simprinter.Controls())
				return nil
			} else if do != "" {
				return simprinter.Ask(cmd.String("port"), do)
			}
			c := simprinter.Vesper()
			if cmd.Bool("rough") {
				c = simprinter.Rough(uint64(cmd.Int64("seed")))
			}
			c.Baud, c.Warp, c.Latency, c.Seed = cmd.Int("baud"), cmd.Float("warp"), cmd.Duration("latency"), cmd.Int64("seed")
			c.Faults = simprinter.Faults{Spoil: cmd.Int("spoil"), Lose: cmd.Int("lose"), Double: cmd.Int("double")}
			c.ReceiveBuffer = cmd.Int("receive-buffer")
			var err error
			if c.Dialect, err = simprinter.ParseDialect(cmd.String("dialect")); err != nil {
				return usage{err}
			}
			c.KeepOnOpen, c.Mute, c.Rubbish = cmd.Bool("keep-on-open"), cmd.Bool("mute"), cmd.Bool("rubbish")
			record := cmd.String("record")
			c.Record = record != ""
			if c.Baud < 0 || !(c.Warp >= 0.1 && c.Warp <= 1000) || c.Faults.Spoil < 0 || c.Faults.Lose < 0 || c.Faults.Double < 0 || c.Latency <= 0 || c.ReceiveBuffer < 16 {
				return wrong("--baud, --spoil, --lose and --double must not be below zero, --latency must be above it, --receive-buffer at least 16 and --warp from 0.1 to 1000")
			}
			device, err := simprinter.Open(cmd.String("port"), c)
			if err != nil {
				return err
			}
			defer device.Close()
			if err := device.Listen(); err != nil {
				return err
			}
			fmt.Fprintf(cmd.Root().Writer, "%s answers at %s, %d baud. Ctrl-C takes it away.\n", c.Name, device.Path, c.Baud)
			<-ctx.Done()
			if record == "" {
				return nil
			}
			return writeRecord(device, record)
		},
	}
}

func writeRecord(d *simprinter.Device, path string) error {
	var executed []simprinter.Executed
	d.Do(func(b *simprinter.Board) { executed = b.Executed() })
	var out []byte
	for _, e := range executed {
		out = fmt.Appendf(out, "%.3f\t%d\t%s\n", e.At.Seconds(), e.Number, e.Line)
	}
	return os.WriteFile(path, out, fs.FileMode(0o644))
}

func openapiCommand() *cli.Command {
	return &cli.Command{
		Name: "openapi", Usage: "print the description of the HTTP API", Hidden: true,
		Action: func(_ context.Context, cmd *cli.Command) error {
			b, err := service.Document()
			if err != nil {
				return err
			}
			_, err = cmd.Root().Writer.Write(b)
			return err
		},
	}
}
