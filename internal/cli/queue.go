package cli

import (
	"context"
	"fmt"
	"io"
	"strconv"
	"strings"
	"time"

	"github.com/urfave/cli/v3"

	"diathermon/internal/api"
	"diathermon/internal/api/ops"
	"diathermon/internal/client"
)

// wishes are the flags of how an entry is to be run.
func wishes() []cli.Flag {
	return append(arounds("its first line", "it is finished"), slotsFlag,
		&cli.IntFlag{Name: "copies", Usage: "print it `N` times"},
		&cli.StringFlag{Name: "at", Usage: "let it begin by itself at `TIME`, as 22:30 or 2026-03-01T22:30, if the bed was said to be clear before"},
		&cli.BoolFlag{Name: "soak", Usage: "hold the bed at the file's setpoint until the plate is even, then begin"},
		&cli.DurationFlag{Name: "soak-for", Usage: "or for `TIME`"},
	)
}

func queueCommand() *cli.Command {
	return &cli.Command{
		Name: "queue", Usage: "list what waits to be printed", Flags: []cli.Flag{jsonFlag},
		Action: lists(ops.ListQueue, showQueue),
		Commands: []*cli.Command{
			{Name: "add", Usage: "let a stored file wait in turn", ArgsUsage: "NAME", Flags: wishes(), Action: named(func(ctx context.Context, cmd *cli.Command, c *client.Client, name string) error {
				at, err := clockTime(cmd.String("at"), time.Now())
				if err != nil {
					return err
				}
				slots, err := slotsFor(ctx, cmd, c, name)
				if err != nil {
					return err
				}
				goes, err := aroundEntry(ctx, cmd, c, nil)
				if err != nil {
					return err
				}
				e, err := client.Call(ctx, c, ops.AddQueueEntry, ops.Body(api.AddEntry{Slots: slots, Around: goes, File: name, Copies: max(cmd.Int("copies"), 1), After: at, SoakSeconds: soakSeconds(cmd)}))
				if err != nil {
					return err
				}
				fmt.Fprintf(cmd.Root().Writer, "Waits in turn: %s\n", e.File)
				return nil
			})},
			{Name: "move", Usage: "take an entry to another place", ArgsUsage: "NUMBER PLACE", Action: func(ctx context.Context, cmd *cli.Command) error {
				args, err := arguments(cmd, 2, 2)
				if err != nil {
					return err
				}
				c, err := dial(cmd)
				if err != nil {
					return err
				}
				return move(ctx, cmd, c, args[0], args[1])
			}},
			{Name: "change", Usage: "change how an entry is to be run", ArgsUsage: "NUMBER", Flags: append(wishes(),
				&cli.BoolFlag{Name: "by-hand", Usage: "let it begin when a person says so"}, &cli.BoolFlag{Name: "no-soak", Usage: "begin at once"},
			), Action: named(change)},
			{Name: "remove", Usage: "take an entry out", ArgsUsage: "NUMBER", Action: named(func(ctx context.Context, cmd *cli.Command, c *client.Client, number string) error {
				e, _, err := entryAt(ctx, c, number)
				if err != nil {
					return err
				}
				if err := client.Do(ctx, c, ops.RemoveQueueEntry, ops.ID{ID: e.ID}); err != nil {
					return err
				}
				fmt.Fprintf(cmd.Root().Writer, "Does not wait any more: %s\n", e.File)
				return nil
			})},
			{Name: "next", Usage: "let the first one begin", Flags: []cli.Flag{&cli.BoolFlag{Name: "clear", Usage: "and say that the bed is clear"}, overruleFlag}, Action: func(ctx context.Context, cmd *cli.Command) error {
				if _, err := arguments(cmd, 0, 0); err != nil {
					return err
				}
				whys, err := overruled(cmd)
				if err != nil {
					return err
				}
				c, err := dial(cmd)
				if err != nil {
					return err
				}
				r, err := client.Call(ctx, c, ops.StartNext, ops.Body(api.StartNext{Clear: cmd.Bool("clear"), Overrule: whys}))
				if err != nil {
					return err
				}
				fmt.Fprintf(cmd.Root().Writer, "Started: %s, run %s\n", r.File, shortID(r.ID))
				return nil
			}},
		},
	}
}

func showQueue(w io.Writer, q api.Queue) error {
	if len(q.Entries) == 0 {
		fmt.Fprintln(w, "Nothing waits: 'diathermon send --queue FILE', or 'diathermon queue add NAME'.")
		return nil
	}
	rows := make([][]string, len(q.Entries))
	for i, e := range q.Entries {
		rows[i] = []string{strconv.Itoa(i + 1), e.File, begins(e), e.Sender, local(e.Asked), e.Why}
	}
	return table(w, []string{"", "File", "Begins", "From", "Asked", "In its way"}, rows)
}

// begins says how an entry is to be run.
func begins(e api.QueueEntry) string {
	parts := []string{"when you say so"}
	if e.After != nil && !e.Missed {
		parts[0] = "at " + local(*e.After)
	}
	if e.Copies > 1 {
		parts = append(parts, fmt.Sprintf("%d times", e.Copies))
	}
	if s := e.SoakSeconds; s != nil && *s > 0 {
		parts = append(parts, "soaks "+span(*s))
	} else if s != nil {
		parts = append(parts, "soaks")
	}
	if e.Around != nil {
		if len(e.Around.Before) > 0 {
			parts = append(parts, "after "+performances(e.Around.Before))
		}
		if len(e.Around.After) > 0 {
			parts = append(parts, "then "+performances(e.Around.After))
		}
	}
	if len(e.Slots) > 0 {
		parts = append(parts, fmt.Sprintf("from slots %v", e.Slots))
	}
	return strings.Join(parts, ", ")
}

// soakSeconds is how long the bed soaks; nil: nothing was said of it.
func soakSeconds(cmd *cli.Command) *float64 {
	if !cmd.Bool("soak") && !cmd.IsSet("soak-for") {
		return nil
	}
	s := cmd.Duration("soak-for").Seconds()
	return &s
}

// clockTime reads a time of the day, the next that comes, or of a day; none is the zero
// time.
func clockTime(text string, now time.Time) (time.Time, error) {
	if text == "" {
		return time.Time{}, nil
	}
	if t, err := time.ParseInLocation("15:04", text, now.Location()); err == nil {
		at := time.Date(now.Year(), now.Month(), now.Day(), t.Hour(), t.Minute(), 0, 0, now.Location())
		if !at.After(now) {
			at = time.Date(now.Year(), now.Month(), now.Day()+1, t.Hour(), t.Minute(), 0, 0, now.Location())
		}
		return at, nil
	}
	for _, layout := range []string{"2006-01-02T15:04", "2006-01-02 15:04", time.RFC3339} {
		if t, err := time.ParseInLocation(layout, text, now.Location()); err == nil {
			return t, nil
		}
	}
	return time.Time{}, wrong("%q is no time: write 22:30, or 2026-03-01T22:30", text)
}

func move(ctx context.Context, cmd *cli.Command, c *client.Client, number, place string) error {
	e, q, err := entryAt(ctx, c, number)
	if err != nil {
		return err
	}
	to, err := strconv.Atoi(place)
	if err != nil || to < 1 || to > len(q.Entries) {
		return wrong("%q is no place in the queue: 1 to %d are", place, len(q.Entries))
	}
	var others []api.QueueEntry
	for _, other := range q.Entries {
		if other.ID != e.ID {
			others = append(others, other)
		}
	}
	before := ""
	if to <= len(others) {
		before = others[to-1].ID
	}
	if _, err := client.Call(ctx, c, ops.ChangeQueueEntry, ops.ForID(e.ID, api.ChangeEntry{Before: &before})); err != nil {
		return err
	}
	fmt.Fprintf(cmd.Root().Writer, "Is number %d now: %s\n", to, e.File)
	return nil
}

func change(ctx context.Context, cmd *cli.Command, c *client.Client, number string) error {
	e, _, err := entryAt(ctx, c, number)
	if err != nil {
		return err
	}
	wish := api.ChangeEntry{SoakSeconds: soakSeconds(cmd)}
	at, err := clockTime(cmd.String("at"), time.Now())
	if err != nil {
		return err
	}
	if !at.IsZero() || cmd.Bool("by-hand") {
		wish.After = &at
	}
	if n := cmd.Int("copies"); cmd.IsSet("copies") {
		wish.Copies = &n
	}
	if none := -1.0; cmd.Bool("no-soak") {
		wish.SoakSeconds = &none
	}
	if slots, err := slotsFor(ctx, cmd, c, e.File); err != nil {
		return err
	} else if slots != nil {
		wish.Slots = &slots
	}
	if wish.Around, err = aroundEntry(ctx, cmd, c, e.Around); err != nil {
		return err
	}
	if wish == (api.ChangeEntry{}) {
		return wrong("what is to be different? --copies, --at, --by-hand, --soak, --no-soak, --slots, --before or --after")
	}
	changed, err := client.Call(ctx, c, ops.ChangeQueueEntry, ops.ForID(e.ID, wish))
	if err != nil {
		return err
	}
	fmt.Fprintf(cmd.Root().Writer, "%s begins %s\n", changed.File, begins(changed))
	return nil
}

// entryAt is the entry of a number that the list shows, and the list.
func entryAt(ctx context.Context, c *client.Client, number string) (api.QueueEntry, api.Queue, error) {
	q, err := client.Ask(ctx, c, ops.ListQueue)
	if err != nil {
		return api.QueueEntry{}, q, err
	}
	n, err := strconv.Atoi(number)
	if err != nil || n < 1 || n > len(q.Entries) {
		return api.QueueEntry{}, q, wrong("%q is no number of the queue: %d wait", number, len(q.Entries))
	}
	return q.Entries[n-1], q, nil
}
