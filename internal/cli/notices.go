package cli

import (
	"fmt"
	"io"
	"slices"

	"github.com/urfave/cli/v3"

	"diathermon/internal/api"
	"diathermon/internal/api/ops"
)

func noticesCommand() *cli.Command {
	return &cli.Command{
		Name: "notices", Usage: "tell what persons were told last", Flags: []cli.Flag{jsonFlag},
		Action: lists(ops.ListNotices, func(w io.Writer, told api.Notices) error {
			if len(told.Notices) == 0 {
				fmt.Fprintln(w, "Nobody was told anything yet")
				return nil
			}
			slices.Reverse(told.Notices)
			for _, n := range told.Notices {
				fmt.Fprintf(w, "%s  %s\n", local(n.At), n.Title)
				if n.Text != "" {
					fmt.Fprintf(w, "                     %s\n", n.Text)
				}
			}
			return nil
		}),
		Commands: []*cli.Command{{
			Name: "browsers", Usage: "the browsers that are called", Flags: []cli.Flag{jsonFlag},
			Action: lists(ops.ListBrowsers, func(w io.Writer, all api.CalledBrowsers) error {
				rows := make([][]string, len(all.Browsers))
				for i, b := range all.Browsers {
					rows[i] = []string{b.Name, b.By, b.Service, local(b.Since), fmt.Sprint(b.Waiting), b.Trouble}
				}
				return table(w, []string{"Browser", "Of", "Called by", "Since", "Waiting", "Trouble"}, rows)
			}),
		}},
	}
}
