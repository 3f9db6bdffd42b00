package cli

import (
	"context"
	"fmt"
	"io"
	"strconv"

	"github.com/urfave/cli/v3"

	"diathermon/internal/api"
	"diathermon/internal/client"
)

func queueCommand() *cli.Command {
	return &cli.Command{
		Name: "queue", Usage: "list what waits to be printed", Flags: []cli.Flag{jsonFlag},
		Action: lists((*client.Client).Queue, func(w io.Writer, q api.Queue) error {
			if len(q.Entries) == 0 {
				fmt.Fprintln(w, "Nothing waits: 'diathermon send --queue FILE', or 'diathermon queue add NAME'.")
				return nil
			}
			rows := make([][]string, len(q.Entries))
			for i, e := range q.Entries {
				rows[i] = []string{strconv.Itoa(i + 1), e.File, e.Sender, local(e.Asked)}
			}
			return table(w, []string{"", "File", "From", "Asked"}, rows)
		}),
		Commands: []*cli.Command{
			{Name: "add", Usage: "let a stored file wait in turn", ArgsUsage: "NAME", Action: named(func(ctx context.Context, cmd *cli.Command, c *client.Client, name string) error {
				e, err := c.AddToQueue(ctx, name)
				if err != nil {
					return err
				}
				fmt.Fprintf(cmd.Root().Writer, "Waits in turn: %s\n", e.File)
				return nil
			})},
			{Name: "remove", Usage: "take an entry out", ArgsUsage: "NUMBER", Action: named(func(ctx context.Context, cmd *cli.Command, c *client.Client, number string) error {
				e, err := entryAt(ctx, c, number)
				if err != nil {
					return err
				}
				if err := c.RemoveFromQueue(ctx, e.ID); err != nil {
					return err
				}
				fmt.Fprintf(cmd.Root().Writer, "Does not wait any more: %s\n", e.File)
				return nil
			})},
			{Name: "next", Usage: "say that the bed is clear: the next one begins", Action: func(ctx context.Context, cmd *cli.Command) error {
				if _, err := arguments(cmd, 0, 0); err != nil {
					return err
				}
				c, err := dial(cmd)
				if err != nil {
					return err
				}
				r, err := c.StartNext(ctx, "")
				if err != nil {
					return err
				}
				fmt.Fprintf(cmd.Root().Writer, "Started: %s, run %s\n", r.File, r.ID)
				return nil
			}},
		},
	}
}

// entryAt is the entry of a number that the list shows.
func entryAt(ctx context.Context, c *client.Client, number string) (api.QueueEntry, error) {
	q, err := c.Queue(ctx)
	if err != nil {
		return api.QueueEntry{}, err
	}
	n, err := strconv.Atoi(number)
	if err != nil || n < 1 || n > len(q.Entries) {
		return api.QueueEntry{}, wrong("%q is no number of the queue: %d wait", number, len(q.Entries))
	}
	return q.Entries[n-1], nil
}
