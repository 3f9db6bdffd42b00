package cli

import (
	"context"
	"fmt"
	"io"
	"os"
	"path/filepath"

	"github.com/schollz/progressbar/v3"
	"github.com/urfave/cli/v3"

	"diathermon/internal/api"
	"diathermon/internal/client"
	"diathermon/internal/facts"
)

func sendCommand() *cli.Command {
	return &cli.Command{
		Name: "send", Usage: "put files on the shelf", ArgsUsage: "FILE...",
		Description: "FILE may be - for standard input, with --name. What is cut off by the network goes on where it was.\n\nA slicer can run this after it has written its file, with the file as the last argument: diathermon send --print. Which host it goes to is said by pairing, by --url and --token before send, or by DIATHERMON_URL and DIATHERMON_TOKEN in the environment.",
		Flags: []cli.Flag{
			jsonFlag,
			&cli.BoolFlag{Name: "print", Usage: "start it once it is there"},
			&cli.BoolFlag{Name: "queue", Usage: "let it wait in turn"},
			&cli.BoolFlag{Name: "replace", Usage: "replace another file of the same name"},
			&cli.StringFlag{Name: "name", Usage: "store it under this `NAME`"},
			&cli.StringFlag{Name: "name-from", Usage: "take the name from the environment's `VARIABLE`, where a slicer says there what the file will be called; its folders are left out"},
		},
		Action: func(ctx context.Context, cmd *cli.Command) error {
			args, err := arguments(cmd, 1, mostSent)
			if err != nil {
				return err
			}
			name := cmd.String("name")
			if variable := cmd.String("name-from"); variable != "" && name == "" {
				if name = filepath.Base(os.Getenv(variable)); name == "." {
					name = ""
				}
			}
			then := ""
			switch print, queue := cmd.Bool("print"), cmd.Bool("queue"); {
			case print && queue:
				return wrong("--print starts it at once and --queue lets it wait: use one of them")
			case print && len(args) > 1:
				return wrong("--print starts one file, and there are %d: use --queue", len(args))
			case len(args) > 1 && name != "":
				return wrong("one name cannot be given to %d files", len(args))
			case print:
				then = "print"
			case queue:
				then = "queue"
			}
			c, err := dial(cmd)
			if err != nil {
				return err
			}
			var failed several
			for _, path := range args {
				err := sendFile(ctx, cmd, c, path, client.Sending{Name: name, Replace: cmd.Bool("replace"), Then: then})
				switch {
				case ctx.Err() != nil:
					return ctx.Err()
				case err != nil && len(args) == 1:
					return err
				case err != nil:
					failed = append(failed, about{path, err})
				}
			}
			if len(failed) == 0 {
				return nil
			}
			return failed
		},
	}
}

// mostSent is how many files are sent at once.
const mostSent = 1000

// sendFile sends one file, or standard input.
func sendFile(ctx context.Context, cmd *cli.Command, c *client.Client, path string, s client.Sending) error {
	s.Body, s.Size = os.Stdin, -1
	if path == "-" {
		if s.Name == "" {
			return wrong("standard input has no name: give one with --name")
		}
	} else {
		f, err := os.Open(path)
		if err != nil {
			return err
		}
		defer f.Close()
		info, err := f.Stat()
		if err != nil {
			return err
		}
		if !info.Mode().IsRegular() {
			return wrong("%s is not a file", path)
		}
		if s.Body, s.Size = f, info.Size(); s.Name == "" {
			s.Name = filepath.Base(path)
		}
	}
	if errs := cmd.Root().ErrWriter; interactive(errs) && !cmd.Bool("json") {
		bar := progressbar.NewOptions64(s.Size, progressbar.OptionSetWriter(errs), progressbar.OptionSetDescription(s.Name),
			progressbar.OptionShowBytes(true), progressbar.OptionSetWidth(30), progressbar.OptionClearOnFinish())
		defer bar.Exit()
		s.Body = seen(s.Body, bar)
	}
	stored, err := c.Send(ctx, s)
	if err != nil {
		return err
	}
	w := cmd.Root().Writer
	if cmd.Bool("json") {
		if err := printJSON(w, stored); err != nil {
			return err
		}
	} else {
		showStored(w, stored)
	}
	if stored.Not != nil {
		return fmt.Errorf("it is on the shelf and has not started: %w", stored.Not)
	}
	return nil
}

// seen lets a bar show how far a body has been read. One that can be read again from
// somewhere stays so.
func seen(body io.Reader, bar *progressbar.ProgressBar) io.Reader {
	if whole, ok := body.(io.ReadSeeker); ok {
		return &seenAgain{whole, bar}
	}
	return io.TeeReader(body, bar)
}

type seenAgain struct {
	io.ReadSeeker
	bar *progressbar.ProgressBar
}

func (s *seenAgain) Read(p []byte) (int, error) {
	n, err := s.ReadSeeker.Read(p)
	s.bar.Add(n)
	return n, err
}

func (s *seenAgain) Seek(offset int64, whence int) (int64, error) {
	at, err := s.ReadSeeker.Seek(offset, whence)
	s.bar.Set64(at)
	return at, err
}

func showStored(w io.Writer, s api.Stored) {
	what := map[string]string{"created": "Stored", "same": "Already there", "replaced": "Replaced"}[s.Outcome]
	f := s.File
	if f.Survey.State == string(facts.Done) {
		warming := ""
		if f.WarmingSeconds != nil {
			warming = " after warming for " + span(*f.WarmingSeconds)
		}
		fmt.Fprintf(w, "%s: %s, %s, %d layers, %s%s, %s of filament\n", what, f.Name, size(f.Size), f.Layers, span(f.DurationSeconds), warming, metres(f.FilamentMM))
	} else {
		fmt.Fprintf(w, "%s: %s, %s; what it is, is being worked out\n", what, f.Name, size(f.Size))
	}
	for _, c := range f.Checks {
		if s.Not != nil { // which names them
			break
		}
		fmt.Fprintln(w, "  "+checkLine(c))
	}
	for _, name := range s.NotTaken {
		fmt.Fprintf(w, "Not taken: %s (one file at a time)\n", name)
	}
	switch {
	case s.Run != nil:
		fmt.Fprintf(w, "Started: run %s\n", shortID(s.Run.ID))
	case s.Place > 0 && s.Not != nil:
		fmt.Fprintf(w, "Waits in turn: number %d, because it could not start. When that has passed: diathermon queue next\n", s.Place)
	case s.Place > 0:
		fmt.Fprintf(w, "Waits in turn: number %d. When the bed is clear: diathermon queue next --clear\n", s.Place)
	}
}
